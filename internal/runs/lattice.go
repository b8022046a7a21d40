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
	"youngtrellis/internal/store"
)

// Row is a row of the lattice as its page keeps it.
type Row struct {
	Address string        `json:"a"`
	Label   string        `json:"l,omitempty"`
	Cells   []engine.Cell `json:"c"`
	Members int           `json:"m,omitempty"` // of how many items it was made
	Parents []string      `json:"p,omitempty"` // the first of them
}

const pageRows = 256

// Pages gathers the rows of an execution into pages. Write makes each durable
// but the last, which goes with the run's end.
type Pages struct {
	Workspace, Run uuid.UUID
	Write          func(ctx context.Context, p *store.LatticePage) error

	pass    int
	page    int
	rows    []Row
	waits   []engine.Place       // among the rows
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
	before, waits := w.rows, w.waits
	for _, r := range rows {
		w.rows = append(w.rows, row(r))
		if n := len(r.Cells); n > 0 && r.Cells[n-1].Fate == engine.Waiting {
			w.waits = append(w.waits, engine.Place{Step: r.Cells[n-1].Step, Address: r.Address})
		}
		if len(w.rows) == pageRows {
			p, err := w.encode()
			if err == nil {
				err = w.Write(ctx, p)
			}
			if err != nil {
				w.rows, w.waits = before, waits // they are handed in again
				return err
			}
			w.cut()
		}
	}
	return nil
}

func row(r engine.Row) Row {
	out := Row{Address: r.Address.String(), Label: r.Label, Cells: r.Cells, Members: r.Members}
	for _, a := range r.First {
		out.Parents = append(out.Parents, a.String())
	}
	return out
}

func (w *Pages) encode() (*store.LatticePage, error) {
	fates := map[engine.Fate]int{}
	for _, r := range w.rows {
		fates[engine.EndOf(r.Cells)]++
	}
	f, err := json.Marshal(fates)
	if err != nil {
		return nil, err
	}
	body := appendRows(nil, w.rows)
	return &store.LatticePage{Workspace: w.Workspace, Run: w.Run, Pass: w.pass, Page: w.page, Count: len(w.rows), Fates: f, Body: store.Pack(body), Waits: w.waits}, nil
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
			if c.Reused {
				b = append(b, `,"r":true`...)
			}
			b = append(b, '}')
		}
		b = append(b, ']')
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
	w.rows, w.waits = nil, nil
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

// Window is some rows of a run's lattice, of one fate or of all.
type Window struct {
	Total    int            // rows in all
	Matching int            // of the wanted fate
	Fates    map[string]int // rows by the fate in which they ended
	Rows     []Placed
}

// Placed is a row with its number, from 1.
type Placed struct {
	Number int
	Row
}

// PagesOf reads the stored pages of a lattice.
type PagesOf interface {
	LatticeHeads(ctx context.Context, sc store.Scope, run uuid.UUID) ([]store.LatticeHead, error)
	LatticeBodies(ctx context.Context, sc store.Scope, run uuid.UUID, pass int, pages []int) ([][]byte, error)
}

// ReadWindow reads up to count rows from the given one on, counted among those
// that ended in fate; "" for all. It takes two queries, wherever the window is.
func ReadWindow(ctx context.Context, kept PagesOf, sc store.Scope, run uuid.UUID, fate string, from, count int) (Window, error) {
	out := Window{Fates: map[string]int{}}
	heads, err := kept.LatticeHeads(ctx, sc, run)
	if err != nil {
		return out, err
	}
	var wanted []int
	skip, left := from, count
	pass := 0
	first := map[int]int{}
	for _, h := range heads {
		pass, first[h.Page] = h.Pass, out.Total
		out.Total += h.Count
		for f, n := range h.Fates {
			out.Fates[f] += n
		}
		matching := h.Count
		if fate != "" {
			matching = h.Fates[fate]
		}
		out.Matching += matching
		switch {
		case left <= 0 || matching == 0:
		case len(wanted) == 0 && skip >= matching:
			skip -= matching
		default:
			wanted = append(wanted, h.Page)
			left -= matching
			if len(wanted) == 1 {
				left += skip
			}
		}
	}
	if len(wanted) == 0 {
		return out, nil
	}
	bodies, err := kept.LatticeBodies(ctx, sc, run, pass, wanted)
	if err != nil {
		return out, err
	}
	for i, packed := range bodies {
		rows, err := rowsOf(packed)
		if err != nil {
			return out, err
		}
		for j, r := range rows {
			if fate != "" && string(engine.EndOf(r.Cells)) != fate {
				continue
			}
			if skip > 0 {
				skip--
				continue
			}
			if len(out.Rows) == count {
				return out, nil
			}
			out.Rows = append(out.Rows, Placed{first[wanted[i]] + j + 1, r})
		}
	}
	return out, nil
}
