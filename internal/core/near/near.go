// Package near finds the known name that a mistyped one was meant to be.
package near

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// longest is the length, in characters, of names that are compared: what is longer was
// not mistyped, and comparing it with thousands of others would take its time.
const longest = 100

// Of returns the known name closest to name, or "" if none is near enough to
// be worth offering. Distance is Levenshtein's, letter case apart.
func Of(name string, known []string) string {
	if len(name) > longest*utf8.UTFMax {
		return ""
	}
	n := utf8.RuneCountInString(name)
	best, least := "", n/3+2
	if n > longest {
		return ""
	}
	for _, k := range known {
		// Each character that one has more costs one at least.
		if len(k) > longest*utf8.UTFMax {
			continue
		}
		if more := utf8.RuneCountInString(k) - n; more >= least || -more >= least {
			continue
		}
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
