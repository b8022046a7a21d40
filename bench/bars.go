package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins"
)

const (
	callers = 64
	calls   = 4000
)

// bare is the program without an engine: a Gin handler over the same database.
type bare struct {
	pool    *pgxpool.Pool
	server  *http.Server
	address string
	posted  string // where it posts to
	client  *http.Client
	key     string
}

func newBare(ctx context.Context, w *ottermere.World) (*bare, error) {
	address, err := w.Cluster.Database(ctx, "bare")
	if err != nil {
		return nil, err
	}
	b := &bare{posted: w.TablesBase, client: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}}, key: w.TablesKey}
	cfg, err := pgxpool.ParseConfig(address)
	if err != nil {
		return nil, err
	}
	cfg.MaxConns = 32
	if b.pool, err = pgxpool.NewWithConfig(ctx, cfg); err != nil {
		return nil, err
	}
	if _, err := b.pool.Exec(ctx, "CREATE TABLE IF NOT EXISTS event (id uuid PRIMARY KEY, body jsonb NOT NULL, done timestamptz, answer jsonb)"); err != nil {
		return nil, err
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.POST("/accept", func(c *gin.Context) {
		body, err := io.ReadAll(c.Request.Body)
		if err == nil {
			_, err = b.pool.Exec(c, "INSERT INTO event (id, body) VALUES ($1, $2)", uuid.New(), body)
		}
		answer(c, err)
	})
	r.POST("/do", func(c *gin.Context) { answer(c, b.do(c)) })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b.address, b.server = "http://"+l.Addr().String(), &http.Server{Handler: r}
	go func() { _ = b.server.Serve(l) }()
	return b, nil
}

func answer(c *gin.Context, err error) {
	if err != nil {
		c.String(http.StatusInternalServerError, err.Error())
		return
	}
	c.Status(http.StatusAccepted)
}

// do inserts, filters, posts and updates, one after the other.
func (b *bare) do(c *gin.Context) error {
	var in struct {
		Number  string `json:"number"`
		Seconds int    `json:"duration_s"`
		Caller  string `json:"caller"`
	}
	body, err := io.ReadAll(c.Request.Body)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(body, &in); err != nil {
		return err
	}
	id := uuid.New()
	if _, err := b.pool.Exec(c, "INSERT INTO event (id, body) VALUES ($1, $2)", id, body); err != nil {
		return err
	}
	if in.Seconds < 20 {
		return nil
	}
	got, err := b.post(map[string]any{"number": in.Number, "name": in.Caller, "minutes": float64(in.Seconds) / 60})
	if err != nil {
		return err
	}
	_, err = b.pool.Exec(c, "UPDATE event SET done = now(), answer = $2 WHERE id = $1", id, got)
	return err
}

func (b *bare) post(values map[string]any) ([]byte, error) {
	body, err := json.Marshal(map[string]any{"values": values})
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequest(http.MethodPost, b.posted+"/v1/tabs/tb_h4m9xa/rows", bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("X-Tables-Key", b.key)
	req.Header.Set("Content-Type", "application/json")
	res, err := b.client.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	got, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode != http.StatusCreated {
		err = fmt.Errorf("answered %d: %s", res.StatusCode, got)
	}
	return got, err
}

func (b *bare) close() {
	_ = b.server.Close()
	b.pool.Close()
}

// load sends n bodies from many callers at once; each must be taken.
func load(n, callers int, address, secret string, body func(i int) string) (time.Duration, error) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}}
	next := make(chan int)
	failed := make(chan error, callers)
	var wait sync.WaitGroup
	began := time.Now()
	for range callers {
		wait.Go(func() {
			for i := range next {
				req, err := http.NewRequest(http.MethodPost, address, strings.NewReader(body(i)))
				if err == nil {
					req.Header.Set("Content-Type", "application/json")
					req.Header.Set("Authorization", "Bearer "+secret)
					var res *http.Response
					if res, err = client.Do(req); err == nil {
						_, _ = io.Copy(io.Discard, res.Body)
						res.Body.Close()
						if res.StatusCode != http.StatusAccepted {
							err = fmt.Errorf("answered %d", res.StatusCode)
						}
					}
				}
				if err != nil {
					select {
					case failed <- err:
					default:
					}
				}
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	wait.Wait()
	select {
	case err := <-failed:
		return 0, err
	default:
		return time.Since(began), nil
	}
}

var round int

func report(seconds int) func(int) string {
	round++
	r := strconv.Itoa(round)
	return func(i int) string {
		return `{"call_id": "b` + r + `-` + strconv.Itoa(i) + `", "number": "+441632960141", "caller": "Hollowbank Pottery", "duration_s": ` + strconv.Itoa(seconds) + `, "ended": "2026-11-20T13:12:04Z"}`
	}
}

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
  - {name: call, type: shape, settings: {keep: none, set: {number: (= item.number ), name: (= item.caller ), minutes: (= item.duration_s / 60 )}}}
  - {name: noted, type: tables.append, connection: tables, input: {workbook: wb_7q2kd0, tab: tb_h4m9xa, values: {number: (= item.number ), name: (= item.name ), minutes: (= item.minutes )}}}
`

const many = `format: young-trellis/1
name: bar-many
trigger: {type: manual}
steps:
  - {name: six, type: shape, settings: {keep: none, set: {number: (= item.number ), name: (= item.caller ), minutes: (= item.duration_s / 60 ), ended: (= item.ended ), long: (= item.duration_s > 100 ), id: (= item.call_id )}}}
  - {name: real, type: filter, settings: {where: item.minutes >= 1}}
  - {name: noted, type: tables.append, connection: tables, parallel: 16, input: {workbook: wb_7q2kd0, tab: tb_h4m9xa, values: {number: (= item.number ), name: (= item.name ), minutes: (= item.minutes )}}}
`

// hook makes a workflow live and gives its address and secret.
func hook(ctx context.Context, w *ottermere.World, name, document string) (address, secret string, err error) {
	if _, err = ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: document})); err != nil {
		return "", "", err
	}
	if _, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, name, &api.GoLiveParams{})); err != nil {
		return "", "", err
	}
	made, err := ottermere.Answer[struct{ Secret string }](w.Client.MakeHookSecret(ctx, name))
	if err != nil {
		return "", "", err
	}
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, name))
	return sheet.Address, made.Secret, err
}

// accepted is bar 1: a webhook accepted durably, 64 callers at once.
func accepted(ctx context.Context, w *ottermere.World, b *bare) (Result, error) {
	r := Result{Bar: 1, Work: "webhook accepted durably, 64 callers", Wanted: 1}
	address, secret, err := hook(ctx, w, "bar-accept", accept)
	if err != nil {
		return r, err
	}
	if r.Bare, err = rate(calls, func() (time.Duration, error) { return load(calls, callers, b.address+"/accept", "", report(5)) }); err != nil {
		return r, err
	}
	r.Ours, err = rate(calls, func() (time.Duration, error) { return load(calls, callers, address, secret, report(5)) })
	r.Notes = append(r.Notes, "ours also begins and ends each run in this time, as far as it gets")
	return r, err
}

// unfinished counts the runs of a workflow that have not ended yet.
func unfinished(ctx context.Context, w *ottermere.World, name string) (int, error) {
	n := 0
	limit := 200
	for _, state := range []api.RunState{"queued", "running"} {
		page, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, &api.ListRunsParams{Workflow: &name, State: &state, Limit: &limit}))
		if err != nil {
			return 0, err
		}
		n += len(page.Runs)
	}
	return n, nil
}

func drained(ctx context.Context, w *ottermere.World, name string) error {
	for {
		n, err := unfinished(ctx, w, name)
		if err != nil || n == 0 {
			return err
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// eventToDone is bar 2: webhook, filter, shape, one POST, finished, journaled.
func eventToDone(ctx context.Context, w *ottermere.World, b *bare) (Result, error) {
	r := Result{Bar: 2, Work: "event to done: filter, shape, POST, journal", Wanted: 1}
	address, secret, err := hook(ctx, w, "bar-done", done)
	if err != nil {
		return r, err
	}
	if r.Bare, err = rate(calls, func() (time.Duration, error) { return load(calls, callers, b.address+"/do", "", report(60)) }); err != nil {
		return r, err
	}
	if r.Ours, err = rate(calls, func() (time.Duration, error) {
		began := time.Now()
		if _, err := load(calls, callers, address, secret, report(60)); err != nil {
			return 0, err
		}
		return time.Since(began), drained(ctx, w, "bar-done")
	}); err != nil {
		return r, err
	}
	delay, err := startDelay(ctx, w, address, secret, r.Ours/2)
	r.Notes = append(r.Notes, fmt.Sprintf("median from call to run's end at half load: %.1f ms", delay))
	return r, err
}

// startDelay sends calls at a rate and gives the median time from acceptance to
// the run's end in milliseconds, which no start delay can exceed.
func startDelay(ctx context.Context, w *ottermere.World, address, secret string, perSecond float64) (float64, error) {
	const n = 500
	body := report(60)
	var wait sync.WaitGroup
	tick := time.NewTicker(time.Duration(float64(time.Second) / max(1, perSecond)))
	defer tick.Stop()
	failed := make(chan error, n)
	for i := range n {
		<-tick.C
		wait.Go(func() {
			if _, err := load(1, 1, address, secret, func(int) string { return body(i) }); err != nil {
				failed <- err
			}
		})
	}
	wait.Wait()
	select {
	case err := <-failed:
		return 0, err
	default:
	}
	if err := drained(ctx, w, "bar-done"); err != nil {
		return 0, err
	}
	name, limit := "bar-done", 200
	page, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, &api.ListRunsParams{Workflow: &name, Limit: &limit}))
	if err != nil {
		return 0, err
	}
	var times []float64
	for _, x := range page.Runs {
		times = append(times, float64(x.Ended.Sub(x.Accepted).Microseconds())/1000)
	}
	slices.Sort(times)
	return times[len(times)/2], nil
}

// records is bar 3 as far as today's steps go: many records through a shape of
// six fields and a filter, and one POST for each that is left, since there is
// no batch step and no reading of files yet.
func records(ctx context.Context, w *ottermere.World, b *bare) (Result, error) {
	const n = 20_000
	r := Result{Bar: 3, Work: "20,000 records: shape of six, filter, POST each", Wanted: 0.6}
	w.Tables.SetFaults(standins.Faults{})
	lines := make([]string, n)
	items := make([]api.Fields, n)
	body := report(40)
	for i := range lines {
		lines[i] = strings.Replace(body(i), `"duration_s": 40`, `"duration_s": `+strconv.Itoa(i%66), 1) // one in eleven is left
		items[i] = api.Fields(lines[i])
	}
	var err error
	if r.Bare, err = rate(n, func() (time.Duration, error) { return b.records(lines) }); err != nil {
		return r, err
	}
	if _, _, err := hook(ctx, w, "bar-many", many); err != nil {
		return r, err
	}
	r.Ours, err = rate(n, func() (time.Duration, error) {
		began := time.Now()
		s, err := ottermere.Answer[api.Started](w.Client.StartWorkflow(ctx, "bar-many", api.Items{Items: &items}))
		if err != nil {
			return 0, err
		}
		run, err := w.Wait(ctx, s.Run)
		if err == nil && run.Run.State != "succeeded" {
			err = fmt.Errorf("the run %s: %s", run.Run.State, run.Run.Message)
		}
		return time.Since(began), err
	})
	r.Notes = append(r.Notes, "no batch step and no file reading yet: items by the API, one POST for each of the 1,818 left", "peak memory of service, stand-ins and load together: "+peak())
	return r, err
}

// records is a loop with encoding/json and net/http, sixteen posts at once.
func (b *bare) records(lines []string) (time.Duration, error) {
	began := time.Now()
	slots, failed := make(chan struct{}, 16), make(chan error, len(lines))
	var wait sync.WaitGroup
	for _, line := range lines {
		var in map[string]any
		if err := json.Unmarshal([]byte(line), &in); err != nil {
			return 0, err
		}
		seconds, _ := in["duration_s"].(float64)
		six := map[string]any{"number": in["number"], "name": in["caller"], "minutes": seconds / 60, "ended": in["ended"], "long": seconds > 100, "id": in["call_id"]}
		if six["minutes"].(float64) < 1 {
			continue
		}
		slots <- struct{}{}
		wait.Go(func() {
			defer func() { <-slots }()
			if _, err := b.post(map[string]any{"number": six["number"], "name": six["name"], "minutes": six["minutes"]}); err != nil {
				failed <- err
			}
		})
	}
	wait.Wait()
	select {
	case err := <-failed:
		return 0, err
	default:
		return time.Since(began), nil
	}
}

func peak() string {
	b, _ := os.ReadFile("/proc/self/status")
	for _, l := range strings.Split(string(b), "\n") {
		if v, ok := strings.CutPrefix(l, "VmHWM:"); ok {
			return strings.TrimSpace(v)
		}
	}
	return "unknown"
}
