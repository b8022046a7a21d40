// Command generate writes the reference of the function library.
package main

import (
	"log"
	"os"

	"youngtrellis/internal/core/expr"
)

func main() {
	if err := os.WriteFile(os.Args[1], []byte(expr.Reference()), 0o644); err != nil {
		log.Fatal(err)
	}
}
