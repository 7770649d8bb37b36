// Command openapi prints the API's OpenAPI document, from which the console's client is
// generated.
package main

import (
	"fmt"
	"os"

	"candidharbor/internal/httpapi"
)

func main() {
	doc, err := httpapi.Spec()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Stdout.Write(append(doc, '\n'))
}
