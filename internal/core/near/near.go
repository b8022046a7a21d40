// Package near finds the known name that a mistyped one was meant to be.
package near

import (
	"fmt"
	"strings"
)

// Of returns the known name closest to name, or "" if none is near enough to
// be worth offering. Distance is Levenshtein's, letter case apart.
func Of(name string, known []string) string {
	best, least := "", len([]rune(name))/3+2
	for _, k := range known {
		if d := distance(strings.ToLower(name), strings.ToLower(k)); d < least {
			best, least = k, d
		}
	}
	return best
}

// Hint is Of as a sentence to put after an error: " Did you mean x?", or "".
func Hint(name string, known []string) string {
	if n := Of(name, known); n != "" {
		return fmt.Sprintf(" Did you mean %s?", n)
	}
	return ""
}

func distance(a, b string) int {
	ra, rb := []rune(a), []rune(b)
	row := make([]int, len(rb)+1)
	for j := range row {
		row[j] = j
	}
	for i, ca := range ra {
		diagonal := row[0]
		row[0] = i + 1
		for j, cb := range rb {
			cost := diagonal
			if ca != cb {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(rb)]
}
