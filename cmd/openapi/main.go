// Command openapi prints the description of the API, from which the console's types
// are generated. It needs no service.
package main

import (
	"fmt"
	"os"

	"velvetrewind/service"
)

func main() {
	description, err := service.OpenAPI("v1")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	_, _ = os.Stdout.Write(description)
}
