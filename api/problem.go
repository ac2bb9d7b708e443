package api

// Problem is an error as the API gives it: an RFC 9457 problem document with what
// to do next.
type Problem struct {
	Type   string `json:"type" doc:"urn:velvet:problem: and the kind of problem"`
	Title  string `json:"title" doc:"what could not be done"`
	Status int    `json:"status"`
	Detail string `json:"detail,omitempty" doc:"why"`
	Next   string `json:"next,omitempty" doc:"what to do about it"`
	At     *int   `json:"at,omitempty" doc:"of a moment that cannot be read: the byte at which it goes wrong"`
}

// ProblemType begins the type of every problem.
const ProblemType = "urn:velvet:problem:"

func (p *Problem) Error() string { return p.Title + ": " + p.Detail }

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType names the media type of problem documents.
func (p *Problem) ContentType(string) string { return "application/problem+json" }
