package moment

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
)

// Parse reads a moment. Every error is a *SyntaxError.
func Parse(text string, c Caller) (Moment, error) {
	p := parser{text: text, caller: c}
	t, err := p.timeline()
	if err != nil {
		return Moment{}, err
	}
	m, err := p.moment()
	if err != nil {
		return Moment{}, err
	}
	m.Timeline = t
	return m, p.nothingMore()
}

// onTimeline ends a moment that is not on the way to the newest timeline.
var onTimeline = regexp.MustCompile(`(?i)\s+on\s+timeline\s+(\S+)\s*$`)

// timeline takes that end off the text.
func (p *parser) timeline() (pg.Timeline, error) {
	at := onTimeline.FindStringSubmatchIndex(p.text)
	if at == nil || strings.HasSuffix(p.text[at[2]:at[3]], `"`) { // within a name
		return 0, nil
	}
	n, err := strconv.ParseUint(p.text[at[2]:at[3]], 10, 32)
	if err != nil || n == 0 {
		return 0, p.fail(at[2], "%q is no timeline; write its number, for example on timeline 1", p.text[at[2]:at[3]])
	}
	p.text = p.text[:at[0]]
	return pg.Timeline(n), nil
}

// ParseTime reads only a time, in any of its forms; a time of day alone is today's.
func ParseTime(text string, c Caller) (time.Time, error) {
	p := parser{text: text, caller: c}
	word, at := p.word()
	t, err := p.anyTime(word, at)
	if err != nil {
		return time.Time{}, err
	}
	return t, p.nothingMore()
}

type parser struct {
	text   string
	pos    int
	caller Caller
}

func (p *parser) fail(at int, format string, args ...any) error {
	return &SyntaxError{Text: p.text, At: at, Reason: fmt.Sprintf(format, args...)}
}

func (p *parser) nothingMore() error {
	if word, at := p.word(); word != "" {
		return p.fail(at, "nothing more was expected here, but %q follows", word)
	}
	return nil
}

// word takes the next run of characters without white space, and says where it
// began. Within double quotes white space belongs to it.
func (p *parser) word() (string, int) {
	p.blanks()
	at, quoted := p.pos, false
	for p.pos < len(p.text) && (quoted || !isSpace(p.text[p.pos])) {
		if p.text[p.pos] == '"' {
			quoted = !quoted
		}
		p.pos++
	}
	return p.text[at:p.pos], at
}

// peek looks at the next word without taking it.
func (p *parser) peek() string {
	before := p.pos
	word, _ := p.word()
	p.pos = before
	return strings.ToLower(word)
}

func (p *parser) blanks() {
	for p.pos < len(p.text) && isSpace(p.text[p.pos]) {
		p.pos++
	}
}

// rest takes all that follows, without the white space around it.
func (p *parser) rest() (string, int) {
	p.blanks()
	at := p.pos
	p.pos = len(p.text)
	return strings.TrimRight(p.text[at:], " \t\n\r"), at
}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

func (p *parser) moment() (Moment, error) {
	word, at := p.word()
	switch strings.ToLower(word) {
	case "":
		return Moment{}, p.fail(at, "a moment is missing; write one of: %s", Forms)
	case "latest":
		return Moment{Kind: Latest}, nil
	case "before":
		return p.before()
	case "restore":
		if word, at := p.word(); !strings.EqualFold(word, "point") {
			return Moment{}, p.fail(at, "\"point\" and a name are missing, for example restore point pre-migration")
		}
		return p.named(AtRestorePoint, "the name of a restore point is missing after \"restore point\"")
	case "base":
		return p.named(AtBase, "the id of a base backup is missing after \"base\"")
	case "tx":
		return p.transaction()
	case "lsn":
		return p.lsn()
	}
	if !p.beginsTime(word) {
		return Moment{}, p.fail(at, "%q begins no moment; write one of: %s", word, Forms)
	}
	t, err := p.pointInTime(word, at)
	return Moment{Kind: AtTime, Time: t}, err
}

// before reads what may stand after "before".
func (p *parser) before() (m Moment, err error) {
	word, at := p.word()
	if strings.EqualFold(word, "the") {
		if word, at = p.word(); !strings.EqualFold(word, "largest") {
			return m, p.fail(at, "only \"largest\" can follow \"before the\", for example before the largest delete of booking")
		}
	}
	switch strings.ToLower(word) {
	case "largest":
		m, err = p.largest()
	case "tx":
		m, err = p.transaction()
	case "lsn":
		m, err = p.lsn()
	case "delete", "update", "insert", "truncate", "drop", "create", "alter", "rewrite":
		m, err = p.operation(word)
	case "":
		err = p.fail(at, "\"before\" wants a transaction, an LSN or an operation after it: before tx 84213, before lsn 0/5A3F2B8, "+
			"before delete of booking")
	default:
		err = p.fail(at, "%q cannot stand after \"before\"; write before tx N, before lsn X/Y, or before "+
			"delete|update|insert|truncate|drop|create|alter|rewrite of TABLE", word)
	}
	m.Before = true
	return m, err
}

// largest reads "delete|update|insert of TABLE [near TIME]".
func (p *parser) largest() (Moment, error) {
	word, at := p.word()
	if kind, ok := journal.ParseOperation(word); !ok || kind > journal.Delete {
		return Moment{}, p.fail(at, "only a delete, an update or an insert can be the largest, for example "+
			"before the largest delete of booking")
	}
	m, err := p.operation(word)
	m.Largest = true
	return m, err
}

// operation reads "of TABLE [near TIME]", or "of database NAME [near TIME]", or the same with another kind of object.
func (p *parser) operation(word string) (Moment, error) {
	kind, _ := journal.ParseOperation(word)
	m := Moment{Kind: BeforeOperation, Operation: kind}
	of, at := p.word()
	if !strings.EqualFold(of, "of") {
		return m, p.fail(at, "\"of\" and a table are missing, for example before %s of booking", kind)
	}
	name, at := p.word()
	if name == "" {
		return m, p.fail(at, "the name of a table is missing after \"of\", for example booking or crew.shift")
	}
	var err error
	what := strings.ToLower(name)
	_, object := journal.ParseObject(what)
	if next := p.peek(); next != "" && next != "near" && (object || what == "database") {
		err = p.object(&m, what)
	} else if m.Table, err = journal.ParseTable(name); err != nil {
		err = p.fail(at, "%v", err)
	}
	if err != nil {
		return m, err
	}
	if p.peek() != "near" {
		return m, nil
	}
	_, _ = p.word()
	word, at = p.word()
	m.Near, err = p.anyTime(word, at)
	return m, err
}

// object reads the name of an object that was dropped and is not a table.
func (p *parser) object(m *Moment, what string) error {
	name, at := p.word()
	t, err := journal.ParseTable(name)
	switch {
	case err != nil || t.Schema != "" && (what == "database" || what == "schema"):
		return p.fail(at, "%q is not the name of a %s; write it as in SQL, for example saltmarsh or \"Salt Marsh\"", name, what)
	case m.Operation != journal.Drop:
		return p.fail(at, "of a %s only its drop can be found: before drop of %s %s", what, what, name)
	case what == "database":
		m.Database = t.Name
	default:
		m.Table = t
		m.Part, _ = journal.ParseObject(what)
	}
	return nil
}

func (p *parser) named(k Form, missing string) (Moment, error) {
	name, nameAt := p.rest()
	if len(name) > 1 && name[0] == '"' && name[len(name)-1] == '"' {
		name = name[1 : len(name)-1]
	}
	if strings.TrimSpace(name) == "" || strings.TrimSpace(name) != name {
		return Moment{}, p.fail(min(nameAt, len(p.text)), "%s", missing)
	}
	if k == AtBase && strings.ContainsAny(name, " \t\n\r") {
		return Moment{}, p.fail(nameAt, "%q is not the id of a base backup; list them with velvet backup list", name)
	}
	return Moment{Kind: k, Name: name}, nil
}

func (p *parser) lsn() (Moment, error) {
	value, at := p.word()
	if value == "" {
		return Moment{}, p.fail(at, "an LSN is missing after \"lsn\", for example lsn 0/5A3F2B8")
	}
	l, err := pg.ParseLSN(value)
	if err != nil {
		return Moment{}, p.fail(at, "%v", err)
	}
	return Moment{Kind: AtLSN, LSN: l}, nil
}

func (p *parser) transaction() (Moment, error) {
	value, at := p.word()
	if value == "" {
		return Moment{}, p.fail(at, "a transaction id is missing after \"tx\", for example tx 84213")
	}
	id, err := strconv.ParseUint(value, 10, 64)
	if err != nil || id >= 1<<63 {
		return Moment{}, p.fail(at, "%q is not a transaction id; that is a decimal number, for example 84213", value)
	}
	if uint32(id) < 3 {
		return Moment{}, p.fail(at, "%d is not the id of a transaction; those begin at 3", id)
	}
	return Moment{Kind: Transaction, XID: pg.FullXID(id)}, nil
}
