// Generate writes the words of fates, states and reasons for the console.
package main

import (
	"log"
	"os"

	"youngtrellis/internal/core/words"
)

func main() {
	if err := os.WriteFile(os.Args[1], []byte(words.TypeScript()), 0o644); err != nil {
		log.Fatal(err)
	}
}
