// Package problem is the one form of error that is meant for a person: what
// happened, why, and what to do next.
//
// Invariant: a Problem's texts hold no secrets; they are shown, logged and stored. What becomes of a problem (a
// status, an exit code, a page) is for whoever shows it.
package problem

import (
	"errors"
	"fmt"
)

// Kind sorts problems by what the caller can do; the service maps it to an HTTP
// status and the command line to an exit code.
type Kind string

// The kinds.
const (
	Invalid      Kind = "invalid"      // the request makes no sense as it is
	NotFound     Kind = "not-found"    // it names something that is not there
	Conflict     Kind = "conflict"     // it does not fit the present state
	OutOfReach   Kind = "out-of-reach" // the moment cannot be restored
	Ambiguous    Kind = "ambiguous"    // it can mean more than one thing
	Unreachable  Kind = "unreachable"  // a server could not be reached or refused us
	NotReady     Kind = "not-ready"    // a cluster lacks what is needed
	Unconfirmed  Kind = "unconfirmed"  // destructive, and not confirmed
	Unauthorized Kind = "unauthorized" // no valid token
	Full         Kind = "full"         // no space left
	Interrupted  Kind = "interrupted"  // the service stopped in the middle
	Failed       Kind = "failed"       // anything else that went wrong
)

// Problem is an error for a person.
type Problem struct {
	Kind   Kind
	Title  string // what could not be done
	Detail string // why
	Next   string // what to do about it
	Err    error  // what caused it, for logs
}

func (p *Problem) Error() string {
	s := p.Title
	if p.Detail != "" {
		s += ": " + p.Detail
	}
	if p.Next != "" {
		s += ". " + p.Next
	}
	return s
}

func (p *Problem) Unwrap() error { return p.Err }

// New makes a problem; next says what to do.
func New(kind Kind, next, title, detail string, args ...any) *Problem {
	return &Problem{Kind: kind, Title: title, Detail: fmt.Sprintf(detail, args...), Next: next}
}

// Wrap makes a problem of an error: itself if it is one already.
func Wrap(err error, kind Kind, title, next string) *Problem {
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	return &Problem{Kind: kind, Title: title, Detail: err.Error(), Next: next, Err: err}
}
