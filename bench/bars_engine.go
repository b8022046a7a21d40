package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"testing"
	"time"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/ottermere"
)

// mappingSteps are six fields and a condition, as are those of jq and of plain Go.
const mappingSteps = `format: young-trellis/1
name: bar-mapping
trigger: {type: manual}
steps:
  - {name: six, type: shape, settings: {keep: none, set: {number: (= item.number ), name: (= item.caller ), minutes: (= item.duration_s / 60 ), ended: (= item.ended ), long: (= item.duration_s > 40 ), id: (= item.call_id )}}}
  - {name: real, type: filter, settings: {where: item.minutes >= 0.5}}
`

const jqFilter = `{number: .number, name: .caller, minutes: (.duration_s / 60), ended: .ended, long: (.duration_s > 40), id: .call_id} | select(.minutes >= 0.5)`

// mapping is bar 4: lines of JSON through a mapping of six fields and a
// condition, each in a process of its own that reads a file and writes lines.
func mapping(ctx context.Context, w *world) ([]Result, error) {
	const n = 200_000
	path := filepath.Join(w.dir, "lines.ndjson")
	f, err := os.Create(path)
	if err != nil {
		return nil, err
	}
	out := bufio.NewWriter(f)
	for i := range n {
		fmt.Fprintf(out, `{"call_id": "m-%d", "number": "+441632960141", "caller": "Hollowbank Pottery", "duration_s": %d, "ended": "2026-11-20T13:12:04Z", "line": "counter", "direction": "in"}`+"\n", i, i%66)
	}
	if err := out.Flush(); err != nil {
		return nil, err
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	timed := func(name string, args ...string) (float64, int, error) {
		cmd := exec.CommandContext(ctx, name, args...)
		count := &lines{}
		cmd.Stdout, cmd.Stderr = count, os.Stderr
		began := time.Now()
		err := cmd.Run()
		return n / time.Since(began).Seconds(), count.n, err
	}
	var jq, plain []pair
	for range pairs {
		ours, a, err := timed(self, "map", path)
		if err != nil {
			return nil, err
		}
		other, b, err := timed("jq", "-c", jqFilter, path)
		if err != nil {
			return nil, fmt.Errorf("jq: %w", err)
		}
		hand, c, err := timed(self, "plain", path)
		if err != nil {
			return nil, err
		}
		if a != b || b != c || a == 0 {
			return nil, fmt.Errorf("the three did not write the same: %d, %d, %d lines", a, b, c)
		}
		jq, plain = append(jq, pair{ours, other}), append(plain, pair{ours, hand})
	}
	return []Result{
		compare(Result{Bar: 4, Work: "a mapping of six fields and a condition, parse included, against jq", Wanted: "at least 1.5"}, jq),
		compare(Result{Bar: 4, Work: "the same against plain Go with encoding/json"}, plain),
	}, nil
}

// lines counts lines.
type lines struct{ n int }

func (l *lines) Write(b []byte) (int, error) {
	l.n += strings.Count(string(b), "\n")
	return len(b), nil
}

// serveMap is the mapping as a run of the engine over the lines of a file.
func serveMap(ctx context.Context, args []string) error {
	debug.SetGCPercent(300) // as the service does
	f, err := os.Open(args[0])
	if err != nil {
		return err
	}
	defer f.Close()
	w, _, problems := workflow.Read([]byte(mappingSteps))
	if workflow.HasErrors(problems) {
		return fmt.Errorf("%v", problems)
	}
	plan, err := workflow.Compile(w, &workflow.Catalog{})
	if err != nil {
		return err
	}
	m := &engine.Memory{}
	out := bufio.NewWriterSize(os.Stdout, 1<<16)
	run := &engine.Run{
		Spec:  engine.Spec{Facts: workflow.RunFacts{ID: "map"}, Passes: []engine.Pass{{Number: 1, Plan: plan}}},
		World: engine.World{Source: &lineSource{in: bufio.NewReaderSize(f, 1<<16)}, Journal: engine.MemoryJournal{Memory: m}, Clock: wall{}, Lattice: writer{out}},
	}
	if _, err := run.Execute(ctx, nil); err != nil {
		return err
	}
	return out.Flush()
}

type wall struct{}

func (wall) Now() time.Time                                   { return time.Now() }
func (wall) Sleep(ctx context.Context, _ time.Duration) error { return ctx.Err() }

// lineSource gives a page of each thousand lines.
type lineSource struct {
	in   *bufio.Reader
	next uint32
}

func (s *lineSource) Page(context.Context, int) (engine.Page, error) {
	p := engine.Page{First: s.next}
	for len(p.Items) < 1000 {
		line, err := s.in.ReadSlice('\n')
		if err != nil {
			break
		}
		fields, err := item.DecodeObject(line)
		if err != nil {
			return p, err
		}
		p.Items, p.Bytes = append(p.Items, fields), p.Bytes+len(line)
	}
	if s.next += uint32(len(p.Items)); len(p.Items) == 0 {
		return p, io.EOF
	}
	return p, nil
}

func (s *lineSource) Find(context.Context, uint32) (int, error) { return 0, io.EOF }

// writer writes what went through.
type writer struct{ out *bufio.Writer }

func (w writer) Rows(_ context.Context, _ int, rows []engine.Row) error {
	for _, r := range rows {
		if !engine.EndOf(r.Cells).GoesOn() {
			continue
		}
		b, err := item.Append(w.out.AvailableBuffer(), r.Item.Fields)
		if err != nil {
			return err
		}
		if _, err := w.out.Write(append(b, '\n')); err != nil {
			return err
		}
	}
	return nil
}

// servePlain is the mapping as an engineer would write it for this one job.
func servePlain(_ context.Context, args []string) error {
	f, err := os.Open(args[0])
	if err != nil {
		return err
	}
	defer f.Close()
	in, out := json.NewDecoder(bufio.NewReaderSize(f, 1<<16)), bufio.NewWriterSize(os.Stdout, 1<<16)
	e := json.NewEncoder(out)
	for {
		var r report
		if err := in.Decode(&r); err == io.EOF {
			return out.Flush()
		} else if err != nil {
			return err
		}
		minutes := float64(r.Seconds) / 60
		if minutes < 0.5 {
			continue
		}
		if err := e.Encode(map[string]any{"number": r.Number, "name": r.Caller, "minutes": minutes, "ended": r.Ended, "long": r.Seconds > 40, "id": r.ID}); err != nil {
			return err
		}
	}
}

// reading is bar 5: a field read and a comparison against the same in Go on the
// same map.
func reading(context.Context, *world) ([]Result, error) {
	fields := map[string]any{"call_id": "b-1", "number": "+441632960141", "caller": "Hollowbank Pottery", "duration_s": int64(184), "ended": "2026-11-20T13:12:04Z"}
	scope := &expr.Scope{Item: fields}
	p := expr.MustCompile("item.duration_s >= 20", expr.Names{"item"})
	var list []pair
	allocs := 0.0
	for range pairs {
		held := 0
		ours := testing.Benchmark(func(b *testing.B) {
			b.ReportAllocs()
			for range b.N {
				if ok, err := p.Holds(scope); ok && err == nil {
					held++
				}
			}
		})
		hand := testing.Benchmark(func(b *testing.B) {
			for range b.N {
				if v, ok := fields["duration_s"].(int64); ok && v >= 20 {
					held++
				}
			}
		})
		if held == 0 {
			return nil, fmt.Errorf("nothing was compared")
		}
		allocs = max(allocs, float64(ours.AllocsPerOp()))
		list = append(list, pair{float64(ours.T.Nanoseconds()) / float64(ours.N), float64(hand.T.Nanoseconds()) / float64(hand.N)})
	}
	return []Result{
		compare(Result{Bar: 5, Work: "a field read and a comparison, in ns, against Go on the same map", Wanted: "at most 5"}, list),
		figure(Result{Bar: 5, Work: "allocations of it", Wanted: "at most 0"}, "a time", allocs),
	}, nil
}

const waits = `format: young-trellis/1
name: bar-waits
trigger: {type: manual}
steps:
  - {name: rest, type: wait, settings: {for: 30d}}
`

// parked is bar 10: what items that wait cost in memory, and what the rows of
// many of them cost until they are due.
func parked(ctx context.Context, w *world) ([]Result, error) {
	if _, err := w.live(ctx, waits); err != nil {
		return nil, err
	}
	items := make([]api.Fields, 10_000)
	for i := range items {
		items[i] = api.Fields(`{"n": ` + strconv.Itoa(i) + `}`)
	}
	start := func() error {
		s, err := ottermere.Answer[api.Started](w.client.StartWorkflow(ctx, "bar-waits", api.Items{Items: &items}))
		for err == nil {
			var r api.Run
			if r, err = ottermere.Answer[api.Run](w.client.GetRun(ctx, s.Run)); err == nil && r.Run.State == "waiting" {
				return nil
			}
			time.Sleep(20 * time.Millisecond)
		}
		return err
	}
	idle := func() (float64, error) {
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(8 * time.Second): // what the runs left behind is done with
		}
		// The median of several looks: PostgreSQL tidies up at times of its own.
		var looks []float64
		for range 5 {
			before := w.processors()
			time.Sleep(8 * time.Second)
			sum := 0.0
			for _, v := range used(before, w.processors(), 1, "service", "PostgreSQL") {
				sum += v
			}
			looks = append(looks, sum/1000/8)
		}
		return percentile(looks, 0.5), nil
	}
	none, err := idle()
	if err != nil {
		return nil, err
	}
	var kept []float64
	for i := range 10 {
		if err := start(); err != nil {
			return nil, err
		}
		if i == 3 || i == 9 {
			kept = append(kept, memory(w.service.Process.Pid, "VmRSS"))
		}
	}
	var rows int
	if err := w.pool.QueryRow(ctx, "SELECT count(*) FROM waiting").Scan(&rows); err != nil || rows != 100_000 {
		return nil, fmt.Errorf("%d items wait: %w", rows, err)
	}
	many, err := idle()
	if err != nil {
		return nil, err
	}
	return []Result{
		figure(Result{Bar: 10, Work: "memory of the service for each of 60,000 further items that wait", Wanted: "at most 1"}, "KiB", max(0, kept[1]-kept[0])*1024/60_000),
		figure(Result{Bar: 10, Work: "processor time of service and PostgreSQL with 100,000 rows that wait, more than with none", Wanted: "at most 5", Notes: []string{fmt.Sprintf("%.1f ms a second with none, %.1f with 100,000", none, many)}}, "ms a second", many-none),
	}, nil
}

// cells is the other half of bar 6: cells of a long run, opened at any place.
func cells(ctx context.Context, w *world, run api.Run, total int) (Result, error) {
	var opened []float64
	draw := rand.New(rand.NewPCG(1, 2))
	for i := range 60 {
		from, count := draw.IntN(total-1), 1
		if i < 3 {
			from = total - 2 - i
		}
		l, err := ottermere.Answer[api.Lattice](w.client.GetLattice(ctx, run.Run.Id, &api.GetLatticeParams{From: &from, Count: &count}))
		if err != nil || len(l.Rows) == 0 {
			return Result{}, fmt.Errorf("row %d: %w", from, err)
		}
		var reached []int
		for j, c := range l.Rows[0].Cells {
			if c.Fate != "not_reached" {
				reached = append(reached, j)
			}
		}
		step := run.Columns[reached[draw.IntN(len(reached))]].Name
		began := time.Now()
		if _, err := fetched(w.client.OpenCell(ctx, run.Run.Id, l.Rows[0].Address, step)); err != nil {
			return Result{}, fmt.Errorf("%s at %s: %w", l.Rows[0].Address, step, err)
		}
		opened = append(opened, time.Since(began).Seconds()*1000)
	}
	return figure(Result{Bar: 6, Work: fmt.Sprintf("a cell opened at any place of a run of %d,000 rows, p95", total/1000), Wanted: "at most 50"}, "ms", percentile(opened, 0.95)), nil
}
