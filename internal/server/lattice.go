package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"youngtrellis/api"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/runs"
)

// columns words the steps of a plan as columns, with what they have done.
func columns(plan *workflow.Plan, catalog *workflow.Catalog, c *engine.Counts) []api.Column {
	out := make([]api.Column, 0, len(plan.Steps))
	for _, st := range plan.Steps {
		depth := 0
		for range st.Around() {
			depth++
		}
		col := api.Column{Name: st.Name, Sentence: catalog.Sentence(st.Step), Kind: kind(st.Step, catalog), Connection: given(st.Connection), Number: some(int(st.Number)), Line: some(st.Line), Depth: given(depth), Lists: given(st.Lists()), OnFailure: given(st.OnFailure())}
		if of := st.In.Of; of != nil {
			col.Within, col.Case = some(of.Name), given(st.In.Name)
		}
		col.Nest = nest(st)
		var n engine.StepCounts
		if c != nil {
			n = c.Of(st.Number)
			col.In, col.Out, col.HeldBack, col.SetAside, col.Stopped, col.GaveNothing, col.MayHaveBeenSent = n.In, n.Out, n.Held, n.SetAside, n.Stopped, n.Nothing, n.InDoubt
			col.Calls, col.Units, col.Millis, col.Waiting = n.Calls, float32(n.Units), n.Millis, given(n.Waiting)
			if !n.Began.IsZero() {
				col.Began, col.Ended = some(n.Began), some(n.Ended)
			}
			col.WentOn, col.FellBack, col.Rounds = given(n.Continued), given(n.FellBack), given(n.Rounds)
		}
		if op, ok := st.Operator.(steps.Branch); ok {
			col.Ways = ways(st, op, n)
		}
		out = append(out, col)
	}
	return out
}

// nest says what a step has steps within it for.
func nest(st *workflow.CompiledStep) *api.ColumnNest {
	if _, ok := st.Operator.(steps.Branch); ok {
		return some(api.Branch)
	}
	switch {
	case st.Loops():
		return some(api.Loop)
	case st.FallsInto() != nil:
		return some(api.Fallback)
	}
	return nil
}

// ways are the cases of a branch, with how many items went through each.
func ways(st *workflow.CompiledStep, op steps.Branch, n engine.StepCounts) *[]struct {
	Count int    `json:"count"`
	Name  string `json:"name"`
	Way   string `json:"way"`
} {
	var out []struct {
		Count int    `json:"count"`
		Name  string `json:"name"`
		Way   string `json:"way"`
	}
	cases := st.Cases()
	for i := range len(cases) + 1 {
		name, count := "", 0
		if i < len(cases) {
			name = cases[i].Name
		}
		if i < len(n.Ways) {
			count = n.Ways[i]
		}
		if i == len(cases) && count == 0 {
			break
		}
		out = append(out, struct {
			Count int    `json:"count"`
			Name  string `json:"name"`
			Way   string `json:"way"`
		}{count, name, op.Way(i)})
	}
	return &out
}

// cells puts what became of an item into the columns of a plan: the last time that
// it came to each, or in the rounds that are looked into.
func cells(plan *workflow.Plan, list []engine.Cell, within []runs.Open) []api.Cell {
	out := make([]api.Cell, 0, len(plan.Steps))
	for _, st := range plan.Steps {
		c := api.Cell{Fate: api.Fate(engine.NotReached)}
		for _, x := range list {
			if x.Step == st.Number && looked(plan, st, x, within) {
				c = cell(x)
			}
		}
		out = append(out, c)
	}
	return out
}

// looked tells whether a cell stands in the rounds that are looked into.
func looked(plan *workflow.Plan, st *workflow.CompiledStep, c engine.Cell, within []runs.Open) bool {
	for _, o := range within {
		if loop := plan.ByNumber(o.Step); o.Round != "" && loop != nil && st.Within(loop) && c.Round != o.Round && !strings.HasPrefix(c.Round, o.Round+"/") {
			return false
		}
	}
	return true
}

// trigger is the band of the items of the trigger.
const trigger = "-"

// looking reads what rows a caller wants to see.
func looking(plan *workflow.Plan, band *string, within *[]string, fate *api.Fate) (runs.Filter, error) {
	f := runs.Filter{Fate: string(or(fate, ""))}
	bad := func(format string, args ...any) error {
		return refuse(http.StatusBadRequest, "invalid_request", fmt.Sprintf(format, args...))
	}
	if band != nil && *band != "" {
		n := 0
		switch st := plan.Step(*band); {
		case *band == workflow.OnFailureBlock:
			n = runs.FailedBand
		case st != nil:
			n = int(st.Number)
		case *band != trigger:
			return f, bad("There is no band %q. It is -, the name of a step that makes one of many, or %s.", *band, workflow.OnFailureBlock)
		}
		f.Band = &n
	}
	for _, w := range or(within, nil) {
		name, of, ok := strings.Cut(w, "/")
		st := plan.Step(name)
		if st == nil || !ok || of == "" {
			return f, bad("%q is not STEP/CASE or STEP/ROUND of a step of this run.", w)
		}
		o := runs.Open{Step: st.Number}
		if st.Loops() {
			o.Round = of
		} else if op, isBranch := st.Operator.(steps.Branch); isBranch {
			i := slices.IndexFunc(st.Cases(), func(b *workflow.CompiledBlock) bool { return b.Name == of })
			if i < 0 && of != "else" {
				return f, bad("The step %s has no case %q.", name, of)
			}
			if i < 0 {
				i = len(st.Cases())
			}
			o.Way = op.Way(i)
		} else {
			return f, bad("The step %s has no cases and no rounds.", name)
		}
		f.Within = append(f.Within, o)
	}
	return f, nil
}

// lattice opens the lattice of a run of the caller's workspace.
func (s *Server) lattice(ctx context.Context, id api.RunID) (*runs.Lattice, *workflow.Plan, error) {
	sc := scopeOf(ctx)
	run, err := s.Store.Run(ctx, sc, id)
	if err != nil {
		return nil, nil, err
	}
	plan, err := s.Plans.Plan(ctx, sc.Workspace(), run.Workflow, run.Revision)
	if err != nil {
		return nil, nil, err
	}
	l, err := s.Lattices.Open(ctx, s.Store, sc, run, plan)
	return l, plan, err
}

// mostRows is how many rows a window has at most.
const mostRows = 500

// GetLattice implements api.StrictServerInterface.
func (s *Server) GetLattice(ctx context.Context, r api.GetLatticeRequestObject) (api.GetLatticeResponseObject, error) {
	p := r.Params
	l, plan, err := s.lattice(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	f, err := looking(plan, p.Band, p.Within, p.Fate)
	if err != nil {
		return nil, err
	}
	windows, place, err := s.windows(ctx, l, f, p)
	if err != nil {
		return nil, err
	}
	list, err := l.Rows(ctx, f, windows...)
	if errors.Is(err, runs.ErrChanged) { // the run goes on; what stands now is read
		if l, _, err = s.lattice(ctx, r.Run); err == nil {
			list, err = l.Rows(ctx, f, windows...)
		}
	}
	if err != nil {
		return nil, err
	}
	v := l.View(f)
	out := api.Lattice{Rows: make([]api.Row, 0, len(list)), Fates: v.Fates, Total: v.Total, Matching: v.Matching, Place: place}
	for _, x := range list {
		out.Rows = append(out.Rows, api.Row{Row: x.Number, At: some(x.At), Address: x.Address, Into: given(x.Into), Label: x.Label, Start: given(x.Start), Cells: cells(plan, x.Cells, f.Within), Members: given(x.Members), Parents: listed(x.Parents)})
	}
	return api.GetLattice200JSONResponse(out), nil
}

// windows reads which rows are wanted.
func (s *Server) windows(ctx context.Context, l *runs.Lattice, f runs.Filter, p api.GetLatticeParams) ([]runs.Range, *int, error) {
	from, count := or(p.From, 0), or(p.Count, 100)
	if at := or(p.At, ""); at != "" {
		list, err := ranges(at)
		return list, nil, err
	}
	if p.Around == nil {
		return []runs.Range{{From: from, Count: count}}, nil, nil
	}
	a, err := item.ParseAddress(*p.Around)
	if err != nil {
		return nil, nil, refuse(http.StatusBadRequest, "invalid_request", err.Error())
	}
	n, err := l.Find(ctx, f, a.String())
	if err != nil || n < 0 {
		return []runs.Range{{From: 0, Count: count}}, nil, err
	}
	return []runs.Range{{From: max(0, n-count/2), Count: count}}, &n, nil
}

// ranges reads several windows, as 0-1,500-30.
func ranges(text string) ([]runs.Range, error) {
	var out []runs.Range
	sum := 0
	for _, part := range strings.Split(text, ",") {
		from, count, ok := strings.Cut(part, "-")
		a, err1 := strconv.Atoi(from)
		b, err2 := strconv.Atoi(count)
		if !ok || err1 != nil || err2 != nil || a < 0 || b < 1 {
			return nil, refuse(http.StatusBadRequest, "invalid_request", fmt.Sprintf("%q is not a window, as 500-30: from which row on, and how many.", part))
		}
		if sum += b; sum > mostRows {
			return nil, refuse(http.StatusBadRequest, "invalid_request", fmt.Sprintf("These are more than %d rows in all.", mostRows))
		}
		out = append(out, runs.Range{From: a, Count: b})
	}
	return out, nil
}

// GetLatticeShape implements api.StrictServerInterface.
func (s *Server) GetLatticeShape(ctx context.Context, r api.GetLatticeShapeRequestObject) (api.GetLatticeShapeResponseObject, error) {
	l, plan, err := s.lattice(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	f, err := looking(plan, r.Params.Band, r.Params.Within, r.Params.Fate)
	if err != nil {
		return nil, err
	}
	v := l.View(f)
	out := api.LatticeShape{Total: v.Total, Matching: v.Matching, Fates: v.Fates, Lines: v.Lines}
	for _, b := range v.Bands {
		out.Bands = append(out.Bands, struct {
			Band    string `json:"band"`
			First   int    `json:"first"`
			Last    int    `json:"last"`
			Rows    int    `json:"rows"`
			Trouble int    `json:"trouble"`
		}{bandName(plan, b.Step), b.First, b.Last, b.Rows, b.Trouble})
	}
	if len(v.Others) > 0 {
		var others []struct {
			Rows int    `json:"rows"`
			Way  string `json:"way"`
		}
		for _, o := range v.Others {
			others = append(others, struct {
				Rows int    `json:"rows"`
				Way  string `json:"way"`
			}{o.Rows, o.Way})
		}
		out.Others = &others
	}
	if len(v.Rounds) > 0 {
		var rounds []struct {
			Round   string `json:"round"`
			Rows    int    `json:"rows"`
			Trouble int    `json:"trouble"`
		}
		for _, o := range v.Rounds {
			rounds = append(rounds, struct {
				Round   string `json:"round"`
				Rows    int    `json:"rows"`
				Trouble int    `json:"trouble"`
			}{o.Path, o.Rows, o.Trouble})
		}
		out.Rounds = &rounds
	}
	return api.GetLatticeShape200JSONResponse(out), nil
}

// bandName is what a caller names a band by.
func bandName(plan *workflow.Plan, step int) string {
	if step == runs.FailedBand {
		return workflow.OnFailureBlock
	}
	if st := plan.ByNumber(uint16(step)); step > 0 && st != nil {
		return st.Name
	}
	return trigger
}
