// Command gen prints the OpenAPI document, from which the console's types are made.
package main

import (
	"fmt"
	"os"

	"nightjar/api/openapi"
)

func main() {
	doc, err := openapi.Document()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Stdout.Write(append(doc, '\n'))
}
