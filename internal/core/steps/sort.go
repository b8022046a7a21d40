package steps

import (
	"slices"
	"strings"
	"time"

	"youngtrellis/internal/core/expr"
)

type sorting struct {
	By []SortKey `form:"by,required" title:"By" hint:"sort_keys" min:"1" max:"8" help:"Items for which the first is the same are put in order by the next; what is the same in all of them stays as it came."`
}

// SortKey is a value by which items are put in order.
type SortKey struct {
	Of    *expr.Program `form:"of,required" title:"Value" help:"Numbers by their size, text letter by letter, times by when they are. Items for which it is nothing come last." example:"item.due"`
	Order string        `form:"order" title:"Order" oneof:"ascending|descending" default:"ascending" words:"ascending=from the least up;descending=from the greatest down"`
}

var sortKind = New(Info{
	Type: "sort", Title: "Put items in order",
	Words: "order by date ascending descending newest oldest first rank", Does: DoesPick,
	Help: "Waits for the whole list and lets its items go on in order, by one value or several. Each stays the item that it was.",
}, func(s *sorting) string {
	var parts []string
	for _, k := range s.By {
		if k.Of == nil {
			continue
		}
		part := k.Of.Words()
		if k.Order == "descending" {
			part += ", greatest first"
		}
		parts = append(parts, part)
	}
	if len(parts) == 0 {
		return "Put items in order … (to fill in)"
	}
	return "Put items in order by " + strings.Join(parts, ", then ")
}, func(s *sorting) (Operator, error) { return s, nil })

// Take implements Picker: it keeps the values by which it sorts.
func (s *sorting) Take(scope *expr.Scope) (m Member, err error) {
	keys := make([]any, len(s.By))
	for i, k := range s.By {
		if keys[i], err = k.Of.Eval(scope); err != nil {
			return m, wrong(place("by", i, "of"), err)
		}
	}
	m.Value = keys
	return m, nil
}

// Pick implements Picker. An item whose value cannot be compared with that of
// the first that has one fails by itself.
func (s *sorting) Pick(members []Candidate) (order []int, failed map[int]error) {
	for i := range s.By {
		asWritten(members, i)
		var first any
		for n, m := range members {
			v := m.Value.([]any)[i]
			if v == nil || failed[n] != nil {
				continue
			}
			if first == nil {
				first = v
			}
			if _, err := expr.Compare(first, v); err != nil {
				if failed == nil {
					failed = map[int]error{}
				}
				failed[n] = wrong(place("by", i, "of"), err)
			}
		}
	}
	for n := range members {
		if failed[n] == nil {
			order = append(order, n)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int { return s.compare(members[a].Value.([]any), members[b].Value.([]any)) })
	return order, failed
}

// asWritten reads the i-th values as times, or as durations, where all of them
// are: expressions give them as text, the same time is written in several ways, and
// 9d is less than 14d.
func asWritten(members []Candidate, i int) {
	for _, read := range readings {
		if readAs(members, i, read) {
			return
		}
	}
}

var readings = []func(string) (any, error){
	func(s string) (any, error) { return time.Parse(time.RFC3339Nano, s) },
	func(s string) (any, error) { return expr.ParseDuration(s) },
}

func readAs(members []Candidate, i int, read func(string) (any, error)) bool {
	out := make([]any, len(members))
	for n, m := range members {
		switch v := m.Value.([]any)[i].(type) {
		case nil:
		case string:
			x, err := read(v)
			if err != nil {
				return false
			}
			out[n] = x
		default:
			return false
		}
	}
	for n, m := range members {
		m.Value.([]any)[i] = out[n]
	}
	return true
}

// before tells whether one value is less than another, both as written.
func before(a, b any) (bool, error) {
	x, isText := a.(string)
	y, both := b.(string)
	for _, read := range readings {
		if !isText || !both {
			break
		}
		l, err1 := read(x)
		r, err2 := read(y)
		if err1 == nil && err2 == nil {
			c, err := expr.Compare(l, r)
			return c < 0, err
		}
	}
	less, err := of(less, a, b)
	return less == true, err
}

func (s *sorting) compare(a, b []any) int {
	for i, k := range s.By {
		c, _ := expr.Compare(a[i], b[i]) // those that cannot be compared have failed
		if c != 0 && k.Order == "descending" && a[i] != nil && b[i] != nil {
			c = -c
		}
		if c != 0 {
			return c
		}
	}
	return 0
}

// Held implements Picker: every item goes on.
func (s *sorting) Held() string { return "" }

// Took implements Picker.
func (s *sorting) Took() string { return "in order" }
