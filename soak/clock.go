package main

import (
	"context"
	"fmt"
	"time"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// What starts by the clock through all of the faults, and what starts after it.
const (
	ticker   = "soak-ticks"
	followed = "soak-told"
)

var clockDocuments = []struct{ name, text string }{
	{ticker, "format: young-trellis/1\nname: " + ticker + "\ntrigger: {type: schedule, settings: {every: 5 seconds, missed: all, most: 1000}}\nsteps:\n  - {name: kept, type: shape, settings: {keep: all}}\n"},
	{followed, "format: young-trellis/1\nname: " + followed + "\ntrigger: {type: after, settings: {workflow: " + ticker + ", when: ended}}\nsteps:\n  - {name: kept, type: shape, settings: {keep: all}}\n"},
}

// clockwork puts them live.
func (w *world) clockwork(ctx context.Context, c *api.Client) error {
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
		if err == nil && len(late) == 1 && !late[0] {
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
	keys, err := column[string](ctx, w, "SELECT key FROM start_key k JOIN workflow f ON f.id = k.workflow_id WHERE f.name = '"+ticker+"' ORDER BY split_part(key, '+', 2)::bigint")
	if err != nil {
		return err
	}
	runs, err := column[int](ctx, w, "SELECT count(*)::int FROM run r JOIN workflow f ON f.id = r.workflow_id WHERE f.name = '"+ticker+"'")
	if err != nil {
		return err
	}
	var wrong []string
	var first, last int64
	for i, k := range keys {
		var anchor, n int64
		if _, err := fmt.Sscanf(k, "due %d+%d", &anchor, &n); err != nil {
			return fmt.Errorf("the key %q: %w", k, err)
		}
		if i == 0 {
			first = n
		} else if n != last+1 {
			wrong = append(wrong, fmt.Sprintf("after time %d came %d", last, n))
		}
		last = n
	}
	if want := int(last - first + 1); len(keys) == 0 || runs[0] != want {
		wrong = append(wrong, fmt.Sprintf("%d runs of %d times", runs[0], want))
	}
	r.holds("each time of a schedule started one run", len(keys), wrong)
	odd, err := column[string](ctx, w, `SELECT 'run ' || t.run_id || ' is followed by ' || count(k.run_id) FROM run t JOIN workflow f ON f.id = t.workflow_id AND f.name = '`+ticker+`'
		LEFT JOIN start_key k ON k.workflow_id = (SELECT id FROM workflow WHERE name = '`+followed+`') AND k.key LIKE 'after ' || t.run_id || ' %' GROUP BY t.run_id HAVING count(k.run_id) <> 1`)
	if err != nil {
		return err
	}
	after, err := column[int](ctx, w, "SELECT count(*)::int FROM run r JOIN workflow f ON f.id = r.workflow_id WHERE f.name = '"+followed+"'")
	if err != nil {
		return err
	}
	if after[0] != runs[0] {
		odd = append(odd, fmt.Sprintf("%d runs follow %d", after[0], runs[0]))
	}
	r.holds("after each run of it another started, once", runs[0], odd)
	return nil
}
