package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"regexp"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/klauspost/compress/zstd"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/store"
)

const effects = `format: young-trellis/1
name: bar-effects
trigger: {type: manual}
steps:
  - {name: noted, type: tables.append, connection: tables, parallel: 32, output: keep, input: {workbook: wb_7q2kd0, tab: tb_h4m9xa, values: {number: (= item.number ), name: (= item.caller ), minutes: (= item.duration_s / 60 )}}}
`

// replaying is bar 6: a run of ten thousand effects is replayed, which tells
// what is open in it, against reading the same rows and decoding them.
func replaying(ctx context.Context, w *world) ([]Result, error) {
	const n = 10_000
	if _, err := w.live(ctx, effects); err != nil {
		return nil, err
	}
	body := reports(60)
	items := make([]api.Fields, n)
	for i := range items {
		items[i] = api.Fields(body(i))
	}
	s, err := ottermere.Answer[api.Started](w.client.StartWorkflow(ctx, "bar-effects", api.Items{Items: &items}))
	if err == nil {
		err = w.drained(ctx)
	}
	if err != nil {
		return nil, err
	}
	client := &http.Client{}
	var list []pair
	for i := range pairs + 1 {
		began := time.Now()
		anew := &api.PlanRunParams{At: &[]string{fmt.Sprintf("none=none_%d", i)}} // plans are kept for a while, this one is not
		plan, err := ottermere.Answer[api.Plan](w.client.PlanRun(ctx, s.Run, anew))
		if err != nil {
			return nil, err
		}
		if plan.Open != 0 {
			return nil, fmt.Errorf("%d items are open in a run that is done", plan.Open)
		}
		ours := time.Since(began)
		began = time.Now()
		if err := send(client, w.bare.address+"/replay/"+s.Run.String(), "", ""); err != nil {
			return nil, err
		}
		if i > 0 { // the first warms up
			list = append(list, pair{ours.Seconds() * 1000, time.Since(began).Seconds() * 1000})
		}
	}
	r := compare(Result{Bar: 6, Work: "replay of 10,000 journaled effects, in ms, against reading and decoding the rows", Wanted: "at most 1.5"}, list)
	var opened []float64
	for _, at := range []int{0, 2500, 5000, 7500, 9999} {
		for range 5 {
			began := time.Now()
			if _, err := fetched(w.client.OpenCell(ctx, s.Run, fmt.Sprint(at), "noted")); err != nil {
				return nil, err
			}
			opened = append(opened, time.Since(began).Seconds()*1000)
		}
	}
	few := figure(Result{Bar: 6, Work: "a cell opened at any place of 10,000 effects, p95", Wanted: "at most 50"}, "ms", percentile(opened, 0.95))
	if _, err := w.live(ctx, long); err != nil {
		return nil, err
	}
	one := []api.Fields{api.Fields(`{"n": 100000}`)}
	if s, err = ottermere.Answer[api.Started](w.client.StartWorkflow(ctx, "bar-long", api.Items{Items: &one})); err == nil {
		err = w.drained(ctx)
	}
	if err != nil {
		return nil, err
	}
	run, err := ottermere.Answer[api.Run](w.client.GetRun(ctx, s.Run))
	if err != nil || run.Run.State != "succeeded" {
		return nil, fmt.Errorf("the run %s: %s %w", run.Run.State, run.Run.Message, err)
	}
	first := 1
	l, err := ottermere.Answer[api.Lattice](w.client.GetLattice(ctx, s.Run, &api.GetLatticeParams{Count: &first}))
	if err != nil {
		return nil, err
	}
	many, err := cells(ctx, w, run, l.Total)
	return []Result{r, few, many}, err
}

// starting is bar 11.
func starting(ctx context.Context, w *world) ([]Result, error) {
	if _, err := w.live(ctx, accept); err != nil {
		return nil, err
	}
	var times []float64
	for range pairs {
		w.service.stop()
		began := time.Now()
		if err := w.serve(); err != nil {
			return nil, err
		}
		for {
			res, err := http.Get(w.service.address + "/healthz")
			if err == nil {
				res.Body.Close()
				if res.StatusCode == http.StatusOK {
					break
				}
			}
		}
		times = append(times, time.Since(began).Seconds()*1000)
	}
	if err := w.connect(); err != nil {
		return nil, err
	}
	select { // it is idle once the first collections have been made
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(35 * time.Second):
	}
	return []Result{
		figure(Result{Bar: 11, Work: "start on an existing database until it answers", Wanted: "at most 1000"}, "ms", times...),
		figure(Result{Bar: 11, Work: "memory of the idle service after 35 s", Wanted: "at most 80"}, "MiB", memory(w.service.Process.Pid, "VmRSS")),
	}, nil
}

var script = regexp.MustCompile(`(?:src|href)="(/assets/[^"]+\.js)"`)

// console is bar 12, as far as no browser is needed: what is sent at first
// load, windows of a lattice, and the size of its index.
func console(ctx context.Context, w *world) ([]Result, error) {
	page, err := fetched(http.Get(w.service.address + "/"))
	if err != nil {
		return nil, err
	}
	sent, whole := 0.0, 0.0
	for _, m := range script.FindAllStringSubmatch(string(page), -1) {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, w.service.address+m[1], nil)
		if err != nil {
			return nil, err
		}
		req.Header.Set("Accept-Encoding", "gzip, deflate, br, zstd")
		res, err := (&http.Client{Transport: &http.Transport{DisableCompression: true}}).Do(req)
		if err != nil {
			return nil, err
		}
		b, err := io.ReadAll(res.Body)
		res.Body.Close()
		if err != nil {
			return nil, err
		}
		sent += float64(len(b)) / 1024
		if res.Header.Get("Content-Encoding") == "zstd" {
			d, err := zstd.NewReader(nil)
			if err != nil {
				return nil, err
			}
			if b, err = d.DecodeAll(b, nil); err != nil {
				return nil, err
			}
		}
		whole += float64(len(b)) / 1024
	}
	windows, index, err := lattice(ctx, w)
	if err != nil {
		return nil, err
	}
	return []Result{
		figure(Result{Bar: 12, Work: "script at first load, as sent", Wanted: "at most 350", Notes: []string{fmt.Sprintf("%.0f KiB before compression", whole)}}, "KiB", sent),
		figure(Result{Bar: 12, Work: "any window of 100 rows of a lattice of 10,000 × 12, p95", Wanted: "at most 100"}, "ms", percentile(windows, 0.95)),
		figure(Result{Bar: 12, Work: "index of that lattice, an item and column", Wanted: "at most 100"}, "bytes", index),
	}, nil
}

// lattice makes one of 10,000 rows and 12 columns, and reads windows of it.
func lattice(ctx context.Context, w *world) (windows []float64, bytes float64, err error) {
	const n, columns = 10_000, 12
	doc := strings.Builder{}
	doc.WriteString("format: young-trellis/1\nname: bar-lattice\nlabel: item.caller\ntrigger: {type: manual}\nsteps:\n")
	for i := range columns {
		if i%4 == 3 {
			fmt.Fprintf(&doc, "  - {name: s%d, type: filter, settings: {where: \"item.n %% %d != 7\"}}\n", i, 40+i)
			continue
		}
		fmt.Fprintf(&doc, "  - {name: s%d, type: shape, settings: {set: {f%d: \"(= item.caller + ' at step %d, number ' + item.n )\"}}}\n", i, i, i)
	}
	if _, err := w.live(ctx, doc.String()); err != nil {
		return nil, 0, err
	}
	items := make([]api.Fields, n)
	for i := range items {
		items[i] = api.Fields(fmt.Sprintf(`{"n": %d, "caller": "Studio %d"}`, i, i*7919%n))
	}
	s, err := ottermere.Answer[api.Started](w.client.StartWorkflow(ctx, "bar-lattice", api.Items{Items: &items}))
	if err == nil {
		err = w.drained(ctx)
	}
	if err != nil {
		return nil, 0, err
	}
	for i := range 60 {
		from, count := i*167%(n-100), 100
		p := &api.GetLatticeParams{From: &from, Count: &count}
		if i%3 == 2 {
			from = i
			held := api.Fate("held_back")
			p.Fate = &held
		}
		began := time.Now()
		got, err := ottermere.Answer[api.Lattice](w.client.GetLattice(ctx, s.Run, p))
		if err != nil {
			return nil, 0, err
		}
		if len(got.Rows) != 100 {
			return nil, 0, fmt.Errorf("the window from %d has %d rows", from, len(got.Rows))
		}
		windows = append(windows, time.Since(began).Seconds()*1000)
	}
	err = w.pool.QueryRow(ctx, "SELECT sum(length(body) + length(shape) + length(keys))::float8 / ($2::int * $3::int) FROM lattice WHERE run_id = $1", s.Run, n, columns).Scan(&bytes)
	return windows, bytes, err
}

// history is bar 8.
func history(ctx context.Context, w *world) ([]Result, error) {
	if _, err := w.live(ctx, accept); err != nil {
		return nil, err
	}
	// Plans are made while the tables are small, and kept by the pool.
	if err := w.pretend(ctx, 10_000); err != nil {
		return nil, err
	}
	if _, err := w.lists(ctx, 10); err != nil {
		return nil, err
	}
	small, err := w.writing(ctx)
	if err != nil {
		return nil, err
	}
	if err := w.pretend(ctx, 990_000); err != nil {
		return nil, err
	}
	stale, err := w.lists(ctx, 60)
	if err != nil {
		return nil, err
	}
	// What a million rows at once let the server do in the background is done
	// before the clock starts.
	if err := w.cluster.AdminOf(ctx, "trellis", "VACUUM ANALYZE"); err != nil {
		return nil, err
	}
	large, err := w.writing(ctx)
	if err != nil {
		return nil, err
	}
	fresh, err := w.lists(ctx, 60)
	if err != nil {
		return nil, err
	}
	worst := func(m map[string][]float64) (name string, p95 float64) {
		for k, v := range m {
			if p := percentile(v, 0.95); p > p95 {
				name, p95 = k, p
			}
		}
		return name, p95
	}
	staleName, staleP := worst(stale)
	freshName, freshP := worst(fresh)
	few, most, err := w.claims(ctx)
	if err != nil {
		return nil, err
	}
	return []Result{
		figure(Result{Bar: 8, Work: "slowest list or filter over 1,000,000 runs, p95, with plans made while there were 10,000", Wanted: "at most 50", Notes: []string{"slowest: " + staleName}}, "ms", staleP),
		figure(Result{Bar: 8, Work: "the same after ANALYZE", Wanted: "at most 50", Notes: []string{"slowest: " + freshName}}, "ms", freshP),
		compare(Result{Bar: 8, Work: "writing a run with 1,000,000 behind it, against 10,000", Wanted: "at least 0.9"}, pairsOf(large, small)),
		compare(Result{Bar: 8, Work: "a claim of 64 with 50,000 queued, in µs, against 100 queued", Wanted: "at most 1.3"}, pairsOf(most, few)),
	}, nil
}

func pairsOf(ours, bare []float64) (out []pair) {
	for i := range ours {
		out = append(out, pair{ours[i], bare[i]})
	}
	return out
}

// pretend fills the history with runs of twenty workflows over the last days.
func (w *world) pretend(ctx context.Context, n int) error {
	for i := range 20 {
		text := strings.Replace(accept, "bar-accept", fmt.Sprintf("bar-past-%02d", i), 1)
		res, err := w.client.CreateWorkflow(ctx, api.Document{Document: text})
		if err != nil {
			return err
		}
		res.Body.Close()
	}
	for d := range 14 {
		if _, err := w.pool.Exec(ctx, "SELECT ensure_partitions(((now() AT TIME ZONE 'UTC')::date) - $1::int)", d); err != nil {
			return err
		}
	}
	_, err := w.pool.Exec(ctx, `WITH f AS (SELECT array_agg(id ORDER BY name) AS ids FROM workflow WHERE name LIKE 'bar-past-%'),
		n AS (SELECT i, now() - make_interval(secs => 60 + i * 13.0 * 86400 / $2) AS at FROM generate_series(1, $2) i)
		INSERT INTO run (workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, ended, message, counts)
		SELECT $1, (lpad(to_hex((extract(epoch FROM at) * 1000)::bigint), 12, '0') || '7' || substr(md5(i::text || $2::text || random()::text), 1, 3) || '8' || substr(md5(random()::text || i::text), 1, 15))::uuid,
			f.ids[1 + (i % 19)], CASE WHEN i % 5000 = 0 THEN 'partial' WHEN i % 300 = 0 THEN 'failed' ELSE 'succeeded' END, 1, 'webhook', 'Studio ' || i, 1, at, at + interval '1 second', '',
			convert_to('{"in": 1, "through": 1, "steps": []}', 'UTF8') FROM n, f ON CONFLICT DO NOTHING`, w.sc.Workspace(), n)
	return err
}

// lists asks for every list and filter of the console.
func (w *world) lists(ctx context.Context, times int) (map[string][]float64, error) {
	out := map[string][]float64{}
	limit := 50
	busy, idle := "bar-past-03", "bar-past-19"
	params := map[string]*api.ListRunsParams{"all": {}}
	for _, state := range []api.RunState{"succeeded", "partial", "failed", "cancelled", "running", "waiting"} {
		params["state "+string(state)] = &api.ListRunsParams{State: &state}
		params["workflow and state "+string(state)] = &api.ListRunsParams{Workflow: &busy, State: &state}
		params["idle workflow and state "+string(state)] = &api.ListRunsParams{Workflow: &idle, State: &state}
	}
	params["workflow"], params["idle workflow"] = &api.ListRunsParams{Workflow: &busy}, &api.ListRunsParams{Workflow: &idle}
	var deep uuid.UUID
	err := w.pool.QueryRow(ctx, "SELECT run_id FROM run WHERE workspace_id = $1 ORDER BY run_id LIMIT 1 OFFSET 5000", w.sc.Workspace()).Scan(&deep)
	if err != nil {
		return nil, err
	}
	params["all, far back"] = &api.ListRunsParams{Before: &deep}
	partial := api.RunState("partial")
	params["state partial, far back"] = &api.ListRunsParams{Before: &deep, State: &partial}
	time1 := func(name string, ask func() (*http.Response, error)) error {
		began := time.Now()
		if _, err := fetched(ask()); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		out[name] = append(out[name], time.Since(began).Seconds()*1000)
		return nil
	}
	for range times {
		for name, p := range params {
			p.Limit = &limit
			if err := time1(name, func() (*http.Response, error) { return w.client.ListRuns(ctx, p) }); err != nil {
				return nil, err
			}
		}
		if err := time1("workflows", func() (*http.Response, error) { return w.client.ListWorkflows(ctx, nil) }); err != nil {
			return nil, err
		}
		if err := time1("connections", func() (*http.Response, error) { return w.client.ListConnections(ctx) }); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// writing gives how many runs a second are accepted and ended.
func (w *world) writing(ctx context.Context) (rates []float64, err error) {
	address, secret, err := w.hook(ctx, "bar-accept")
	if err != nil {
		return nil, err
	}
	for range pairs + 1 {
		const n = 4000
		if err := w.settle(ctx); err != nil {
			return nil, err
		}
		began := time.Now()
		if _, err := load(n, callers, address, secret, reports(5)); err != nil {
			return nil, err
		}
		if err := w.drained(ctx); err != nil {
			return nil, err
		}
		rates = append(rates, n/time.Since(began).Seconds())
	}
	return rates[1:], nil
}

// claims times claims of 64 runs with few queued, and with fifty thousand, in
// microseconds. What was claimed is handed back and its rows are cleaned, as a
// queue is that moves.
func (w *world) claims(ctx context.Context) (few, many []float64, err error) {
	w.service.stop()
	var workflow uuid.UUID
	if err := w.pool.QueryRow(ctx, "SELECT id FROM workflow WHERE name = 'bar-accept'").Scan(&workflow); err != nil {
		return nil, nil, err
	}
	start := func() *store.Start {
		return &store.Start{Workspace: w.sc.Workspace(), Workflow: workflow, Run: store.NewID(), Revision: 1, Trigger: "webhook", By: "the bench", Items: [][]byte{[]byte(`[{"n": 1}]`)}, Accepted: time.Now().UTC(), Expires: time.Now()}
	}
	session, err := w.store.OpenSession(ctx, "claimer")
	if err != nil {
		return nil, nil, err
	}
	c := w.store.NewCommitter(session, slog.New(slog.DiscardHandler), nil)
	defer c.Close()
	measure := func() (list []float64, err error) {
		if err := w.cluster.AdminOf(ctx, "trellis", "VACUUM ANALYZE live"); err != nil {
			return nil, err
		}
		for i := range 25 {
			began := time.Now()
			claimed, err := w.store.Claim(ctx, session, store.Turn{}, 64)
			took := time.Since(began)
			if err != nil || len(claimed) != 64 {
				return nil, fmt.Errorf("%d were claimed: %w", len(claimed), err)
			}
			var back []store.Owned
			for _, x := range claimed {
				back = append(back, store.Owned{Workspace: x.Workspace, Run: x.Run, Claim: x.Claim})
			}
			if err := w.store.HandBack(ctx, session, back); err != nil {
				return nil, err
			}
			if i >= 5 {
				list = append(list, float64(took.Microseconds()))
			}
		}
		var five []float64
		for i := range pairs {
			five = append(five, median(list[i*4:i*4+4]))
		}
		return five, nil
	}
	if err := w.queue(ctx, 100, start); err != nil {
		return nil, nil, err
	}
	if few, err = measure(); err != nil {
		return nil, nil, err
	}
	if err := w.queue(ctx, 49_900, start); err != nil {
		return nil, nil, err
	}
	many, err = measure()
	return few, many, err
}
