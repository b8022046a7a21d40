// Command trellis is the whole product in one binary.
package main

import (
	"os"

	"youngtrellis/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
