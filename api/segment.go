package api

import "velvetrewind/core/pg"

// SpanRequest asks for the WAL segments of a span.
type SpanRequest struct {
	From string `json:"from" minLength:"1" doc:"in the moment language; a time needs its zone"`
	To   string `json:"to" minLength:"1" doc:"in the moment language; a time needs its zone"`
}

// Segments are the files that hold the WAL of a span, in order.
type Segments struct {
	Size      int64         `json:"size" doc:"bytes of a whole one"`
	Segments  []SegmentFile `json:"segments"`
	Histories []string      `json:"histories" doc:"files that say where their timelines come from"`
}

// SegmentFile is one WAL segment.
type SegmentFile struct {
	Name  string `json:"name"`
	Start pg.LSN `json:"start"`
	Where string `json:"where" enum:"store,spool,absent" doc:"in the spool is one that is not finished yet, or not stored"`
	Whole bool   `json:"whole" doc:"finished; of another only the beginning is here"`
}
