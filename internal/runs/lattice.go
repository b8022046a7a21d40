package runs

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strconv"

	"github.com/google/uuid"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// Row is a row of the lattice as its page keeps it.
type Row struct {
	Address string        `json:"a"`
	Label   string        `json:"l,omitempty"`
	Cells   []engine.Cell `json:"c"`
	Start   string        `json:"h,omitempty"` // what its trigger item is called, where that is another name
	Into    string        `json:"i,omitempty"` // the group that it joined
	Members int           `json:"m,omitempty"` // of how many items it was made
	Parents []string      `json:"p,omitempty"` // the first of them
}

const pageRows = 256

// Pages gathers the rows of an execution into pages. Write makes each durable
// but the last, which goes with the run's end.
type Pages struct {
	Workspace, Run uuid.UUID
	Workflow       uuid.UUID
	Plan           *workflow.Plan // of the pass
	Claim          int            // of the execution
	Write          func(ctx context.Context, p *store.LatticePage) error

	pass    int
	page    int
	rows    []Row
	waits   []engine.Place       // among the rows
	aside   []store.Aside        // among them
	found   []store.Found        // by what their items are found again
	amended []*store.LatticePage // earlier pages from which rows were taken
	beside  bool                 // the rows take the place of some in earlier pages
}

// PagesKept reads the pages that an earlier execution left.
type PagesKept interface {
	LatticeLast(ctx context.Context, workspace, run uuid.UUID, pass int) (page int, found bool, err error)
	LatticePages(ctx context.Context, workspace, run uuid.UUID, pass int, pages []int) (map[int][]byte, error)
}

// Amend lets the rows that come take the place of those of due items: these are
// taken from their pages, and what comes is put behind the last one.
func (w *Pages) Amend(ctx context.Context, kept PagesKept, pass int, due *store.Due) error {
	last, found, err := kept.LatticeLast(ctx, w.Workspace, w.Run, pass)
	if err != nil || !found {
		return cmp.Or(err, errNoLattice)
	}
	gone := map[string]bool{}
	for _, p := range due.Items {
		gone[p.Address.String()] = true
	}
	numbers := append(slices.Clone(due.Pages), last)
	slices.Sort(numbers)
	numbers = slices.Compact(numbers)
	bodies, err := kept.LatticePages(ctx, w.Workspace, w.Run, pass, numbers)
	if err != nil {
		return err
	}
	w.pass, w.beside = pass, true
	for _, n := range numbers {
		rows, err := rowsOf(bodies[n])
		if err != nil {
			return err
		}
		before := len(rows)
		rows = slices.DeleteFunc(rows, func(r Row) bool { return gone[r.Address] })
		w.page, w.rows = n, rows
		if n == last && len(rows) < pageRows { // what comes goes on here
			return nil
		}
		if len(rows) == before {
			continue
		}
		p, err := w.encode()
		if err != nil {
			return err
		}
		w.amended = append(w.amended, p)
	}
	w.page, w.rows = last+1, nil
	return nil
}

var errNoLattice = errors.New("the run has no lattice yet")

func rowsOf(packed []byte) (rows []Row, err error) {
	body, err := store.Unpack(packed)
	if err == nil {
		err = json.Unmarshal(body, &rows)
	}
	return rows, err
}

// Rows implements engine.Lattice.
func (w *Pages) Rows(ctx context.Context, pass int, rows []engine.Row) error {
	w.pass = pass
	before, waits, aside, found := w.rows, w.waits, w.aside, w.found
	for _, r := range rows {
		w.rows = append(w.rows, row(r))
		for _, k := range r.Keys {
			w.found = append(w.found, store.Found{Address: r.Address, Key: k})
		}
		if n := len(r.Cells); n > 0 && r.Cells[n-1].Fate == engine.Waiting {
			w.waits = append(w.waits, engine.Place{Step: r.Cells[n-1].Step, Address: r.Address})
		} else if n > 0 && (r.Cells[n-1].Fate == engine.Aside || r.Cells[n-1].Fate == engine.MayBeSent) && !engine.FailureItem(r.Address) {
			w.aside = append(w.aside, w.asideRow(r))
		}
		if len(w.rows) == pageRows {
			p, err := w.encode()
			if err == nil {
				err = w.Write(ctx, p)
			}
			if err != nil {
				w.rows, w.waits, w.aside, w.found = before, waits, aside, found // they are handed in again
				return err
			}
			w.cut()
		}
	}
	return nil
}

// asideRow is an item that waits for a person.
func (w *Pages) asideRow(r engine.Row) store.Aside {
	last := r.Cells[len(r.Cells)-1]
	a := store.Aside{Address: r.Address, Step: last.Step, Rounds: r.Rounds, Kind: string(last.Fate), Label: r.Label, Why: last.Text, Alike: words.Alike(last.Text), Fresh: !last.Reused}
	if w.Plan != nil {
		if s := w.Plan.ByNumber(last.Step); s != nil {
			a.StepName = s.Name
		}
	}
	return a
}

func row(r engine.Row) Row {
	out := Row{Address: r.Address.String(), Label: r.Label, Start: r.Start, Cells: r.Cells, Members: r.Members}
	if r.Into != "" {
		out.Into = r.Into.String()
	}
	for _, a := range r.First {
		out.Parents = append(out.Parents, a.String())
	}
	return out
}

func (w *Pages) encode() (*store.LatticePage, error) {
	shape := &shaper{plan: w.Plan}
	for _, r := range w.rows {
		shape.add(r)
	}
	body := appendRows(nil, w.rows)
	kinds, err := shape.encode()
	if err != nil {
		return nil, err
	}
	return &store.LatticePage{Workspace: w.Workspace, Run: w.Run, Pass: w.pass, Page: w.page, Body: store.Pack(body), Shape: kinds, Keys: shape.keys, Waits: w.waits, Aside: w.aside, Found: w.found, Workflow: w.Workflow, Claim: w.Claim}, nil
}

// appendRows writes rows as their JSON tags say; there are many.
func appendRows(b []byte, rows []Row) []byte {
	text := func(name, s string) {
		if s != "" {
			b = item.AppendText(append(b, name...), s)
		}
	}
	b = append(b, '[')
	for i, r := range rows {
		if i > 0 {
			b = append(b, ',')
		}
		b = item.AppendText(append(b, `{"a":`...), r.Address)
		text(`,"l":`, r.Label)
		b = append(b, `,"c":[`...)
		for j, c := range r.Cells {
			if j > 0 {
				b = append(b, ',')
			}
			b = strconv.AppendUint(append(b, `{"s":`...), uint64(c.Step), 10)
			text(`,"f":`, string(c.Fate))
			text(`,"t":`, c.Text)
			text(`,"o":`, c.Round)
			if c.Reused {
				b = append(b, `,"r":true`...)
			}
			b = append(b, '}')
		}
		b = append(b, ']')
		text(`,"h":`, r.Start)
		text(`,"i":`, r.Into)
		if r.Members > 0 {
			b = strconv.AppendInt(append(b, `,"m":`...), int64(r.Members), 10)
			for j, a := range r.Parents {
				if j == 0 {
					b = append(b, `,"p":[`...)
				} else {
					b = append(b, ',')
				}
				b = item.AppendText(b, a)
			}
			if len(r.Parents) > 0 {
				b = append(b, ']')
			}
		}
		b = append(b, '}')
	}
	return append(b, ']')
}

func (w *Pages) cut() {
	w.page++
	w.rows, w.waits, w.aside, w.found = nil, nil, nil, nil
}

// Rest gives the last, unfinished page, and those from which rows were taken.
func (w *Pages) Rest() ([]*store.LatticePage, error) {
	if len(w.rows) == 0 && !w.beside {
		return nil, nil
	}
	p, err := w.encode()
	if err != nil {
		return nil, err
	}
	w.cut()
	return append(w.amended, p), nil
}

// Total is how many pages there are; -1 where nobody knows, as the rows of only
// some items were given.
func (w *Pages) Total() int {
	if w.beside {
		return -1
	}
	return w.page
}
