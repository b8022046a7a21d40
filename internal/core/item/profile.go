package item

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Profile is what is known of one field of several items.
type Profile struct {
	Path     string   // dotted names; [] stands for the elements of a list
	Types    []string // text, number, date, …, in the order in which they were met
	Filled   int      // items in which it holds something
	Of       int      // items
	Distinct int      // different values; one more than MostDistinct where there are more
	Spread   string   // from the least to the most: of numbers, dates, lengths of text
	Examples []string // some of its values, in one line each
}

// MostDistinct is up to how many different values are told apart.
const MostDistinct = 50

// profile bounds: levels gone down, elements of a list looked at, fields told.
const (
	profileDepth    = 6
	profileElements = 40
	profileFields   = 3000
)

type tally struct {
	Profile
	values  map[string]bool
	numbers []float64 // the least and the most
	texts   []string  // the earliest and the latest day or moment
	lengths []int     // the shortest and the longest text
	last    int       // item in which it was last counted
}

// Profiles tells of every field of items how often it is filled in, its types, its
// different values and their spread, in the order in which the fields are met.
func Profiles(items []map[string]any) []Profile {
	p := &profiler{at: map[string]*tally{}}
	for i, m := range items {
		p.item = i + 1
		p.walk(m, "", 0)
	}
	out := make([]Profile, 0, len(p.order))
	for _, path := range p.order {
		t := p.at[path]
		t.Of, t.Distinct, t.Spread = len(items), len(t.values), t.spread()
		out = append(out, t.Profile)
	}
	return out
}

type profiler struct {
	at    map[string]*tally
	order []string
	item  int
}

func (p *profiler) walk(v any, path string, depth int) {
	if path != "" {
		p.tally(v, path)
	}
	if depth >= profileDepth {
		return
	}
	switch v := v.(type) {
	case map[string]any:
		for _, k := range Keys(v) {
			next := k
			if path != "" {
				next = path + "." + k
			}
			p.walk(v[k], next, depth+1)
		}
	case []any:
		for _, e := range v[:min(len(v), profileElements)] {
			p.walk(e, path+"[]", depth+1)
		}
	}
}

func (p *profiler) tally(v any, path string) {
	t := p.at[path]
	if t == nil {
		if len(p.order) >= profileFields {
			return
		}
		t = &tally{Profile: Profile{Path: path}, values: map[string]bool{}}
		p.at[path], p.order = t, append(p.order, path)
	}
	if v == nil || v == "" {
		return
	}
	if t.last != p.item { // once for each item, also in its lists
		t.last = p.item
		t.Filled++
	}
	kind := profileKind(v)
	if !slices.Contains(t.Types, kind) {
		t.Types = append(t.Types, kind)
	}
	t.measure(v, kind)
	text, err := Plain(v)
	if err != nil || len(t.values) > MostDistinct {
		return
	}
	key := string(text)
	if !t.values[key] && len(t.Examples) < 3 {
		if s, ok := v.(string); ok {
			key = s
		}
		t.Examples = append(t.Examples, shortly(key))
	}
	t.values[string(text)] = true
}

func shortly(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > 40 {
		return string(r[:39]) + "…"
	}
	return s
}

func profileKind(v any) string {
	switch v := v.(type) {
	case int64:
		return "whole number"
	case bool:
		return "yes or no"
	case string:
		if _, err := time.Parse(time.DateOnly, v); err == nil {
			return "date"
		}
		if _, err := time.Parse(time.RFC3339, v); err == nil {
			return "date and time"
		}
		return "text"
	}
	return strings.TrimPrefix(strings.TrimPrefix(Kind(v), "a "), "an ")
}

func (t *tally) measure(v any, kind string) {
	switch v := v.(type) {
	case int64:
		t.numbers = reach(t.numbers, float64(v))
	case float64:
		t.numbers = reach(t.numbers, v)
	case string:
		if strings.HasPrefix(kind, "date") {
			t.texts = reach(t.texts, v)
		} else {
			t.lengths = reach(t.lengths, utf8.RuneCountInString(v))
		}
	}
}

// reach widens a least and a most by a value.
func reach[T cmp.Ordered](ends []T, v T) []T {
	if len(ends) == 0 {
		return []T{v, v}
	}
	return []T{min(ends[0], v), max(ends[1], v)}
}

func (t *tally) spread() string {
	span := func(a, b string) string {
		if a == b {
			return a
		}
		return a + " to " + b
	}
	switch {
	case len(t.numbers) > 0:
		return span(FormatFloat(t.numbers[0]), FormatFloat(t.numbers[1]))
	case len(t.texts) > 0:
		return span(t.texts[0], t.texts[1])
	case len(t.lengths) > 0 && t.lengths[0] != t.lengths[1]:
		return fmt.Sprintf("%d to %d characters", t.lengths[0], t.lengths[1])
	case len(t.lengths) > 0:
		return fmt.Sprintf("%d characters", t.lengths[0])
	}
	return ""
}
