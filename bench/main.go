// Command bench measures what should be fast, each time against a bare program
// on the same work in the same run: the shortest correct Go that an engineer
// would write for that one job. It prints a table and writes results.json; the
// results before are kept beside it.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"os"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"youngtrellis/internal/ottermere"
)

// Result of one bar.
type Result struct {
	Bar    int      `json:"bar"`
	Work   string   `json:"work"`
	Ours   float64  `json:"ours"` // per second
	Bare   float64  `json:"bare"` // per second
	Ratio  float64  `json:"ratio"`
	Wanted float64  `json:"wanted"`
	Notes  []string `json:"notes,omitempty"`
}

const file = "bench/results.json"

func main() {
	if err := run(context.Background()); err != nil {
		log.Fatal("bench: ", err)
	}
}

func run(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "trellis-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	w, err := ottermere.Start(ctx, ottermere.Options{Few: true, Data: dir, Say: func(s string) { fmt.Println("bench: " + s) }})
	if err != nil {
		return err
	}
	defer w.Close()
	b, err := newBare(ctx, w)
	if err != nil {
		return err
	}
	defer b.close()
	var results []Result
	for _, measure := range []func(context.Context, *ottermere.World, *bare) (Result, error){accepted, eventToDone, records} {
		r, err := measure(ctx, w, b)
		if err != nil {
			return err
		}
		r.Ratio = r.Ours / r.Bare
		results = append(results, r)
		fmt.Printf("bench: bar %d: %.2f\n", r.Bar, r.Ratio)
	}
	show(results)
	return keep(results)
}

func show(results []Result) {
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	t.AppendHeader(table.Row{"Bar", "Work", "Ours/s", "Bare/s", "Ratio", "Wanted", "Notes"})
	for _, r := range results {
		notes := ""
		for i, n := range r.Notes {
			if i > 0 {
				notes += "\n"
			}
			notes += n
		}
		t.AppendRow(table.Row{r.Bar, r.Work, fmt.Sprintf("%.0f", r.Ours), fmt.Sprintf("%.0f", r.Bare), fmt.Sprintf("%.2f", r.Ratio), fmt.Sprintf("%.2f", r.Wanted), notes})
	}
	t.Render()
}

func keep(results []Result) error {
	if old, err := os.ReadFile(file); err == nil {
		if err := os.WriteFile("bench/results.previous.json", old, 0o644); err != nil {
			return err
		}
	} else if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	b, err := json.MarshalIndent(results, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(b, '\n'), 0o644)
}

// rate gives the median of three measurements, in works per second.
func rate(works int, once func() (time.Duration, error)) (float64, error) {
	var rates []float64
	for range 3 {
		took, err := once()
		if err != nil {
			return 0, err
		}
		rates = append(rates, float64(works)/took.Seconds())
	}
	slices.Sort(rates)
	return rates[1], nil
}
