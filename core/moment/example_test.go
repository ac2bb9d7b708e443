package moment_test

import (
	"fmt"
	"log"
	"time"

	"velvetrewind/core/moment"
)

// A moment is read for a caller, whose zone is that of times without one, and printed in the form that everybody reads alike.
func ExampleParse() {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		log.Fatal(err)
	}
	caller := moment.Caller{Now: time.Date(2026, 11, 23, 15, 0, 0, 0, lisbon), Zone: lisbon}
	for _, text := range []string{
		"latest",
		"today 14:03",
		"12m ago",
		"before tx 84213",
		"restore point pre-migration",
		"before delete of booking near 14:05",
	} {
		m, err := moment.Parse(text, caller)
		if err != nil {
			log.Fatal(err)
		}
		fmt.Println(m)
	}
	// Output:
	// latest
	// 2026-11-23T14:03:00Z
	// 2026-11-23T14:48:00Z
	// before tx 84213
	// restore point pre-migration
	// before delete of booking near 2026-11-23T14:05:00Z
}

// Where the caller's zone is not known, as in the API, a time must bring its own: it is never guessed.
func ExampleParse_withoutZone() {
	_, err := moment.Parse("2026-11-23 14:03:07", moment.Caller{})
	fmt.Println(err)
	// Output:
	// moment "2026-11-23 14:03:07", character 20: a zone is missing after the time: Z, +01:00 or Europe/Lisbon
}
