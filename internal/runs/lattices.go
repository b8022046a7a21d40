package runs

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// Lattices keeps the shapes of the lattices that were looked at last, of runs
// that have ended: who scrolls through one asks for window after window of it.
type Lattices struct {
	kept *lru.Cache[latticeKey, *Lattice]
}

// latticeKey changes whenever a run goes on.
type latticeKey struct {
	run   uuid.UUID
	pass  int
	ended time.Time
}

const (
	mostLattices = 16
	mostKept     = 200_000 // shorter stretches of rows of one kind, in a lattice that is kept
	mostViews    = 8       // of one lattice
)

// NewLattices keeps none yet.
func NewLattices() *Lattices {
	kept, _ := lru.New[latticeKey, *Lattice](mostLattices) // fails only for sizes below 1
	return &Lattices{kept: kept}
}

// Open gives the lattice of a run that the scope may see.
func (ls *Lattices) Open(ctx context.Context, kept ShapesOf, sc store.Scope, run store.Run, plan *workflow.Plan) (*Lattice, error) {
	if run.Ended == nil {
		return OpenLattice(ctx, kept, sc, run.ID, plan)
	}
	key := latticeKey{run.ID, run.Pass, *run.Ended}
	l, ok := ls.kept.Get(key)
	if !ok {
		var err error
		if l, err = OpenLattice(ctx, kept, sc, run.ID, plan); err != nil {
			return nil, err
		}
		if l.stretches() <= mostKept {
			ls.kept.Add(key, l)
		}
	}
	own := *l // the rows are read in the name of whoever asks
	own.kept, own.sc = kept, sc
	return &own, nil
}

func (l *Lattice) stretches() int {
	n := 0
	for _, p := range l.list {
		n += len(p.Runs)
	}
	return n
}

// View gives the lattice as a filter shows it. It is not to be changed.
func (l *Lattice) View(f Filter) *View {
	key := f.Fate
	for _, o := range f.Within {
		key += fmt.Sprintf(" %d %q %q", o.Step, o.Way, o.Round)
	}
	if f.Band != nil {
		key += fmt.Sprintf(" in %d", *f.Band)
	}
	if v, ok := l.views.Get(key); ok {
		return v
	}
	v := l.view(f)
	l.views.Add(key, v)
	return v
}
