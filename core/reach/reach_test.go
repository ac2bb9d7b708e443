package reach

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func at(s int) time.Time { return time.Date(2026, 11, 23, 12, 0, s, 0, time.UTC) }

func TestReach(t *testing.T) {
	first := Base{ID: "first", Timeline: 1, Start: 110, Stop: 120, StopTime: at(10)}
	second := Base{ID: "second", Timeline: 1, Start: 310, Stop: 320, StopTime: at(30)}
	wal := []WAL{{1, 300, 400, at(40)}, {1, 100, 200, at(20)}, {1, 200, 250, at(25)}}
	for name, c := range map[string]struct {
		bases []Base
		wal   []WAL
		forks []Fork
		spans []Span
		holes []Hole
	}{
		"nothing":                {nil, nil, nil, nil, nil},
		"WAL without bases":      {nil, wal[1:], nil, nil, nil},
		"a base without its WAL": {[]Base{first}, wal[:1], nil, nil, nil},
		"one span":               {[]Base{first}, wal[1:], nil, []Span{{1, "first", 120, 250, at(10), at(25)}}, nil},
		"a hole": {[]Base{second, first}, wal, nil, []Span{{1, "first", 120, 250, at(10), at(25)},
			{1, "second", 320, 400, at(30), at(40)}}, []Hole{{1, 250, 300}}},
		"after a hole without a base": {[]Base{first}, wal, nil, []Span{{1, "first", 120, 250, at(10), at(25)}},
			[]Hole{{1, 250, 300}}},
		"a base that has not got all its WAL": {[]Base{{ID: "late", Timeline: 1, Start: 240, Stop: 260, StopTime: at(26)}}, wal[1:],
			nil, nil, nil},
		"no commit since the base": {[]Base{first}, []WAL{{1, 100, 200, time.Time{}}}, nil,
			[]Span{{1, "first", 120, 200, at(10), at(10)}}, nil},
		"a fork is followed": {[]Base{first}, append([]WAL{{2, 200, 500, at(50)}}, wal[1:]...), []Fork{{2, 1, 240}},
			[]Span{{1, "first", 120, 250, at(10), at(25)}, {2, "first", 240, 500, at(25), at(50)}}, nil},
		"a fork at the very end of the parent": {[]Base{first}, append([]WAL{{2, 250, 500, at(50)}}, wal[1:]...), []Fork{{2, 1, 250}},
			[]Span{{1, "first", 120, 250, at(10), at(25)}, {2, "first", 250, 500, at(25), at(50)}}, nil},
		"a fork at the very start of the span": {[]Base{first}, append([]WAL{{2, 120, 500, at(50)}}, wal[1:]...), []Fork{{2, 1, 120}},
			[]Span{{1, "first", 120, 250, at(10), at(25)}, {2, "first", 120, 500, at(25), at(50)}}, nil},
		"a stretch within another": {[]Base{first}, []WAL{{1, 100, 250, at(25)}, {1, 150, 200, at(20)}}, nil,
			[]Span{{1, "first", 120, 250, at(10), at(25)}}, nil},
		"stretches that overlap": {[]Base{first}, []WAL{{1, 100, 200, at(25)}, {1, 150, 250, at(20)}}, nil,
			[]Span{{1, "first", 120, 250, at(10), at(25)}}, nil},
		"a child of which nothing is there but what it shares": {[]Base{first}, append([]WAL{{2, 200, 240, time.Time{}}}, wal[1:]...),
			[]Fork{{2, 1, 240}},
			[]Span{{1, "first", 120, 250, at(10), at(25)}, {2, "first", 240, 240, at(25), at(25)}}, nil},
		"a fork beyond what was captured": {[]Base{first}, append([]WAL{{2, 200, 500, at(50)}}, wal[1:]...), []Fork{{2, 1, 280}},
			[]Span{{1, "first", 120, 250, at(10), at(25)}}, []Hole{{1, 250, 280}}},
		"a fork after which capture began late": {[]Base{first}, append([]WAL{{2, 300, 500, at(50)}}, wal[1:]...), []Fork{{2, 1, 240}},
			[]Span{{1, "first", 120, 250, at(10), at(25)}}, []Hole{{2, 240, 300}}},
		"a timeline between captured ones that was not": {[]Base{first}, append([]WAL{{3, 300, 500, at(50)}}, wal[1:]...),
			[]Fork{{2, 1, 240}, {3, 2, 300}},
			[]Span{{1, "first", 120, 250, at(10), at(25)}}, []Hole{{2, 240, 300}}},
		"a parent that went on": {[]Base{first}, append([]WAL{{2, 200, 500, at(15)}}, wal[1:]...), []Fork{{2, 1, 240}},
			[]Span{{1, "first", 120, 250, at(10), at(25)}, {2, "first", 240, 500, at(15), at(15)}}, nil},
		"a fork of a timeline that was never captured": {nil, []WAL{{3, 300, 500, at(50)}}, []Fork{{2, 1, 100}, {3, 2, 280}}, nil, nil},
	} {
		spans, holes := Compute(c.bases, c.wal, c.forks)
		assert.Equal(t, c.spans, spans, name)
		assert.Equal(t, c.holes, holes, name)
	}
}
