package expr

import (
	"slices"
	"strings"

	"youngtrellis/internal/core/near"
)

// Search finds functions by what one wants to do: by the words of their names,
// help and the words that people look for, in any order. Those that fit best come
// first; those that have none of the words are left out.
func Search(query string) []Function {
	words := strings.FieldsFunc(strings.ToLower(query), func(r rune) bool { return strings.ContainsRune(" ,.()_-?!/", r) })
	words = slices.DeleteFunc(words, func(w string) bool { return slices.Contains(common, w) })
	if len(words) == 0 {
		return Functions()
	}
	type scored struct {
		Function
		score int
	}
	var out []scored
	for _, f := range Functions() {
		sum, met := 0, 0
		for _, w := range words {
			if s := fit(f, w); s > 0 {
				sum, met = sum+s, met+1
			}
		}
		if f.Name == strings.ToLower(strings.TrimSpace(query)) {
			sum, met = 1000, len(words)
		}
		if met > 0 {
			out = append(out, scored{f, sum * met})
		}
	}
	slices.SortStableFunc(out, func(a, b scored) int { return b.score - a.score })
	found := make([]Function, 0, len(out))
	for _, f := range out {
		if 4*f.score >= out[0].score { // what hardly fits would only be in the way
			found = append(found, f.Function)
		}
	}
	return found
}

var common = []string{"a", "an", "the", "of", "to", "in", "by", "for", "with", "is", "it", "and", "or", "from", "how", "into", "on", "as", "get", "make", "convert"}

// fit tells how well a function fits a word: by its name most, then by the words
// of people, then by its help.
func fit(f Function, word string) int {
	stem := strings.TrimSuffix(word, "s")
	alike := func(w string) bool {
		w = strings.Trim(strings.ToLower(w), ".,;:()")
		return w == word || strings.TrimSuffix(w, "s") == stem || len(stem) > 3 && strings.HasPrefix(w, stem)
	}
	parts := strings.Split(f.Name, "_")
	switch {
	case f.Name == word:
		return 20
	case slices.ContainsFunc(parts, alike):
		return 12
	case slices.ContainsFunc(strings.Fields(f.Words), alike):
		return 8
	case slices.ContainsFunc(strings.Fields(f.Group), alike):
		return 4
	case slices.ContainsFunc(strings.Fields(f.Help), alike):
		return 3
	case len(word) > 3 && (near.Of(word, []string{f.Name}) != "" || near.Of(word, strings.Fields(f.Words)) != ""):
		return 2 // mistyped
	}
	return 0
}
