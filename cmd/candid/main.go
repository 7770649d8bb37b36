// Command candid serves a site and is its client.
package main

import (
	"context"
	"os"

	"candidharbor/internal/cli"
)

func main() { os.Exit(cli.Main(context.Background(), os.Args, os.Stdout, os.Stderr)) }
