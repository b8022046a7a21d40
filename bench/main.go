// Command bench measures what should be fast, each time against a bare program
// on the same work in the same run: the shortest correct Go that an engineer
// would write for that one job. It prints a table and writes results.json; the
// results before are kept beside it.
//
// The service, the bare program, the other side that both call, PostgreSQL and
// the load are processes of their own. Service and bare program take turns in
// pairs; between two measurements nothing is left to do; and the clock stops
// when the last run has ended.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

const (
	file  = "bench/results.json"
	pairs = 5
)

// measures of each bar.
var measures = []struct {
	bar     int
	measure func(context.Context, *world) ([]Result, error)
}{{11, starting}, {12, console}, {12, following}, {1, accepting}, {2, eventToDone}, {3, records}, {4, mapping}, {5, reading}, {6, replaying}, {8, history}, {7, clocks}, {10, parked}, {13, neighbours}}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	var err error
	switch part := append(os.Args, "")[1]; part {
	case "bare", "other", "map", "plain": // a process of its own
		err = map[string]func(context.Context, []string) error{"bare": serveBare, "other": serveOther, "map": serveMap, "plain": servePlain}[part](ctx, os.Args[2:])
	default:
		err = run(ctx)
	}
	if err != nil && !errors.Is(err, context.Canceled) {
		log.Fatal("bench: ", err)
	}
}

func run(ctx context.Context) error {
	only := flag.String("bars", "", "only these bars, as 1,2")
	service := flag.String("service", "bin/trellis", "the service's binary")
	flag.Parse()
	chosen := map[int]bool{}
	for _, s := range strings.FieldsFunc(*only, func(r rune) bool { return r == ',' }) {
		n, err := strconv.Atoi(s)
		if err != nil {
			return fmt.Errorf("-bars is %q; it is written as 1,2", *only)
		}
		chosen[n] = true
	}
	binary, err := filepath.Abs(*service)
	if err != nil {
		return err
	}
	var results []Result
	for _, m := range measures {
		if len(chosen) > 0 && !chosen[m.bar] {
			continue
		}
		// Each bar has a database and processes of its own.
		w, err := newWorld(ctx, binary)
		if err != nil {
			return err
		}
		fmt.Printf("bench: bar %d\n", m.bar)
		got, err := m.measure(ctx, w)
		w.close()
		if err != nil {
			return fmt.Errorf("bar %d: %w", m.bar, err)
		}
		for _, r := range got {
			r.judge()
			fmt.Printf("bench: bar %d: %s: %s\n", r.Bar, r.Work, r.value())
			results = append(results, r)
		}
	}
	show(results)
	return keep(results, len(chosen) > 0)
}

// Result is one figure of a bar.
type Result struct {
	Bar    int    `json:"bar"`
	Work   string `json:"work"`
	Unit   string `json:"unit"`   // "ratio", or that of a figure that stands for itself
	Wanted string `json:"wanted"` // as "at least 0.9"
	// Ours and Bare are medians: works a second, or milliseconds where less is better.
	Ours  float64 `json:"ours,omitempty"`
	Bare  float64 `json:"bare,omitempty"`
	Value float64 `json:"value"` // the ratio's median, or the figure
	Least float64 `json:"least"` // of the pairs
	Most  float64 `json:"most"`
	Met   bool    `json:"met"`
	// CPU is the processor time of each process, in microseconds for each work.
	CPU   map[string]float64 `json:"cpu_us,omitempty"`
	Notes []string           `json:"notes,omitempty"`
}

// judge tells whether the bar is met; wanted is "at least X", "at most X" or "".
func (r *Result) judge() {
	kind, number, _ := strings.Cut(strings.TrimPrefix(r.Wanted, "at "), " ")
	limit, _ := strconv.ParseFloat(number, 64)
	switch kind {
	case "least":
		r.Met = r.Value >= limit
	case "most":
		r.Met = r.Value <= limit
	default:
		r.Met = true
	}
}

func (r *Result) value() string {
	if r.Unit == "ratio" {
		return fmt.Sprintf("%.2f (%.2f to %.2f)", r.Value, r.Least, r.Most)
	}
	return fmt.Sprintf("%.1f %s", r.Value, r.Unit)
}

func show(results []Result) {
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	t.SetStyle(table.StyleLight)
	t.AppendHeader(table.Row{"Bar", "Work", "Ours", "Bare", "Value", "Wanted", "Processor, us each", "Notes"})
	t.SetColumnConfigs([]table.ColumnConfig{{Number: 2, WidthMax: 44, WidthMaxEnforcer: text.WrapSoft}, {Number: 7, WidthMax: 34, WidthMaxEnforcer: text.WrapSoft}, {Number: 8, WidthMax: 50, WidthMaxEnforcer: text.WrapSoft}, {Number: 3, Align: text.AlignRight}, {Number: 4, Align: text.AlignRight}})
	for _, r := range results {
		wanted := r.Wanted
		if !r.Met {
			wanted += ", missed"
		}
		var cpu []string
		for _, name := range slices.Sorted(mapKeys(r.CPU)) {
			cpu = append(cpu, fmt.Sprintf("%s %.0f", name, r.CPU[name]))
		}
		ours, bare := "", ""
		if r.Bare > 0 {
			ours, bare = fmt.Sprintf("%.0f", r.Ours), fmt.Sprintf("%.0f", r.Bare)
		}
		t.AppendRow(table.Row{r.Bar, r.Work, ours, bare, r.value(), wanted, strings.Join(cpu, ", "), strings.Join(r.Notes, "\n")})
		t.AppendSeparator()
	}
	t.Render()
}

// keep writes the results; those of other bars are kept where only some were
// measured.
func keep(results []Result, some bool) error {
	old, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err == nil {
		if err := os.WriteFile("bench/results.previous.json", old, 0o644); err != nil {
			return err
		}
		var before []Result
		if some && json.Unmarshal(old, &before) == nil {
			before = slices.DeleteFunc(before, func(b Result) bool {
				return slices.ContainsFunc(results, func(r Result) bool { return r.Bar == b.Bar })
			})
			results = append(results, before...)
		}
	}
	slices.SortStableFunc(results, func(a, b Result) int { return a.Bar - b.Bar })
	b, err := json.MarshalIndent(results, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(b, '\n'), 0o644)
}
