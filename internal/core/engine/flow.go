package engine

import (
	"slices"
	"time"

	"youngtrellis/internal/core/item"
)

// Fate is what became of an item at a step. The words are the same on every
// surface.
type Fate string

// Fates.
const (
	NotReached  Fate = "not_reached"
	Passed      Fate = "passed"
	ReadOutside Fate = "read"
	Written     Fate = "written"
	Prepared    Fate = "prepared"
	Joined      Fate = "joined"
	Held        Fate = "held_back"
	GaveNothing Fate = "gave_nothing"
	Aside       Fate = "set_aside"
	Stopped     Fate = "stopped"
	MayBeSent   Fate = "may_have_been_sent"
	WentOn      Fate = "went_on"   // with nothing, after an error
	TookBack    Fate = "fell_back" // it took the fallback
	EndedRun    Fate = "ended_run" // it ended the run, well
	Waiting     Fate = "waiting"
	Off         Fate = "off"
)

// Fates lists all of them in the order in which they are explained.
var Fates = []Fate{Passed, ReadOutside, Written, Prepared, Joined, Held, GaveNothing, Aside, Stopped, MayBeSent, WentOn, TookBack, EndedRun, Waiting, Off, NotReached}

// GoesOn tells whether an item goes on behind a cell of this fate.
func (f Fate) GoesOn() bool {
	switch f {
	case Passed, ReadOutside, Written, Prepared, Off, WentOn, TookBack:
		return true
	}
	return false
}

// Cell is what the lattice shows of an item at a step.
type Cell struct {
	Step   uint16 `json:"s"` // lasting number
	Fate   Fate   `json:"f"`
	Text   string `json:"t,omitempty"`
	Round  string `json:"o,omitempty"` // in which round of the loops around the step, as 3 or 3/1; one of a later pass as 2:3
	Reused bool   `json:"r,omitempty"` // from an earlier pass
}

// Fails tells whether something went wrong with an item.
func (f Fate) Fails() bool {
	switch f {
	case Aside, Stopped, MayBeSent, WentOn, TookBack:
		return true
	}
	return false
}

// way is the way of an item, from its newest cell back. Kin share what they have
// in common of it.
type way struct {
	up     *way
	rounds item.Rounds
	cell   Cell
	pass   int
	entry  *Entry // of an effect, where somebody wants to see it
}

// flow is an item on its way.
type flow struct {
	it    *item.Item
	way   *way
	state state

	at       uint16      // the step where it enters or stands
	rounds   item.Rounds // in which it stands there
	entering bool        // it was taken up: stages before that step let it by
	met      bool        // it came to the first step that writes, where only so many go on

	source     *reading     // where a list goes on
	generation int          // of its Idempotency-Key at the step where it stands
	former     []byte       // hash of what was sent there in an earlier pass
	due        time.Time    // until when it waits there
	turns      *turn        // how often it has gone round in loops
	stood      *stood       // where the rounds stand in which it is
	wrote      []uint16     // of a group: the steps at which its members were written outside
	order      order        // where it stands in its list
	place      *place       // where it came from within nests, to restore the order
	bytes      int          // about its size
	untouched  *flow        // as it was set aside, until the journal has something of it in this pass
	into       item.Address // the group that it joined
	apart      bool         // it comes of a failure of the run, and is none of its items
}

// touched says that the journal has something of the flow in this pass.
func (f *flow) touched() { f.untouched = nil }

// back puts a flow back as it was before it was taken up.
func (f *flow) back() {
	u := f.untouched
	f.become(u.state, u.at, u.rounds)
	f.it, f.way, f.source, f.generation, f.former = u.it, u.way, u.source, u.generation, u.former
	f.due, f.turns, f.stood, f.wrote, f.order, f.untouched = u.due, u.turns, u.stood, u.wrote, u.order, nil
}

// place is where a flow stood when it entered a nest.
type place struct {
	up  *place
	seq int
}

// stood is where a round stands among what came to its loop: the place of the
// item by which it was closed.
type stood struct {
	up  *stood
	key string
}

// turn counts the rounds that an item has begun in a loop that repeats.
type turn struct {
	up     *turn
	loop   uint16
	rounds item.Rounds
	n      int
}

// passed puts a cell on the flow's way. A second one of the same step and round
// takes the place of the first.
func (f *flow) passed(step uint16, rounds item.Rounds, c Cell, pass int) {
	up := f.way
	if up != nil && up.cell.Step == step && up.rounds == rounds {
		up = up.up
	}
	f.way = &way{up: up, rounds: rounds, cell: c, pass: pass}
}

// child is a flow for an item that came from this one.
func (f *flow) child(it *item.Item) *flow {
	return &flow{it: it, way: f.way, turns: f.turns, stood: f.stood, wrote: f.wrote, order: f.order, place: f.place, rounds: f.rounds, met: f.met}
}

// cells are those of the flow's way in order, one for each round of a step.
func (f *flow) cells(reused func(pass int) bool) []Cell {
	var out []Cell
	for w := f.way; w != nil; w = w.up {
		if slices.ContainsFunc(out, func(c Cell) bool { return c.Step == w.cell.Step && c.Round == w.cell.Round }) {
			continue
		}
		c := w.cell
		c.Reused = reused(w.pass)
		out = append(out, c)
	}
	slices.Reverse(out)
	return out
}

// fate is that of the last cell: where the row ended.
func (f *flow) fate() Fate {
	if f.way == nil {
		return NotReached
	}
	return f.way.cell.Fate
}

// writes tells whether the item, or a member of it, was written outside at a
// step within these rounds.
func (f *flow) writes(step uint16, rounds item.Rounds) bool {
	for w := f.way; w != nil; w = w.up {
		if w.cell.Step == step && w.rounds == rounds && w.cell.Fate == Written {
			return true
		}
	}
	return slices.Contains(f.wrote, step)
}

// written lists the steps at which the item, or a member of it, was written.
func (f *flow) written() []uint16 {
	out := f.wrote
	for w := f.way; w != nil; w = w.up {
		if w.cell.Fate == Written && !slices.Contains(out, w.cell.Step) {
			out = append(slices.Clip(out), w.cell.Step)
		}
	}
	return out
}

// Row is one line of the lattice: an item that ended, and its way.
type Row struct {
	Address item.Address
	Label   string
	Cells   []Cell       // of the steps that it came to, in the order in which it did
	Keys    []string     // what find_by gives: by these the item is found again
	Rounds  item.Rounds  // in which it stands, if it is open
	Start   string       // what the trigger item is called from which it came, where that is called otherwise
	Into    item.Address // the group that it joined
	Members int          // of a group: how many items went into it
	First   []item.Address
	Item    *item.Item
	way     *way
}

// Cell finds what became of the row's item at a step, the last time that it came
// there.
func (r *Row) Cell(step uint16) Cell {
	for _, c := range slices.Backward(r.Cells) {
		if c.Step == step {
			return c
		}
	}
	return Cell{Step: step, Fate: NotReached}
}

// Fields gives the row's item as it was after a step that it passed, or nil.
func (r *Row) Fields(step uint16) map[string]any {
	if it := r.Item.Through(step); it != nil && r.Cell(step).Fate.GoesOn() {
		return it.Fields
	}
	return nil
}

// Entry is what the journal has of the row at a step, in a rehearsal; nil where
// there is none.
func (r *Row) Entry(step uint16) *Entry {
	for w := r.way; w != nil; w = w.up {
		if w.cell.Step == step {
			return w.entry
		}
	}
	return nil
}

// EndOf is where a row ended: the fate of its last cell.
func EndOf(cells []Cell) Fate {
	if len(cells) == 0 {
		return NotReached
	}
	return cells[len(cells)-1].Fate
}
