// Command soak lets a service, on one node and on several, carry out events
// while everything around it breaks, again and again, and then asks whether
// whatever was accepted was carried out, once. The answers are those of a twin
// that met no fault.
package main

import (
	"context"
	"flag"
	"io"

	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
)

// settings of one soak.
type settings struct {
	nodes  int
	faults int
	seed   uint64
	trees  int           // workflows of steps on every base, drawn by the dice
	wait   time.Duration // for about as long their items wait
	binary string
	fast   bool // the database need not outlive a loss of power
	keep   bool // its folder, to look into it
	say    func(format string, args ...any)

	counted func(fault string)
}

func main() {
	nodes := flag.String("nodes", "1,3", "on how many nodes, one soak each")
	faults := flag.Int("faults", 160, "how many faults in each")
	seed := flag.Uint64("seed", 0, "of the dice; 0 for one of its own")
	binary := flag.String("service", "bin/trellis", "the service's binary")
	trees := flag.Int("trees", 12, "how many workflows are drawn, of steps on every base")
	keep := flag.Bool("keep", false, "keep the folders with the logs")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if *seed == 0 {
		*seed = rand.Uint64N(1_000_000)
	}
	failed := false
	var reports []*report
	for _, n := range strings.Split(*nodes, ",") {
		count, err := strconv.Atoi(n)
		if err != nil || count < 1 {
			log.Fatalf("soak: -nodes is %q", *nodes)
		}
		s := settings{nodes: count, faults: *faults, seed: *seed, trees: *trees, wait: 32 * time.Second, binary: *binary, keep: *keep, say: func(format string, args ...any) { fmt.Printf("soak: "+format+"\n", args...) }}
		r, err := soak(ctx, s)
		if err != nil {
			log.Fatal("soak: ", err)
		}
		reports = append(reports, r)
		failed = failed || len(r.wrong) > 0
	}
	for _, r := range reports {
		r.print(os.Stdout)
	}
	if failed {
		os.Exit(1)
	}
}

// soak runs one to its end.
func soak(ctx context.Context, s settings) (*report, error) {
	r := newReport(s)
	s.counted = r.count
	s.say("%d nodes, %d faults, %d trees, seed %d", s.nodes, s.faults, s.trees, s.seed)
	w, err := newWorld(ctx, s)
	if err != nil {
		return nil, err
	}
	defer w.close()
	numbers := make(chan int)
	calling, done := make(chan struct{}), make(chan struct{})
	go func() { // events come as long as the callers are wanted
		defer close(numbers)
		tick := time.NewTicker(25 * time.Millisecond)
		defer tick.Stop()
		for n := 0; ; n++ {
			select {
			case <-calling:
				return
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			select {
			case numbers <- n:
			case <-calling:
				return
			case <-ctx.Done():
				return
			}
		}
	}()
	go func() { defer close(done); w.callers(ctx, numbers) }()

	w.side.rough.Store(true)
	dice := rand.New(rand.NewPCG(s.seed, 1))
	for i, f := range planned(w.faults(ctx, dice), s.faults, dice) {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		s.counted(f.name)
		if err := f.happen(w.nodes[dice.IntN(len(w.nodes))]); err != nil {
			return nil, fmt.Errorf("%s: %w", f.name, err)
		}
		if (i+1)%20 == 0 {
			s.say("%d faults, %d events accepted", i+1, w.count())
		}
		time.Sleep(time.Duration(dice.IntN(600)) * time.Millisecond)
	}
	w.side.rough.Store(false)
	well := time.Now()
	s.say("everything is well again")
	if err := w.reconciled(ctx, r, well); err != nil {
		return nil, err
	}
	close(calling)
	<-done
	if err := w.judge(ctx, r); err != nil {
		return nil, err
	}
	r.took = time.Since(r.began)
	return r, nil
}

func (w *world) count() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.accepted)
}

func (r *report) print(out io.Writer) {
	r.mu.Lock()
	defer r.mu.Unlock()
	t := table.NewWriter()
	t.SetOutputMirror(out)
	t.SetStyle(table.StyleLight)
	t.SetTitle(fmt.Sprintf("%d nodes, seed %d, %s", r.nodes, r.seed, r.took.Round(time.Second)))
	t.AppendHeader(table.Row{"Induced", "Times"})
	for _, name := range sorted(r.induced) {
		t.AppendRow(table.Row{name, r.induced[name]})
	}
	t.Render()
	t = table.NewWriter()
	t.SetOutputMirror(out)
	t.SetStyle(table.StyleLight)
	t.AppendHeader(table.Row{"Held", "Number", "Wrong"})
	for _, h := range r.held {
		t.AppendRow(table.Row{h.what, h.of, h.wrong})
	}
	t.Render()
	for _, w := range r.wrong[:min(len(r.wrong), 20)] {
		fmt.Fprintln(out, "wrong: "+w)
	}
}
