package engine

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// Fate is what became of an item at a step. The words are the same on every
// surface.
type Fate string

const (
	NotReached  Fate = "not_reached"
	Passed      Fate = "passed"
	ReadOutside Fate = "read"
	Written     Fate = "written"
	Prepared    Fate = "prepared"
	Held        Fate = "held_back"
	GaveNothing Fate = "gave_nothing"
	Aside       Fate = "set_aside"
	Stopped     Fate = "stopped"
	MayBeSent   Fate = "may_have_been_sent"
	Waiting     Fate = "waiting"
	Off         Fate = "off"
)

// Fates lists all of them in the order in which they are explained.
var Fates = []Fate{Passed, ReadOutside, Written, Prepared, Held, GaveNothing, Aside, Stopped, MayBeSent, Waiting, Off, NotReached}

// Cell is what the lattice shows of an item at a step.
type Cell struct {
	Fate   Fate   `json:"f"`
	Text   string `json:"t,omitempty"`
	Reused bool   `json:"r,omitempty"` // from an earlier pass
}

// Row is one line of the lattice: an item that ended, and its way.
type Row struct {
	Address item.Address
	Label   string
	Cells   []Cell // one per step of the plan
	Item    *item.Item
}

// Fields gives the row's item as it was after a step that it passed, or nil.
func (r *Row) Fields(step int) map[string]any {
	switch r.Cells[step].Fate {
	case Passed, ReadOutside, Written, Prepared, Off:
		return r.Item.AsOf(step).Fields
	}
	return nil
}

// flow is an item on its way. Every flow goes through every stage; a stage
// touches only those that move and have come to its step.
type flow struct {
	it    *item.Item
	cells []Cell
	at    int  // the step at which it enters; earlier stages let it by
	ended bool // it goes no further
	open  Outcome
	isOpen,
	through bool // it had passed every step before this pass

	source     *paging // where a list goes on
	generation int     // of its Idempotency-Key at the step where it stands
	former     []byte  // hash of what was sent there in an earlier pass
	entries    map[int]*Entry
}

// paging is how far a list has been read.
type paging struct {
	page    int
	cursor  any
	ordinal uint32
}

func (f *flow) moving(step int) bool { return !f.ended && !f.isOpen && f.at <= step }

func (f *flow) set(step int, c Cell) {
	for len(f.cells) <= step {
		f.cells = append(f.cells, Cell{Fate: NotReached})
	}
	f.cells[step] = c
}

// child is a flow for an item that came from this one.
func (f *flow) child(it *item.Item) *flow {
	return &flow{it: it, cells: append(make([]Cell, 0, len(f.cells)+4), f.cells...), entries: f.entries}
}

// Line makes one line of at most 80 characters in which control and direction
// characters are visible.
func Line(s string) string {
	if len(s) > 400 {
		s = strings.ToValidUTF8(s[:400], "")
	}
	s = Visible(strings.Join(strings.Fields(s), " "))
	if utf8.RuneCountInString(s) > 80 {
		return string([]rune(s)[:79]) + "…"
	}
	return s
}

// Visible replaces characters that would move or hide text by visible signs.
func Visible(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return r
		case r < ' ':
			return '\u2400' + r
		case r == 0x7f:
			return '\u2421'
		case unicode.Is(unicode.Cf, r) || r >= 0x80 && r < 0xa0 || r == utf8.RuneError:
			return '\ufffd'
		}
		return r
	}, s)
}

var labelFields = []string{"title", "name", "subject", "email", "phone", "key"}

// Label is what a row is called: the workflow's label for the newest item on
// the lineage for which it gives something, else the first usual field. Secrets
// are masked in it.
func Label(p *workflow.Plan, it *item.Item, secrets *call.Secrets) string {
	for a := it; a != nil; a = a.Parent {
		if p.Label != nil {
			if !filled(p.Label, a) {
				continue
			}
			v, err := p.Label.Eval(p.Scope(a, nil, workflow.RunFacts{}))
			if s := expr.Text(v); err == nil && s != "" {
				return Line(secrets.Mask(s))
			}
			continue
		}
		for _, f := range labelFields {
			if s, ok := a.Fields[f].(string); ok && s != "" {
				return Line(secrets.Mask(s))
			}
		}
	}
	return ""
}

// filled tells whether the item has at least one of the fields that the label
// reads; without any, the label would be its punctuation alone.
func filled(label *expr.Program, it *item.Item) bool {
	reads := false
	for _, r := range label.Refs {
		if r.Path[0] == "item" && len(r.Path) > 1 {
			if it.Fields[r.Path[1]] != nil {
				return true
			}
			reads = true
		}
	}
	return !reads
}
