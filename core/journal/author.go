package journal

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"

	"velvetrewind/core/pg"
)

// Author is who held a transaction id, as the server's list of sessions showed it while the transaction was open.
type Author struct {
	XID         pg.FullXID `json:"xid"`
	First       time.Time  `json:"first"` // when that was seen first and last, by the server's clock
	Last        time.Time  `json:"last"`
	Role        string     `json:"role"`
	Application string     `json:"application,omitempty"`
	Address     string     `json:"address,omitempty"` // of the client; "" on the server's own machine
	Database    string     `json:"database,omitempty"`
	Session     string     `json:"session,omitempty"`   // tells sessions of one server apart
	Statement   string     `json:"statement,omitempty"` // the last one that was seen, cut
}

// String names an author in a few words.
func (a Author) String() string {
	s := a.Role
	if a.Application != "" {
		s += fmt.Sprintf(" (%s)", a.Application)
	}
	if a.Address != "" {
		s += " from " + a.Address
	}
	return s
}

// AuthorRule says how authors are watched: for how many days they are kept, not at all with 0, and up to which length, in
// characters, the statement's text is; 0 for none.
type AuthorRule struct {
	Days      int `json:"days"`
	Statement int `json:"statement"`
}

// DefaultAuthorRule holds until another is chosen.
var DefaultAuthorRule = AuthorRule{Days: 90}

// EncodeAuthors writes a line of JSON for each.
func EncodeAuthors(list []Author) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	for _, a := range list {
		if err := e.Encode(a); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}

// DecodeAuthors reads what EncodeAuthors wrote. Whatever the bytes, they are authors or ErrFormat.
func DecodeAuthors(b []byte) (list []Author, err error) {
	d := json.NewDecoder(bytes.NewReader(b))
	for d.More() {
		var a Author
		if err := d.Decode(&a); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrFormat, err)
		}
		list = append(list, a)
	}
	return list, nil
}
