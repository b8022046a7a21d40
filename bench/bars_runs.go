package main

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/store"
)

const accept = `format: young-trellis/1
name: bar-accept
trigger: {type: webhook}
steps:
  - {name: real, type: filter, settings: {where: item.duration_s >= 20}}
`

const done = `format: young-trellis/1
name: bar-done
trigger: {type: webhook}
steps:
  - {name: real, type: filter, settings: {where: item.duration_s >= 20}}
  - {name: call, type: shape, settings: {keep: none, set: {number: (= item.number ), name: (= item.caller ), minutes: (= item.duration_s / 60 ), id: (= item.call_id )}}}
  - {name: noted, type: tables.append, connection: tables, input: {workbook: wb_7q2kd0, tab: tb_h4m9xa, values: {number: (= item.number ), name: (= item.name ), minutes: (= item.minutes ), id: (= item.id )}}}
`

const many = `format: young-trellis/1
name: bar-many
trigger: {type: manual}
steps:
  - {name: six, type: shape, settings: {keep: none, set: {number: (= item.number ), name: (= item.caller ), minutes: (= item.duration_s / 60 ), ended: (= item.ended ), long: (= item.duration_s > 100 ), id: (= item.call_id )}}}
  - {name: real, type: filter, settings: {where: item.minutes >= 0.1}}
  - {name: some, type: batch, settings: {size: 500}}
  - {name: noted, type: http, connection: tables, parallel: 16, output: keep, settings: {method: POST, url: /v1/batch, repeat: keyed, json: (= item.items )}}
`

// long reads a list by pages, goes two ways, makes two items of each, and sends
// them together.
const long = `format: young-trellis/1
name: bar-long
trigger: {type: manual}
steps:
  - {name: list, type: http, connection: tables, settings: {url: "/v1/pages?of=(= item.n )", each: response.items, paging: {cursor: response.next, query: cursor}}}
  - name: way
    type: branch
    settings:
      cases:
        - {name: short, when: item.duration_s < 30, steps: [{name: mark, type: shape, settings: {set: {short: true}}}]}
      else:
        - {name: kept, type: filter, settings: {where: item.duration_s < 60}}
  - {name: two, type: spread, settings: {list: "[item.call_id, item.number]", as: id, carry: [caller, duration_s]}}
  - {name: some, type: batch, settings: {size: 500}}
  - {name: noted, type: http, connection: tables, parallel: 4, output: keep, settings: {method: POST, url: /v1/batch, repeat: keyed, json: (= item.items )}}
`

// events measures a webhook against a handler: accepted, and sustained to done.
func (w *world) events(ctx context.Context, n int, name, against string, seconds int) (accepted, done []pair, cpu map[string]float64, err error) {
	address, secret, err := w.hook(ctx, name)
	if err != nil {
		return nil, nil, nil, err
	}
	ours := func() (taken, ended float64, err error) {
		began := time.Now()
		took, err := load(n, callers, address, secret, reports(seconds))
		if err == nil {
			err = w.drained(ctx)
		}
		return float64(n) / took.Seconds(), float64(n) / time.Since(began).Seconds(), err
	}
	bare := func() (float64, error) {
		took, err := load(n, callers, w.bare.address+against, "", reports(seconds))
		return float64(n) / took.Seconds(), err
	}
	if _, _, err = ours(); err == nil { // both warm up
		_, err = bare()
	}
	if err != nil {
		return nil, nil, nil, err
	}
	cpu = map[string]float64{}
	for i := range pairs {
		var taken, ended, plain float64
		measure := []func() error{
			func() (err error) {
				before := w.processors()
				taken, ended, err = ours()
				for k, v := range used(before, w.processors(), n*pairs, "service", "PostgreSQL") {
					cpu[k] += v
				}
				return err
			},
			func() (err error) {
				before := w.processors()
				plain, err = bare()
				after := used(before, w.processors(), n*pairs, "bare", "PostgreSQL")
				cpu["bare"] += after["bare"]
				cpu["bare's PostgreSQL"] += after["PostgreSQL"]
				return err
			},
		}
		if i%2 == 1 { // each comes first as often as the other
			measure[0], measure[1] = measure[1], measure[0]
		}
		for _, m := range measure {
			if err := w.settle(ctx); err != nil {
				return nil, nil, nil, err
			}
			if err := m(); err != nil {
				return nil, nil, nil, err
			}
		}
		accepted, done = append(accepted, pair{taken, plain}), append(done, pair{ended, plain})
	}
	return accepted, done, cpu, nil
}

// accepting is bar 1.
func accepting(ctx context.Context, w *world) ([]Result, error) {
	if _, err := w.live(ctx, accept); err != nil {
		return nil, err
	}
	accepted, done, cpu, err := w.events(ctx, 8000, "bar-accept", "/accept", 5)
	if err != nil {
		return nil, err
	}
	return []Result{
		compare(Result{Bar: 1, Work: "webhook accepted durably, 64 callers at once", Wanted: "at least 0.9", CPU: cpu}, accepted),
		compare(Result{Bar: 1, Work: "the same, until the last run has ended", Wanted: "at least 0.6"}, done),
	}, nil
}

// eventToDone is bar 2.
func eventToDone(ctx context.Context, w *world) ([]Result, error) {
	id, err := w.live(ctx, done)
	if err != nil {
		return nil, err
	}
	_, ended, cpu, err := w.events(ctx, 6000, "bar-done", "/do", 60)
	if err != nil {
		return nil, err
	}
	first := compare(Result{Bar: 2, Work: "event to done: webhook, filter, shape, POST, journaled, ended", Wanted: "at least 0.75", CPU: cpu}, ended)
	if err := w.settle(ctx); err != nil {
		return nil, err
	}
	delays, err := w.delays(ctx, 1500, first.Bare/10)
	if err != nil {
		return nil, err
	}
	deep, err := w.deep(ctx, func() *store.Start {
		return &store.Start{Workspace: w.sc.Workspace(), Workflow: id, Run: store.NewID(), Revision: 1, Trigger: "webhook", By: "the bench", Items: [][]byte{[]byte("[" + reports(60)(0) + "]")}, Accepted: time.Now().UTC(), Expires: time.Now()}
	})
	if err != nil {
		return nil, err
	}
	return []Result{first,
		figure(Result{Bar: 2, Work: "from acceptance to the effect begun, at a tenth of the bare rate, p99", Wanted: "at most 10", Notes: []string{fmt.Sprintf("p50 %.1f ms, %d events", percentile(delays, 0.5), len(delays))}}, "ms", percentile(delays, 0.99)),
		{Bar: 2, Work: "10,000 queued at once are drained, against the rate of an empty queue", Unit: "ratio", Wanted: "at least 0.9", Ours: deep, Bare: first.Ours, Value: deep / first.Ours, Least: deep / first.Ours, Most: deep / first.Ours},
	}, nil
}

// delays sends n calls at a rate and gives the times from acceptance to the
// effect begun at the other side, in milliseconds.
func (w *world) delays(ctx context.Context, n int, perSecond float64) ([]float64, error) {
	address, secret, err := w.hook(ctx, "bar-done")
	if err != nil {
		return nil, err
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}}
	if _, err := fetched(client.Get(w.other.address + "/came")); err != nil {
		return nil, err
	}
	body := reports(60)
	var wait sync.WaitGroup
	var mu sync.Mutex
	var failed error
	tick := time.NewTicker(time.Duration(float64(time.Second) / max(1, perSecond)))
	defer tick.Stop()
	for i := range n {
		<-tick.C
		wait.Go(func() {
			if err := send(client, address, secret, body(i)); err != nil {
				mu.Lock()
				failed = err
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	if failed != nil {
		return nil, failed
	}
	if err := w.drainedOf(ctx, w.sc.Workspace()); err != nil {
		return nil, err
	}
	text, err := fetched(client.Get(w.other.address + "/came"))
	if err != nil {
		return nil, err
	}
	came := map[string]time.Time{}
	if err := json.Unmarshal(text, &came); err != nil {
		return nil, err
	}
	// When each was accepted stands in its run; which call that was, in its items.
	rows, err := w.pool.Query(ctx, "SELECT r.accepted, j.result FROM run r JOIN journal j ON j.workspace_id = r.workspace_id AND j.run_id = r.run_id AND j.step = 0 WHERE r.workspace_id = $2 ORDER BY r.run_id DESC LIMIT $1", n, w.sc.Workspace())
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []float64
	for rows.Next() {
		var at time.Time
		var packed []byte
		if err := rows.Scan(&at, &packed); err != nil {
			return nil, err
		}
		plain, err := store.Unpack(packed)
		if err != nil {
			return nil, err
		}
		var items []report
		if err := json.Unmarshal(plain, &items); err != nil {
			return nil, err
		}
		if began, ok := came[items[0].ID]; ok {
			out = append(out, began.Sub(at).Seconds()*1000)
		}
	}
	if len(out) < n*9/10 {
		return nil, fmt.Errorf("of %d calls only %d were found at the other side", n, len(out))
	}
	return out, rows.Err()
}

// deep queues ten thousand runs while no service runs, starts it, and gives how
// many it ends in a second.
func (w *world) deep(ctx context.Context, start func() *store.Start) (float64, error) {
	const n = 10_000
	w.service.stop()
	if err := w.queue(ctx, n, start); err != nil {
		return 0, err
	}
	if err := w.cluster.Admin(ctx, "CHECKPOINT"); err != nil {
		return 0, err
	}
	if err := w.serve(); err != nil {
		return 0, err
	}
	left := func() (k int, err error) {
		return k, w.pool.QueryRow(ctx, "SELECT count(*) FROM live").Scan(&k)
	}
	// It has begun once the first thousand have ended, and is warm.
	var began time.Time
	at := n
	for {
		k, err := left()
		if err != nil {
			return 0, err
		}
		if began.IsZero() && k < n-1000 {
			began, at = time.Now(), k
		}
		if k == 0 {
			return float64(at) / time.Since(began).Seconds(), w.connect()
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// queue puts runs into the queue that no node has taken.
func (w *world) queue(ctx context.Context, n int, start func() *store.Start) error {
	session, err := w.store.OpenSession(ctx, "bench")
	if err != nil {
		return err
	}
	c := w.store.NewCommitter(session, slog.New(slog.DiscardHandler), nil)
	defer c.Close()
	next := make(chan *store.Start)
	var wait sync.WaitGroup
	var mu sync.Mutex
	var failed error
	for range callers {
		wait.Go(func() {
			for s := range next {
				if _, err := c.Start(ctx, s, func(store.Started, error) {}); err != nil {
					mu.Lock()
					failed = err
					mu.Unlock()
				}
			}
		})
	}
	for range n {
		next <- start()
	}
	close(next)
	wait.Wait()
	return failed
}

// records is bar 3: many records through a shape of six fields, a filter, and a
// batch of 500, with one POST for each batch. Items come by the API until files
// are read.
func records(ctx context.Context, w *world) ([]Result, error) {
	const n = 100_000
	if _, err := w.live(ctx, many); err != nil {
		return nil, err
	}
	lines := make([]string, n)
	items := make([]api.Fields, n)
	body := reports(40)
	for i := range lines {
		lines[i] = strings.Replace(body(i), `"duration_s": 40`, `"duration_s": `+strconv.Itoa(i%66), 1) // ten of eleven are left
		items[i] = api.Fields(lines[i])
	}
	whole := "[" + strings.Join(lines, ",") + "]"
	var list []pair
	cpu := map[string]float64{}
	peak := 0.0
	for i := range pairs + 1 {
		if err := w.settle(ctx); err != nil {
			return nil, err
		}
		before := w.processors()
		began := time.Now()
		s, err := ottermere.Answer[api.Started](w.client.StartWorkflow(ctx, "bar-many", api.Items{Items: &items}))
		if err == nil {
			err = w.drained(ctx)
		}
		if err != nil {
			return nil, err
		}
		took := time.Since(began)
		after := w.processors()
		run, err := ottermere.Answer[api.Run](w.client.GetRun(ctx, s.Run))
		if err != nil || run.Run.State != "succeeded" {
			return nil, fmt.Errorf("the run %s: %s %w", run.Run.State, run.Run.Message, err)
		}
		began = time.Now()
		client := &http.Client{}
		if err := send(client, w.bare.address+"/records", "", whole); err != nil {
			return nil, err
		}
		bare := time.Since(began)
		if i == 0 { // to warm up
			continue
		}
		for k, v := range used(before, after, n*pairs, "service", "PostgreSQL") {
			cpu[k] += v
		}
		list = append(list, pair{n / took.Seconds(), n / bare.Seconds()})
		peak = max(peak, memory(w.service.Process.Pid, "VmHWM"))
	}
	out := []Result{
		compare(Result{Bar: 3, Work: "100,000 records: shape of six, filter, batch of 500, POST", Wanted: "at least 0.4", CPU: cpu, Notes: []string{"no file reading yet: items by the API; the bare program has no durability"}}, list),
		figure(Result{Bar: 3, Work: "peak memory of the service, the API's body included"}, "MiB", peak),
	}
	more, err := lengths(ctx, w)
	return append(out, more...), err
}

// lengths measures the memory of the service alone over lists of two lengths.
func lengths(ctx context.Context, w *world) (out []Result, err error) {
	if _, err := w.live(ctx, long); err != nil {
		return nil, err
	}
	for _, n := range []int{100_000, 300_000} {
		w.service.stop() // its peak counts from the start
		if err := w.serve(); err != nil {
			return nil, err
		}
		began := time.Now()
		items := []api.Fields{api.Fields(`{"n": ` + strconv.Itoa(n) + `}`)}
		s, err := ottermere.Answer[api.Started](w.client.StartWorkflow(ctx, "bar-long", api.Items{Items: &items}))
		if err == nil {
			err = w.drained(ctx)
		}
		if err != nil {
			return nil, err
		}
		run, err := ottermere.Answer[api.Run](w.client.GetRun(ctx, s.Run))
		if err != nil || run.Run.State != "succeeded" || run.Columns[0].Out != n {
			return nil, fmt.Errorf("the run %s, with %d items of %d: %s %w", run.Run.State, run.Columns[0].Out, n, run.Run.Message, err)
		}
		note := fmt.Sprintf("%d batches in %.1f s", run.Columns[len(run.Columns)-1].Out, time.Since(began).Seconds())
		out = append(out, figure(Result{Bar: 3, Work: fmt.Sprintf("%d,000 items: list, branch, spread, batch, POST; peak memory of the service alone", n/1000), Wanted: "at most 200", Notes: []string{note}}, "MiB", memory(w.service.Process.Pid, "VmHWM")))
	}
	return out, nil
}
