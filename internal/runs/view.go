package runs

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// Filter says which rows of a lattice are looked at. Zero fields do not narrow.
type Filter struct {
	Band   *int   // those of a band: 0, the number of a step that makes one of many, or -1
	Fate   string // those that ended so
	Within []Open // those that went through these cases and rounds
}

// Open is a case or a round of a step that is looked into.
type Open struct {
	Step  uint16
	Way   string // of a branch: as its cells say it
	Round string // of a loop: as cells within it say it, from the outermost loop in
}

// holds tells whether rows of a kind are looked at.
func (f Filter) holds(k kind, plan *workflow.Plan) bool {
	if f.Band != nil && k.Band != *f.Band || f.Fate != "" && string(k.end()) != f.Fate {
		return false
	}
	for _, o := range f.Within {
		if !o.holds(k, plan) {
			return false
		}
	}
	return true
}

func (o Open) holds(k kind, plan *workflow.Plan) bool {
	if o.Round == "" && k.Band > 0 && madeIn(plan, uint16(k.Band), o) {
		return true
	}
	return slices.ContainsFunc(k.Cells, func(c spot) bool {
		if o.Round == "" {
			return c.Step == int(o.Step) && c.Way == o.Way
		}
		return inRound(c.Round, o.Round) && within(plan, uint16(c.Step), o.Step)
	})
}

// madeIn tells whether the step that made one of many stands in a case.
func madeIn(plan *workflow.Plan, step uint16, o Open) bool {
	s, of := plan.ByNumber(step), plan.ByNumber(o.Step)
	if s == nil || of == nil {
		return false
	}
	op, ok := of.Operator.(steps.Branch)
	for in := s.In; ok && in.Of != nil; in = in.Of.In {
		if in.Of == of {
			return !in.Fallback && op.Way(in.Index) == o.Way
		}
	}
	return false
}

// inRound tells whether a round is one, or stands within it.
func inRound(path, of string) bool { return path == of || strings.HasPrefix(path, of+"/") }

func within(plan *workflow.Plan, step, of uint16) bool {
	s, x := plan.ByNumber(step), plan.ByNumber(of)
	return s != nil && x != nil && s.Within(x)
}

// View is a lattice as a filter shows it.
type View struct {
	Total    int            // rows in all
	Matching int            // that are looked at
	Fates    map[string]int // rows of the band by the fate in which they ended
	Bands    []Band
	Lines    []int   // rows that are alike, one after the other; less than zero where something is to be mended
	Others   []Count // rows of the band that went through other cases of the last step that is looked into
	Rounds   []Round // of the last loop that is looked into
}

// Band are the rows of items that one step made of many; those of the trigger are
// the first.
type Band struct {
	Step    int
	Rows    int
	Trouble int
	First   int // place of the first column to which any of them came, and of the last
	Last    int
}

// Count is a number of rows.
type Count struct {
	Way  string
	Rows int
}

// Round is one of a loop.
type Round struct {
	Path    string
	Rows    int
	Trouble int
}

// foldFrom is in lattices of how many rows neighbours that are alike are folded.
const foldFrom = 200

// mostLines is how many lines a view has at most; beyond, whole pages are lines.
const mostLines = 100_000

// ShapesOf reads the stored shapes and rows of a lattice.
type ShapesOf interface {
	LatticeShapes(ctx context.Context, sc store.Scope, run uuid.UUID) ([]store.LatticeShape, error)
	LatticeBodies(ctx context.Context, sc store.Scope, run uuid.UUID, pass int, pages []int) ([][]byte, error)
	LatticePageOf(ctx context.Context, sc store.Scope, run uuid.UUID, pass int, key []byte) ([]int, error)
}

// Lattice reads the lattice of one run.
type Lattice struct {
	kept ShapesOf
	sc   store.Scope
	run  uuid.UUID
	plan *workflow.Plan
	pass int
	list []page
	// views are those that were asked for last.
	views *lru.Cache[string, *View]
}

type page struct {
	number int
	shape
}

// OpenLattice reads the shapes of the newest pass of a run.
func OpenLattice(ctx context.Context, kept ShapesOf, sc store.Scope, run uuid.UUID, plan *workflow.Plan) (*Lattice, error) {
	found, err := kept.LatticeShapes(ctx, sc, run)
	if err != nil {
		return nil, err
	}
	views, _ := lru.New[string, *View](mostViews) // fails only for sizes below 1
	l := &Lattice{kept: kept, sc: sc, run: run, plan: plan, views: views}
	for _, x := range found {
		s, err := readShape(x.Shape)
		if err != nil {
			return nil, err
		}
		l.pass = x.Pass
		l.list = append(l.list, page{x.Page, s})
	}
	return l, nil
}

func (l *Lattice) view(f Filter) *View {
	v := &View{Fates: map[string]int{}}
	bands, others, rounds := map[int]*Band{}, map[string]int{}, map[string]*Round{}
	whole := f
	whole.Fate, whole.Within = "", nil
	before, lumps := "", []int{}
	fold := l.rows() > foldFrom
	for _, p := range l.list {
		lump, trouble := 0, false
		seen := make([]*seenKind, len(p.Kinds))
		for _, r := range p.Runs {
			k, n := p.Kinds[r[0]], r[1]
			v.Total += n
			b := bands[k.Band]
			if b == nil {
				b = &Band{Step: k.Band, First: len(l.plan.Steps)}
				bands[k.Band] = b
			}
			x := seen[r[0]]
			if x == nil {
				x = &seenKind{k.troubles(), whole.holds(k, l.plan), f.holds(k, l.plan), k.alike()}
				seen[r[0]] = x
			}
			b.spans(k, l.plan)
			if b.Rows += n; x.trouble {
				b.Trouble += n
			}
			if x.inBand {
				v.Fates[string(k.end())] += n
				l.beside(k, n, f, x, others, rounds)
			}
			if !x.holds {
				before = ""
				continue
			}
			v.Matching += n
			lump, trouble = lump+n, trouble || x.trouble
			switch {
			case !fold:
				for range n {
					v.Lines = append(v.Lines, signed(1, x.trouble))
				}
			case x.alike == before:
				v.Lines[len(v.Lines)-1] += signed(n, x.trouble)
			default:
				v.Lines = append(v.Lines, signed(n, x.trouble))
			}
			before = x.alike
		}
		if lump > 0 {
			lumps = append(lumps, signed(lump, trouble))
		}
	}
	if len(v.Lines) > mostLines {
		v.Lines = lumps
	}
	v.Bands, v.Others, v.Rounds = sortedBands(bands, l.plan), sortedCounts(others), sortedRounds(rounds)
	return v
}

// spans widens the columns of a band by those to which rows of a kind came.
func (b *Band) spans(k kind, plan *workflow.Plan) {
	for _, c := range k.Cells {
		if st := plan.ByNumber(uint16(c.Step)); st != nil {
			b.First, b.Last = min(b.First, st.Column), max(b.Last, st.Column)
		}
	}
}

type seenKind struct {
	trouble, inBand, holds bool
	alike                  string
}

// beside counts rows by the other cases and rounds of what is looked into last.
func (l *Lattice) beside(k kind, n int, f Filter, x *seenKind, others map[string]int, rounds map[string]*Round) {
	if len(f.Within) == 0 {
		return
	}
	o := f.Within[len(f.Within)-1]
	if o.Round == "" {
		if x.holds {
			return
		}
		way := ""
		for _, c := range k.Cells {
			if c.Step == int(o.Step) {
				way = c.Way
			}
		}
		others[way] += n
		return
	}
	depth := strings.Count(o.Round, "/") + 1
	in := map[string]bool{}
	for _, c := range k.Cells {
		if c.Round == "" || !within(l.plan, uint16(c.Step), o.Step) {
			continue
		}
		parts := strings.SplitN(c.Round, "/", depth+1)
		if len(parts) < depth {
			continue
		}
		path := strings.Join(parts[:depth], "/")
		if up, _, ok := cutLast(o.Round); ok && !inRound(path, up) {
			continue
		}
		r := rounds[path]
		if r == nil {
			r = &Round{Path: path}
			rounds[path] = r
		}
		if !in[path] {
			in[path] = true
			r.Rows += n
		}
		if bad(engine.Fates[c.Fate]) {
			r.Trouble += n
		}
	}
}

func bad(f engine.Fate) bool {
	return f == engine.Aside || f == engine.Stopped || f == engine.MayBeSent || f == engine.WentOn
}

// cutLast cuts the innermost round off.
func cutLast(path string) (up, last string, ok bool) {
	i := strings.LastIndexByte(path, '/')
	if i < 0 {
		return "", path, false
	}
	return path[:i], path[i+1:], true
}

func signed(n int, minus bool) int {
	if minus {
		return -n
	}
	return n
}

func (l *Lattice) rows() int {
	n := 0
	for _, p := range l.list {
		for _, r := range p.Runs {
			n += r[1]
		}
	}
	return n
}

// sortedBands puts bands into the order of their steps; what comes of a failure
// is the last.
func sortedBands(bands map[int]*Band, plan *workflow.Plan) []Band {
	out := make([]Band, 0, len(bands))
	for _, b := range bands {
		out = append(out, *b)
	}
	place := func(b Band) int {
		if b.Step == FailedBand {
			return 1 << 30
		}
		if s := plan.ByNumber(uint16(b.Step)); b.Step > 0 && s != nil {
			return s.Column + 1
		}
		return b.Step
	}
	slices.SortFunc(out, func(a, b Band) int { return cmp.Compare(place(a), place(b)) })
	return out
}

func sortedCounts(m map[string]int) []Count {
	out := make([]Count, 0, len(m))
	for way, n := range m {
		out = append(out, Count{way, n})
	}
	slices.SortFunc(out, func(a, b Count) int { return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Way, b.Way)) })
	return out
}

func sortedRounds(m map[string]*Round) []Round {
	out := make([]Round, 0, len(m))
	for _, r := range m {
		out = append(out, *r)
	}
	slices.SortFunc(out, func(a, b Round) int { return slices.CompareFunc(roundKey(a.Path), roundKey(b.Path), cmp.Compare[int]) })
	return out
}

// roundKey sorts as rounds follow one another: those of a later pass come last.
func roundKey(path string) []int {
	var out []int
	for _, part := range strings.Split(path, "/") {
		pass, number, later := strings.Cut(part, ":")
		if !later {
			pass, number = "1", part
		}
		a, _ := strconv.Atoi(pass)
		b, _ := strconv.Atoi(number)
		out = append(out, a, b)
	}
	return out
}

// ErrChanged says that a run wrote its lattice while it was read.
var ErrChanged = errors.New("the lattice changed while it was read; ask again")
