package main

import (
	"fmt"
	"math/rand/v2"
	"strings"

	"youngtrellis/internal/core/engine/enginetest"
	"youngtrellis/internal/core/workflow"
)

// dice decide what trees are like.
type dice struct{ *rand.Rand }

func (d dice) Between(from, to int) int { return from + d.IntN(to-from+1) }
func (d dice) Of(list ...string) string { return list[d.IntN(len(list))] }

// tree draws a workflow of steps on every base. What it writes is known by its
// key, and it reads lists page by page. Its items wait until times of their own,
// so that runs park and wake.
func tree(name, side string, d dice) string {
	g := &enginetest.Grower{Dice: d, Budget: 9, Spreads: 2, Carried: []string{"event", "due"}}
	const retry = "on_error: set_aside, retry: {attempts: 20, first: 50ms, factor: 1.5, max: 1s}"
	g.Send = func(n string) string {
		return fmt.Sprintf(`{name: %s, type: http, parallel: %d, %s, output: under told, settings: {method: POST, url: "%s/keyed/%s/%s", repeat: keyed, json: {id: "(= (item.event ?? \"nothing\") + \"-\" + item.n )", bad: "(= item.n %% 13 == 12 )"}}}`, n, d.Between(1, 4), retry, side, name, n)
	}
	g.Fails = func(n, ways string) string {
		return fmt.Sprintf(`{name: %s, type: http, parallel: %d, retry: {attempts: 20, first: 50ms, factor: 1.5, max: 1s}, output: under told, %s, settings: {method: POST, url: "%s/keyed/%s/%s", repeat: keyed, json: {id: "(= (item.event ?? \"nothing\") + \"-\" + item.n )", bad: "(= item.n %% 3 == 0 )"}}}`, n, d.Between(1, 4), ways, side, name, n)
	}
	g.List = func(n string) []string {
		return []string{
			fmt.Sprintf(`{name: %s, type: http, parallel: %d, %s, output: under piece, when_none: %s, settings: {method: GET, url: "%s/pieces/%d", each: response.pieces, paging: {page: true, query: page, more: response.more}}}`, n, d.Between(1, 4), retry, d.Of("end", "pass"), side, d.Between(0, 5)),
			fmt.Sprintf(`{name: %s_n, type: shape, settings: {set: {n: "(= item.n + (item.piece.n ?? 0) )"}}}`, n),
		}
	}
	g.Wait = func(n string, _ bool) string {
		return fmt.Sprintf(`{name: %s, type: wait, settings: {until: "item.due == nil ? run.started : item.due[item.n %% 3]"}}`, n)
	}
	return "format: young-trellis/1\nname: " + name + "\nlabel: trigger.event\ntrigger: {type: webhook, settings: {verify: none, key: item.event}}\nsteps: " + g.Steps() + "\n"
}

// bases are the kinds of steps and ways after an error that all trees together
// must have.
var bases = []string{"on_error: continue", "on_error: fallback", "type: filter", "type: shape", "type: http", "type: spread", "type: batch", "type: gather", "type: wait", "type: branch", "type: loop", "type: sort", "type: take", "type: distinct"}

// limits are those of every fourth tree each: they change when runs begin, and nothing
// of what becomes of them.
var limits = []string{"", "limits: {one_at_a_time_by: len(trigger.event), deadline: 1d}\n", "limits: {parallel_runs: 2}\n", "limits: {one_at_a_time_by: run.workflow, parallel_runs: 3}\n"}

// forest draws so many trees, among which every base is.
func forest(n int, side string, seed uint64) map[string]string {
	for d := (dice{rand.New(rand.NewPCG(seed, 3))}); ; {
		out := map[string]string{}
		for i := range n {
			name := fmt.Sprintf("tree-%d", i)
			for out[name] == "" {
				if text := tree(name, side, d); sound(text) {
					out[name] = text + limits[i%len(limits)]
				}
			}
		}
		if n < 3 || hasAll(out) {
			return out
		}
	}
}

// sound tells whether the checker takes a workflow.
func sound(text string) bool {
	_, _, problems := workflow.Read([]byte(text))
	return !workflow.HasErrors(problems)
}

func hasAll(trees map[string]string) bool {
	for _, kind := range bases {
		found := false
		for _, text := range trees {
			found = found || strings.Contains(text, kind)
		}
		if !found {
			return false
		}
	}
	return true
}
