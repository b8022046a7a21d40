// Package enginetest draws workflows of steps on every base, nested in one
// another, for tests that hold of any workflow.
package enginetest

import (
	"fmt"
	"strings"
)

// Dice decide.
type Dice interface {
	// Between gives a number from one to another, both included.
	Between(from, to int) int
	// Of gives one of a list.
	Of(list ...string) string
}

// Grower draws the steps of a workflow. Every item has a number n, whatever was
// done to it. What reaches outside or waits is written by whoever grows.
type Grower struct {
	Dice
	Budget  int // steps at most, about
	Spreads int // steps that multiply items, at most

	Send func(name string) string // a step that writes n
	// List gives steps that make some items of one; each of them has a number n.
	List func(name string) []string
	// Wait gives a step that waits; within a loop there may be many of them.
	Wait func(name string, looped bool) string
	// Fails gives a step that writes n and fails for some items for good; ways is
	// what follows then, as on_error and fallback say it.
	Fails func(name, ways string) string
	// Chance lets steps draw at random. What they draw hangs on the names of items,
	// which are others where a later pass makes them.
	Chance bool
	// Carried are the fields that items keep beside n when several become one.
	Carried []string

	names   int
	loops   int // around what is drawn
	repeats int // of these, those that repeat: what multiplies there would never end
}

// Steps draws a list of steps, as flow YAML.
func (g *Grower) Steps() string { return g.steps(0) }

func (g *Grower) steps(depth int) string {
	var list []string
	for range g.Between(1, 3) {
		if g.Budget--; g.Budget < 0 {
			break
		}
		list = append(list, g.step(depth)...)
	}
	return "[" + strings.Join(list, ", ") + "]"
}

// some draws a list that is not empty.
func (g *Grower) some(depth int) string {
	if list := g.steps(depth); list != "[]" {
		return list
	}
	g.names++
	return fmt.Sprintf("[{name: s%d, type: shape}]", g.names)
}

func (g *Grower) step(depth int) []string {
	kinds := []string{"filter", "shape", "send", "send", "spread", "list", "batch", "gather", "wait", "column", "sort", "take", "distinct", "continue", "answer"}
	if depth < 3 {
		kinds = append(kinds, "branch", "branch", "loop", "loop", "until", "fallback", "fallback")
	}
	kind := g.Of(kinds...)
	if kind == "spread" || kind == "list" {
		if g.Spreads--; g.Spreads < 0 || g.repeats > 0 {
			kind = "shape"
		}
	}
	g.names++
	n := fmt.Sprintf("s%d", g.names)
	switch kind {
	case "filter":
		if g.Between(0, 3) == 0 {
			return []string{fmt.Sprintf(`{name: %s, type: filter, settings: {where: item.n %% 4 != %s}}`, n, family)}
		}
		return []string{fmt.Sprintf(`{name: %s, type: filter, settings: {where: item.n %% %d != 1}}`, n, g.Between(2, 5))}
	case "send":
		return []string{g.Send(n)}
	case "spread":
		return []string{fmt.Sprintf(`{name: %s, type: spread, settings: {list: "filter([item.n, item.n + 1, item.n + 2], # %% %d != 0)", as: n%s}, when_none: %s}`, n, g.Between(2, 3), g.carry(), g.Of("end", "pass"))}
	case "list":
		return g.List(n)
	case "batch":
		by := g.Of("size: 2", "size: 3", "size: 2, by: item.n % 2", "by: item.n % 3", "by: item.n % (2 + "+family+")")
		return []string{fmt.Sprintf(`{name: %s, type: batch, settings: {%s, as: list}}`, n, by), g.sum(n)}
	case "gather":
		return []string{fmt.Sprintf(`{name: %s, type: gather, settings: {%sfields: {n: {how: sum, of: item.n}, c: {how: count}%s}}}`, n, g.Of("", "by: item.n % 2, "), g.first())}
	case "wait":
		return []string{g.Wait(n, g.loops > 0)}
	case "column":
		return []string{fmt.Sprintf(`{name: %s, type: shape, settings: {set: {n: "(= item.n + 1 )"}}}`, n), fmt.Sprintf(`{name: %s_c, type: shape, settings: {set: {of: "(= len(column(\"%s\")) )"}}}`, n, n)}
	case "sort":
		return []string{fmt.Sprintf(`{name: %s, type: sort, settings: {by: [{of: item.n %% %d, order: %s}, {of: item.n}]}}`, n, g.Between(2, 4), g.Of("ascending", "descending"))}
	case "take":
		which := []string{"first", "last", "rest"}
		if g.Chance {
			which = append(which, "random")
		}
		return []string{fmt.Sprintf(`{name: %s, type: take, settings: {which: %s, count: %d%s}}`, n, g.Of(which...), g.Between(1, 12), g.Of("", ", by: item.n % 2"))}
	case "distinct":
		return []string{fmt.Sprintf(`{name: %s, type: distinct, settings: {by: item.n %% %d}}`, n, g.Between(3, 12))}
	case "answer":
		return []string{fmt.Sprintf(`{name: %s, type: answer, settings: {status: "(= 200 + abs(item.n %% 3) )", headers: {X-Run: "(= run.id )"}, body: {from: %s, n: "(= item.n )"}}}`, n, n)}
	case "continue":
		return []string{g.Fails(n, "on_error: continue")}
	case "fallback":
		return []string{g.Fails(n, "on_error: fallback, fallback: "+g.some(depth+1))}
	case "branch":
		return []string{g.branch(n, depth)}
	case "loop", "until":
		return []string{g.loop(n, kind, depth)}
	}
	return []string{fmt.Sprintf(`{name: %s, type: shape, settings: {set: {n: '(= item.n + %d * %s )'}}}`, n, g.Between(0, 9), g.Of("1", family))}
}

// family is one, as Unicode has it: what others decide is written down.
const family = `len("👨‍👩‍👧")`

func (g *Grower) branch(n string, depth int) string {
	take := "first"
	if g.repeats == 0 {
		take = g.Of("first", "every")
	}
	text := fmt.Sprintf(`{name: %s, type: branch, settings: {take: %s, cases: [{name: a, when: item.n %% 2 == %s, steps: %s}, {name: b, when: item.n %% 3 == 0, steps: %s}]`, n, take, g.Of("0", family), g.steps(depth+1), g.steps(depth+1))
	if g.Between(0, 1) == 1 {
		text += ", else: " + g.steps(depth+1)
	}
	return text + "}}"
}

func (g *Grower) loop(n, kind string, depth int) string {
	g.loops++
	defer func() { g.loops-- }()
	if kind == "loop" {
		by := g.Of("size: 1", "size: 2", "by: item.n % 2", "size: 2, by: item.n % (1 + "+family+")")
		return fmt.Sprintf(`{name: %s, type: loop, settings: {%s, steps: %s}}`, n, by, g.steps(depth+1))
	}
	g.repeats++
	defer func() { g.repeats-- }()
	return fmt.Sprintf(`{name: %s, type: loop, settings: {until: item.n > %d * %s, rounds: %d, steps: %s}}`, n, g.Between(0, 9), g.Of("1", family), g.Between(1, 3), g.steps(depth+1))
}

// sum makes n of a batch again.
func (g *Grower) sum(n string) string {
	text := ""
	for _, c := range g.Carried {
		text += fmt.Sprintf(`, %s: "(= item.list[0].%s )"`, c, c)
	}
	return fmt.Sprintf(`{name: %s_n, type: shape, settings: {keep: none, set: {n: "(= sum(map(item.list, .n)) )"%s}}}`, n, text)
}

func (g *Grower) first() (text string) {
	for _, c := range g.Carried {
		text += fmt.Sprintf(`, %s: {how: first, of: item.%s}`, c, c)
	}
	return text
}

func (g *Grower) carry() string {
	if len(g.Carried) == 0 {
		return ""
	}
	return ", carry: [" + strings.Join(g.Carried, ", ") + "]"
}
