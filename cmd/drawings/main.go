// Command drawings makes the documents' drawings, SVG, from their text: docs/drawings/NAME.txt becomes NAME.svg.
//
// A text is lines: "title TEXT"; "row NAME: TITLE / MORE | NAME: TITLE / MORE", boxes beside one another, where a box that is
// only "-" is a gap; and "NAME > NAME: TEXT", an arrow from one box to another.
package main

import (
	"bufio"
	"bytes"
	"fmt"
	"html"
	"io"
	"os"
	"strings"
)

const (
	width, height = 210, 62 // of a box
	across, down  = 92, 66  // between boxes
	margin        = 24
	header        = 44
)

type box struct {
	x, y int
	text []string
}

type arrow struct {
	from, to, text string
}

type drawing struct {
	title   string
	boxes   map[string]box
	order   []string
	arrows  []arrow
	columns int
	rows    int
}

func main() {
	for _, path := range os.Args[1:] {
		if err := makeSVG(path); err != nil {
			fmt.Fprintln(os.Stderr, "drawings:", err)
			os.Exit(1)
		}
	}
}

func makeSVG(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	d, err := parse(bytes.NewReader(text))
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return os.WriteFile(strings.TrimSuffix(path, ".txt")+".svg", d.svg(), 0o644)
}

func parse(text io.Reader) (*drawing, error) {
	d := &drawing{boxes: make(map[string]box)}
	lines := bufio.NewScanner(text)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		var err error
		if title, is := strings.CutPrefix(line, "title "); is {
			d.title = title
		} else if boxes, is := strings.CutPrefix(line, "row "); is {
			err = d.addRow(boxes)
		} else if line != "" {
			err = d.addArrow(line)
		}
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
	}
	return d, lines.Err()
}

func (d *drawing) addRow(boxes string) error {
	for i, b := range strings.Split(boxes, "|") {
		d.columns = max(d.columns, i+1)
		if strings.TrimSpace(b) == "-" {
			continue
		}
		name, text, ok := strings.Cut(b, ":")
		name = strings.TrimSpace(name)
		if _, twice := d.boxes[name]; !ok || twice {
			return fmt.Errorf("%q is no box of its own, written as NAME: TITLE / MORE", strings.TrimSpace(b))
		}
		at := box{x: margin + i*(width+across), y: margin + header + d.rows*(height+down)}
		for part := range strings.SplitSeq(text, "/") {
			at.text = append(at.text, strings.TrimSpace(part))
		}
		d.boxes[name] = at
		d.order = append(d.order, name)
	}
	d.rows++
	return nil
}

func (d *drawing) addArrow(line string) error {
	ends, text, _ := strings.Cut(line, ":")
	from, to, ok := strings.Cut(ends, ">")
	a := arrow{strings.TrimSpace(from), strings.TrimSpace(to), strings.TrimSpace(text)}
	_, hasFrom := d.boxes[a.from]
	_, hasTo := d.boxes[a.to]
	if !ok || !hasFrom || !hasTo {
		return fmt.Errorf("%q is no arrow between two boxes above, written as NAME > NAME: TEXT", line)
	}
	d.arrows = append(d.arrows, a)
	return nil
}

func (d *drawing) svg() []byte {
	var out bytes.Buffer
	w, h := 2*margin+d.columns*(width+across)-across, margin+header+d.rows*(height+down)-down+margin
	fmt.Fprintf(&out, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%d" height="%d" `+
		`font-family="sans-serif" font-size="12.5" fill="#261c2a">`+"\n", w, h, w, h)
	fmt.Fprintln(&out, `<defs><marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto">`+
		`<path d="M0 0 8 4 0 8z" fill="#6d4a63"/></marker></defs>`)
	fmt.Fprintf(&out, `<rect width="%d" height="%d" fill="#ffffff"/>`+"\n", w, h)
	fmt.Fprintf(&out, `<text x="%d" y="%d" font-size="16">%s</text>`+"\n", margin, margin+14, html.EscapeString(d.title))
	for _, a := range d.arrows {
		d.line(&out, a)
	}
	for _, name := range d.order {
		d.boxes[name].draw(&out)
	}
	for _, a := range d.arrows {
		d.label(&out, a)
	}
	fmt.Fprintln(&out, "</svg>")
	return out.Bytes()
}

// ends are where an arrow leaves and arrives: side to side in a row, else from bottom to top or back.
func (d *drawing) ends(a arrow) (x1, y1, x2, y2 int) {
	f, t := d.boxes[a.from], d.boxes[a.to]
	x1, y1, x2, y2 = f.x+width/2, f.y+height/2, t.x+width/2, t.y+height/2
	switch {
	case f.y < t.y:
		y1, y2 = f.y+height, t.y
	case f.y > t.y:
		y1, y2 = f.y, t.y+height
	case f.x < t.x:
		x1, x2 = f.x+width, t.x
	default:
		x1, x2 = f.x, t.x+width
	}
	return x1, y1, x2, y2
}

func (d *drawing) line(out io.Writer, a arrow) {
	x1, y1, x2, y2 := d.ends(a)
	_, _ = fmt.Fprintf(out, `<line x1="%d" y1="%d" x2="%d" y2="%d" stroke="#6d4a63" marker-end="url(#tip)"/>`+"\n", x1, y1, x2, y2)
}

func (d *drawing) label(out io.Writer, a arrow) {
	if a.text == "" {
		return
	}
	x1, y1, x2, y2 := d.ends(a)
	lift := -4 // on a line that rises or falls the text interrupts it
	if y1 == y2 {
		lift = 7
	}
	_, _ = fmt.Fprintf(out, `<text x="%d" y="%d" text-anchor="middle" font-size="11" paint-order="stroke" stroke="#ffffff" `+
		`stroke-width="5">%s</text>`+"\n", (x1+x2)/2, (y1+y2)/2-lift, html.EscapeString(a.text))
}

func (b box) draw(out io.Writer) {
	_, _ = fmt.Fprintf(out, `<rect x="%d" y="%d" width="%d" height="%d" rx="5" fill="#f6eff3" stroke="#6d4a63"/>`+"\n", b.x, b.y,
		width, height)
	top := b.y + height/2 + 4 - 8*(len(b.text)-1)
	for i, text := range b.text {
		weight := ""
		if i == 0 {
			weight = ` font-weight="bold"`
		}
		_, _ = fmt.Fprintf(out, `<text x="%d" y="%d" text-anchor="middle"%s>%s</text>`+"\n", b.x+width/2, top+16*i, weight,
			html.EscapeString(text))
	}
}
