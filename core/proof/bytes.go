package proof

import (
	"fmt"

	"velvetrewind/core/figures"
)

// PageCounts is what a walk over the relation files of a copy found.
type PageCounts struct {
	Files, Pages int64
	Wrong        Findings // "base/5/16385, block 7": …
	// Harmless are damaged pages of free-space maps: the server makes them anew.
	Harmless   Findings
	Unreadable string // why the walk could not be finished
	Checksums  bool   // the cluster has data checksums
}

// Pages judges such a walk.
func Pages(n *PageCounts) Check {
	c := New(PageBytes)
	c.Wrong, c.Verdict = n.Wrong.List, Passed
	c.Summary = fmt.Sprintf("%s pages in %s files read; every checksum is right", figures.Count(n.Pages), figures.Count(n.Files))
	if !n.Checksums {
		c.Summary = fmt.Sprintf("%s pages in %s files read; every header, line pointer and item is in bounds; the cluster has no data "+
			"checksums, so a byte that was changed within a row would not be noticed here", figures.Count(n.Pages), figures.Count(n.Files))
	}
	for _, f := range n.Harmless.List {
		c.Notes = append(c.Notes, f.String()+"; harmless: the server makes free-space maps anew")
	}
	switch {
	case n.Wrong.Count > 0:
		c.Verdict = Failed
		c.Summary = fmt.Sprintf("%s of %s pages are damaged: %s", figures.Count(n.Wrong.Count), figures.Count(n.Pages), n.Wrong.List[0])
	case n.Unreadable != "":
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("stopped after %s pages: %s", figures.Count(n.Pages), n.Unreadable)
	case n.Pages == 0:
		c.Verdict = CouldNotRun
		c.Summary = fmt.Sprintf("no page was found in %d files", n.Files)
	}
	return c.settled()
}
