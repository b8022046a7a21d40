package main

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

const (
	schedules  = 100_000
	dueAtOnce  = 5_000
	clockNodes = 3
	byTheClock = "format: young-trellis/1\nname: bar-clock\ntrigger: {type: schedule, settings: {every: day, at: \"03:00\"}}\nsteps:\n  - {name: told, type: shape, settings: {set: {from: (= item.previous ), to: (= item.due )}}}\n"
)

// clocks is bar 7: a hundred thousand schedules, each of a workflow of its own, of
// which five thousand come due within one minute on three nodes, one of which is
// killed meanwhile.
func clocks(ctx context.Context, w *world) ([]Result, error) {
	if _, err := ottermere.Answer[api.Workflow](w.client.CreateWorkflow(ctx, api.Document{Document: byTheClock})); err != nil {
		return nil, err
	}
	if _, err := ottermere.Answer[api.Workflow](w.client.GoLive(ctx, "bar-clock", &api.GoLiveParams{})); err != nil {
		return nil, err
	}
	var nodes []*process
	for i := range clockNodes - 1 {
		n, err := w.node(fmt.Sprintf("node-%d", i+2))
		if err != nil {
			return nil, err
		}
		defer n.stop()
		nodes = append(nodes, n)
	}
	begin := time.Now().Add(40 * time.Second).Truncate(time.Second)
	if err := w.hang(ctx, begin); err != nil {
		return nil, err
	}
	if time.Until(begin) < 3*time.Second {
		return nil, errors.New("the schedules took too long to be made; this machine is too slow for the bar")
	}
	kill := time.AfterFunc(time.Until(begin.Add(20*time.Second)), func() { _ = nodes[0].Process.Kill() })
	defer kill.Stop()
	deadline := begin.Add(3 * time.Minute)
	for {
		var ended, live int
		if err := w.pool.QueryRow(ctx, "SELECT (SELECT count(*) FROM run WHERE trigger = 'schedule'), (SELECT count(*) FROM live)").Scan(&ended, &live); err != nil {
			return nil, err
		}
		if ended >= dueAtOnce && live == 0 && time.Now().After(begin.Add(62*time.Second)) {
			break
		}
		if time.Now().After(deadline) {
			return nil, fmt.Errorf("after three minutes %d of %d have run, and %d are under way", ended, dueAtOnce, live)
		}
		time.Sleep(200 * time.Millisecond)
	}
	var runs, workflows int
	var accepted, done [2]float64 // median, 99th percentile, in seconds
	err := w.pool.QueryRow(ctx, `WITH r AS (SELECT r.workflow_id, extract(epoch FROM r.accepted - s.previous) AS accepted, extract(epoch FROM r.ended - s.previous) AS done
			FROM run r JOIN schedule s ON s.workspace_id = r.workspace_id AND s.workflow_id = r.workflow_id WHERE r.trigger = 'schedule')
		SELECT count(*), count(DISTINCT workflow_id), percentile_cont(0.5) WITHIN GROUP (ORDER BY accepted), percentile_cont(0.99) WITHIN GROUP (ORDER BY accepted),
			percentile_cont(0.5) WITHIN GROUP (ORDER BY done), percentile_cont(0.99) WITHIN GROUP (ORDER BY done) FROM r`).
		Scan(&runs, &workflows, &accepted[0], &accepted[1], &done[0], &done[1])
	if err != nil {
		return nil, err
	}
	lag := Result{Bar: 7, Work: "schedules: lag of a start, 99th percentile", Unit: "s", Wanted: "at most 1", Value: accepted[1], Least: accepted[0], Most: accepted[1], Notes: []string{
		fmt.Sprintf("median %.3f s; from due to done: median %.3f s, p99 %.3f s; %d schedules, %d due within one minute, %d nodes, one killed", accepted[0], done[0], done[1], schedules, dueAtOnce, clockNodes),
	}}
	twice := Result{Bar: 7, Work: "schedules: runs beyond one for each due time", Unit: "runs", Wanted: "at most 0", Value: float64(runs-workflows) + float64(dueAtOnce-workflows)}
	return []Result{lag, twice}, nil
}

// node starts one more node on the same database.
func (w *world) node(name string) (*process, error) {
	u, err := url.Parse(w.database)
	if err != nil {
		return nil, err
	}
	u.User = url.User(u.User.Username())
	dir := filepath.Join(w.dir, name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	return begin(exec.Command(w.binary, "serve", "--database-url", u.String(), "--database-password-file", filepath.Join(w.dir, "password"), "--data", dir, "--vault-key", filepath.Join(w.dir, "data", "vault.key"), "--listen", "127.0.0.1:0", "--log", "warn"))
}

// hang copies the workflow of the bar with its revision and its schedule: some of them
// are due within a minute from begin, the others some other day.
func (w *world) hang(ctx context.Context, begin time.Time) error {
	for _, x := range []struct {
		sql  string
		args []any
	}{
		{`INSERT INTO workflow (workspace_id, id, name, title, draft, state, live, numbers, hook) SELECT w.workspace_id, gen_random_uuid(), 'clock-' || i, w.title, w.draft, 'live', 1, w.numbers, 'clock-' || i
			FROM workflow w, generate_series(1, $1::int) i WHERE w.name = 'bar-clock'`, []any{schedules - 1}},
		{`INSERT INTO revision (workspace_id, workflow_id, number, document, numbers, made_by, connectors, library, parallel_runs, deadline)
			SELECT n.workspace_id, n.id, 1, r.document, r.numbers, r.made_by, r.connectors, r.library, r.parallel_runs, r.deadline FROM workflow n, revision r JOIN workflow w ON w.id = r.workflow_id
			WHERE w.name = 'bar-clock' AND n.name LIKE 'clock-%'`, nil},
		{`INSERT INTO schedule (workspace_id, workflow_id, cadence, zone, rules, anchor, previous, due, due_key, next, missed, most)
			SELECT n.workspace_id, n.id, s.cadence, s.zone, s.rules, s.anchor, s.previous, x.due, n.name, x.due, s.missed, s.most FROM schedule s JOIN workflow w ON w.id = s.workflow_id AND w.name = 'bar-clock', workflow n,
				LATERAL (SELECT substr(n.name, 7)::int AS i) k, LATERAL (SELECT CASE WHEN k.i <= $2 THEN $1::timestamptz + (k.i % 60) * interval '1 second' ELSE $1::timestamptz + interval '20 days' + k.i * interval '1 second' END AS due) x
			WHERE n.name LIKE 'clock-%'`, []any{begin, dueAtOnce}},
	} {
		if _, err := w.pool.Exec(ctx, x.sql, x.args...); err != nil {
			return err
		}
	}
	return w.cluster.AdminOf(ctx, "trellis", "ANALYZE")
}
