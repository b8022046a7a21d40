package main

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// What starts by the clock through all of the faults, and what starts after it.
const (
	ticker   = "soak-ticks"
	followed = "soak-told"
	read     = "soak-read" // for each of some readers
)

var clockDocuments = []struct{ name, text string }{
	{ticker, "format: young-trellis/1\nname: " + ticker + "\ntrigger: {type: schedule, settings: {every: 5 seconds, missed: all, most: 1000}}\nsteps:\n  - {name: kept, type: shape, settings: {keep: all}}\n"},
	{followed, "format: young-trellis/1\nname: " + followed + "\ntrigger: {type: after, settings: {workflow: " + ticker + ", when: ended}}\nsteps:\n  - {name: kept, type: shape, settings: {keep: all}}\n"},
	{read, "format: young-trellis/1\nname: " + read + "\ntrigger: {type: schedule, settings: {every: 5 seconds, missed: all, most: 1000, readers: readers}}\nsteps:\n  - {name: kept, type: filter, settings: {where: \"count(list('readers'), .address == item.reader.address) == 1\"}}\n"},
}

// readers are the rows of their list.
const readers = "address,name\nash,Ash\nelm,Elm\noak,Oak"

// clockwork puts them live.
func (w *world) clockwork(ctx context.Context, c *api.Client) error {
	csv := readers
	if _, err := ottermere.Answer[api.WorkspaceList](c.AddList(ctx, api.NewList{Name: "readers", Csv: &csv})); err != nil {
		return err
	}
	for _, d := range clockDocuments {
		if _, err := ottermere.Answer[api.Workflow](c.CreateWorkflow(ctx, api.Document{Document: d.text})); err != nil {
			return err
		}
		if _, err := ottermere.Answer[api.Workflow](c.GoLive(ctx, d.name, &api.GoLiveParams{})); err != nil {
			return err
		}
	}
	return nil
}

// rest lets nothing more start by the clock, once what is due has started.
func (w *world) rest(ctx context.Context) error {
	deadline := time.Now().Add(time.Minute)
	for {
		late, err := column[bool](ctx, w, "SELECT next < now() - interval '2 seconds' FROM schedule WHERE next IS NOT NULL")
		if err == nil && len(late) == 1+strings.Count(readers, "\n") && !slices.Contains(late, true) {
			break
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("what is due by the clock has not started: %v", err)
		}
		time.Sleep(100 * time.Millisecond)
	}
	_, err := w.pool.Exec(ctx, "UPDATE schedule SET next = NULL")
	return err
}

// clocks judges what started by the clock: each time from the first to the last once,
// and after each run another.
func (w *world) clocks(ctx context.Context, r *report) error {
	runs := map[string]int{}
	for _, name := range []string{ticker, read} {
		keys, err := column[string](ctx, w, "SELECT key FROM start_key k JOIN workflow f ON f.id = k.workflow_id WHERE f.name = '"+name+"' ORDER BY split_part(split_part(key, '+', 2), ' ', 1)::bigint")
		if err != nil {
			return err
		}
		n, err := column[int](ctx, w, "SELECT count(*)::int FROM run r JOIN workflow f ON f.id = r.workflow_id WHERE f.name = '"+name+"'")
		if err != nil {
			return err
		}
		runs[name] = n[0]
		wrong, err := gaps(keys)
		if err != nil {
			return err
		}
		if len(keys) == 0 || len(keys) != n[0] {
			wrong = append(wrong, fmt.Sprintf("%d runs of %d times", n[0], len(keys)))
		}
		r.holds("each time of "+name+" started one run", len(keys), wrong)
	}
	odd, err := column[string](ctx, w, `SELECT 'run ' || t.run_id || ' is followed by ' || count(k.run_id) FROM run t JOIN workflow f ON f.id = t.workflow_id AND f.name = '`+ticker+`'
		LEFT JOIN start_key k ON k.workflow_id = (SELECT id FROM workflow WHERE name = '`+followed+`') AND k.key LIKE 'after ' || t.run_id || ' %' GROUP BY t.run_id HAVING count(k.run_id) <> 1`)
	if err != nil {
		return err
	}
	after, err := column[int](ctx, w, "SELECT count(*)::int FROM run r JOIN workflow f ON f.id = r.workflow_id WHERE f.name = '"+followed+"'")
	if err != nil {
		return err
	}
	if after[0] != runs[ticker] {
		odd = append(odd, fmt.Sprintf("%d runs follow %d", after[0], runs[ticker]))
	}
	r.holds("after each run of it another started, once", runs[ticker], odd)
	return nil
}

// gaps finds times that were left out between the first and the last of each reader:
// the keys of their starts, in the order of the times.
func gaps(keys []string) (wrong []string, err error) {
	last := map[string]int64{}
	for _, k := range keys {
		due, who, _ := strings.Cut(k, " for ")
		var anchor, n int64
		if _, err := fmt.Sscanf(due, "due %d+%d", &anchor, &n); err != nil {
			return nil, fmt.Errorf("the key %q: %w", k, err)
		}
		if before, ok := last[who]; ok && n != before+1 {
			wrong = append(wrong, fmt.Sprintf("after time %d came %d for %q", before, n, who))
		}
		last[who] = n
	}
	return wrong, nil
}
