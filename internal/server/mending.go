package server

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/store"
)

// mostGroups is how many groups are listed.
const mostGroups = 200

// waiting finds the items that a caller means by a run, a workflow, a step and
// what they came to.
func (s *Server) waiting(ctx context.Context, run *uuid.UUID, name, step *string, kind *api.ItemKind, alike *string) (store.AsideFilter, error) {
	f := store.AsideFilter{Run: or(run, uuid.Nil), Step: or(step, ""), Kind: string(or(kind, "")), Alike: or(alike, "")}
	if n := or(name, ""); n != "" {
		w, err := s.Store.Workflow(ctx, scopeOf(ctx), n)
		if err != nil {
			return f, err
		}
		f.Workflow = w.ID
	}
	return f, nil
}

// names finds what workflows are called, each once.
type names struct {
	*Server
	known map[uuid.UUID]store.Workflow
}

func (s *Server) names() *names { return &names{s, map[uuid.UUID]store.Workflow{}} }

func (n *names) of(ctx context.Context, id uuid.UUID) (store.Workflow, error) {
	if w, ok := n.known[id]; ok {
		return w, nil
	}
	w, err := n.Store.WorkflowByID(ctx, scopeOf(ctx), id)
	n.known[id] = w
	return w, err
}

// ListItems implements api.StrictServerInterface.
func (s *Server) ListItems(ctx context.Context, r api.ListItemsRequestObject) (api.ListItemsResponseObject, error) {
	sc, p := scopeOf(ctx), r.Params
	f, err := s.waiting(ctx, p.Run, p.Workflow, p.Step, p.Kind, p.Alike)
	if err != nil {
		return nil, err
	}
	f.Label, f.Limit = or(p.Label, ""), or(p.Limit, 50)
	out := api.ListItems200JSONResponse{Items: []api.WaitingItem{}}
	if out.Total, _, err = s.Store.AsideCount(ctx, sc, f); err != nil {
		return nil, err
	}
	if after := or(p.After, ""); after != "" {
		if f.After, err = readMark(after); err != nil {
			return nil, err
		}
	}
	list, err := s.Store.AsideItems(ctx, sc, f)
	if err != nil {
		return nil, err
	}
	called := s.names()
	for _, a := range list {
		w, err := called.of(ctx, a.Workflow)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, api.WaitingItem{Run: a.Run, Address: a.Address.String(), Workflow: w.Name, Step: a.StepName, Kind: api.ItemKind(a.Kind), Label: a.Label, Why: a.Why, Alike: a.Alike, Since: a.Since, Busy: a.Live})
	}
	if len(list) == f.Limit {
		last := list[len(list)-1]
		out.Next = some(mark(store.AsideMark{Since: last.Since, Run: last.Run, Address: last.Address}))
	}
	return out, nil
}

// mark writes a place in a list of items, for the next page.
func mark(m store.AsideMark) string {
	return base64.RawURLEncoding.EncodeToString(fmt.Appendf(nil, "%d %s %s", m.Since.UnixMicro(), m.Run, m.Address))
}

func readMark(s string) (*store.AsideMark, error) {
	b, err := base64.RawURLEncoding.DecodeString(s)
	parts := strings.SplitN(string(b), " ", 3)
	if err == nil && len(parts) == 3 {
		at, err1 := strconv.ParseInt(parts[0], 10, 64)
		run, err2 := uuid.Parse(parts[1])
		address, err3 := item.ParseAddress(parts[2])
		if err1 == nil && err2 == nil && err3 == nil {
			return &store.AsideMark{Since: time.UnixMicro(at).UTC(), Run: run, Address: address}, nil
		}
	}
	return nil, refuse(http.StatusBadRequest, "invalid_request", "after is not what a page gave as next.")
}

// ListItemGroups implements api.StrictServerInterface.
func (s *Server) ListItemGroups(ctx context.Context, r api.ListItemGroupsRequestObject) (api.ListItemGroupsResponseObject, error) {
	sc, p := scopeOf(ctx), r.Params
	f, err := s.waiting(ctx, p.Run, p.Workflow, p.Step, p.Kind, nil)
	if err != nil {
		return nil, err
	}
	f.Limit = mostGroups
	out := api.ListItemGroups200JSONResponse{Groups: []api.ItemGroup{}}
	if out.Total, _, err = s.Store.AsideCount(ctx, sc, f); err != nil {
		return nil, err
	}
	list, err := s.Store.AsideGroups(ctx, sc, f)
	if err != nil {
		return nil, err
	}
	called := s.names()
	for _, g := range list {
		w, err := called.of(ctx, g.Workflow)
		if err != nil {
			return nil, err
		}
		out.Groups = append(out.Groups, api.ItemGroup{Workflow: w.Name, Title: w.Title, Step: g.StepName, Sentence: s.sentenceOf(ctx, w, g), Kind: api.ItemKind(g.Kind), Alike: g.Alike, Why: g.Why, Label: g.Label,
			Items: g.Items, Runs: g.Runs, Busy: g.Busy, First: g.First, Last: g.Last})
	}
	return out, nil
}

// sentenceOf words the step at which items stand, as it is live or in the draft.
func (s *Server) sentenceOf(ctx context.Context, w store.Workflow, g store.AsideGroup) string {
	if w.Live != nil {
		if plan, err := s.Plans.Plan(ctx, scopeOf(ctx).Workspace(), w.ID, *w.Live); err == nil {
			if st := plan.ByNumber(g.Step); st != nil {
				return plan.Catalog.Sentence(st.Step)
			}
		}
	}
	return g.StepName
}

// DismissItems implements api.StrictServerInterface.
func (s *Server) DismissItems(ctx context.Context, r api.DismissItemsRequestObject) (api.DismissItemsResponseObject, error) {
	sc, restore := scopeOf(ctx), or(r.Body.Restore, false)
	filters, err := s.meant(ctx, r.Body.Items, r.Body.Where)
	if err != nil {
		return nil, err
	}
	out := api.DismissItems200JSONResponse{}
	for _, f := range filters {
		n, err := s.Store.Dismiss(ctx, sc, f, restore)
		if err != nil {
			return nil, err
		}
		out.Items += n
	}
	return out, nil
}

// meant are the filters of single items, or the one of a where.
func (s *Server) meant(ctx context.Context, items *[]api.ItemRef, where *api.ItemWhere) ([]store.AsideFilter, error) {
	if (items == nil || len(*items) == 0) == (where == nil) {
		return nil, refuse(http.StatusUnprocessableEntity, "invalid_request", "Say which items are meant: give one of items and where.")
	}
	if where != nil {
		f, err := s.waiting(ctx, where.Run, where.Workflow, where.Step, where.Kind, where.Alike)
		return []store.AsideFilter{f}, err
	}
	var out []store.AsideFilter
	for _, x := range *items {
		a, err := item.ParseAddress(x.Address)
		if err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_request", err.Error())
		}
		out = append(out, store.AsideFilter{Run: x.Run, Address: a})
	}
	return out, nil
}

// wish reads what a caller wants done. Single items must wait for somebody.
func (s *Server) wish(ctx context.Context, b *api.MendingWish) (runs.Wish, error) {
	w := runs.Wish{What: string(b.What), Newest: or(b.Newest, false)}
	filters, err := s.meant(ctx, b.Items, b.Where)
	if err != nil {
		return w, err
	}
	if b.Where != nil {
		if w.Where = filters[0]; w.What == store.MendConfirm {
			w.Where.Kind = string(engine.MayBeSent)
		}
		return w, nil
	}
	w.Only = map[uuid.UUID]store.MendingRun{}
	for i, f := range filters {
		f.Limit = 1
		found, err := s.Store.AsideItems(ctx, scopeOf(ctx), f)
		switch {
		case err != nil:
			return w, err
		case len(found) == 0:
			return w, refuse(http.StatusNotFound, "not_found", fmt.Sprintf("The item %s of the run %s waits for nobody: it is done, was dismissed, or was never set aside.", f.Address, f.Run))
		case found[0].Live:
			return w, refuse(http.StatusConflict, "not_ended", "The run has not ended yet: it is in a further pass.")
		case w.What == store.MendConfirm && found[0].Kind != string(engine.MayBeSent):
			return w, refuse(http.StatusConflict, "not_in_doubt", "This item was set aside: nothing of it was sent that could be confirmed. Retry it, or dismiss it.")
		}
		r := w.Only[f.Run]
		r.Addresses = append(r.Addresses, f.Address)
		edit, err := edited((*b.Items)[i])
		if err != nil {
			return w, err
		}
		if edit != nil {
			if r.Edits == nil {
				r.Edits = map[string]store.ItemEdit{}
			}
			r.Edits[f.Address.String()] = *edit
		}
		w.Only[f.Run] = r
	}
	return w, nil
}

// edited reads what is to stand in place of an item's fields; nil where they stay.
func edited(x api.ItemRef) (*store.ItemEdit, error) {
	if x.Fields == nil && x.Set == nil && x.Unset == nil {
		return nil, nil
	}
	out := &store.ItemEdit{Unset: or(x.Unset, nil)}
	for _, given := range []struct {
		from *json.RawMessage
		to   *json.RawMessage
	}{{x.Fields, &out.Fields}, {x.Set, &out.Set}} {
		if given.from == nil {
			continue
		}
		if _, err := item.DecodeObject(*given.from); err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_request", "The fields of "+x.Address+" are not an object: "+err.Error())
		}
		*given.to = *given.from
	}
	return out, nil
}

// ItemHistory implements api.StrictServerInterface.
func (s *Server) ItemHistory(ctx context.Context, r api.ItemHistoryRequestObject) (api.ItemHistoryResponseObject, error) {
	a, err := item.ParseAddress(r.Address)
	if err != nil {
		return nil, refuse(http.StatusBadRequest, "invalid_request", err.Error())
	}
	if _, err := s.Store.Run(ctx, scopeOf(ctx), r.Run); err != nil {
		return nil, err
	}
	list, err := s.Store.History(ctx, scopeOf(ctx), r.Run, a)
	if err != nil {
		return nil, err
	}
	out := api.History{}
	for _, x := range list {
		out.Runs = append(out.Runs, struct {
			Accepted time.Time    `json:"accepted"`
			Address  string       `json:"address"`
			Run      uuid.UUID    `json:"run"`
			State    api.RunState `json:"state"`
			Title    string       `json:"title"`
		}{x.Accepted, x.Address.String(), x.Run, api.RunState(x.State), x.Title})
	}
	return api.ItemHistory200JSONResponse(out), nil
}

// PlanMending implements api.StrictServerInterface.
func (s *Server) PlanMending(ctx context.Context, r api.PlanMendingRequestObject) (api.PlanMendingResponseObject, error) {
	w, err := s.wish(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	m, err := s.Mender.PlanWish(ctx, scopeOf(ctx), w)
	if err != nil {
		return nil, err
	}
	out := api.MendingPlan{Items: m.Items, Runs: m.Runs, Looked: m.Looked, Late: listed(m.Late), Refused: listed(m.Refusals)}
	for _, x := range m.Steps {
		out.Steps = append(out.Steps, struct {
			Count    int    `json:"count"`
			Sentence string `json:"sentence"`
			Step     string `json:"step"`
			Workflow string `json:"workflow"`
			Writes   bool   `json:"writes"`
		}{x.Count, x.Sentence, x.Step, x.Workflow, x.Writes})
	}
	var changes []string
	for _, c := range m.Changes {
		changes = append(changes, c.Sentence)
	}
	out.Changes = listed(changes)
	return api.PlanMending200JSONResponse(out), nil
}

// BeginMending implements api.StrictServerInterface.
func (s *Server) BeginMending(ctx context.Context, r api.BeginMendingRequestObject) (api.BeginMendingResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.wish(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	if w.Only == nil {
		n, _, err := s.Store.AsideCount(ctx, sc, w.Where)
		if err != nil {
			return nil, err
		}
		if n == 0 {
			return nil, refuse(http.StatusConflict, "nothing_waits", "No item of this kind waits for anybody.")
		}
	}
	id, _, _, err := s.Mender.Begin(ctx, sc, w)
	if err != nil {
		return nil, err
	}
	out, err := s.mending(ctx, id)
	return api.BeginMending202JSONResponse(out), err
}

// GetMending implements api.StrictServerInterface.
func (s *Server) GetMending(ctx context.Context, r api.GetMendingRequestObject) (api.GetMendingResponseObject, error) {
	out, err := s.mending(ctx, r.Mending)
	return api.GetMending200JSONResponse(out), err
}

// CancelMending implements api.StrictServerInterface.
func (s *Server) CancelMending(ctx context.Context, r api.CancelMendingRequestObject) (api.CancelMendingResponseObject, error) {
	if err := s.Mender.Cancel(ctx, scopeOf(ctx), r.Mending); err != nil {
		return nil, err
	}
	out, err := s.mending(ctx, r.Mending)
	return api.CancelMending202JSONResponse(out), err
}

// ListMendings implements api.StrictServerInterface.
func (s *Server) ListMendings(ctx context.Context, _ api.ListMendingsRequestObject) (api.ListMendingsResponseObject, error) {
	list, err := s.Store.Mendings(ctx, scopeOf(ctx), 20)
	if err != nil {
		return nil, err
	}
	out := api.Mendings{Mendings: []api.Mending{}}
	for _, m := range list {
		x, err := s.mending(ctx, m.ID)
		if err != nil {
			return nil, err
		}
		out.Mendings = append(out.Mendings, x)
	}
	return api.ListMendings200JSONResponse(out), nil
}

// mending words how far one is.
func (s *Server) mending(ctx context.Context, id uuid.UUID) (api.Mending, error) {
	m, err := s.Store.Mending(ctx, scopeOf(ctx), id)
	if err != nil {
		return api.Mending{}, err
	}
	out := api.Mending{Id: m.ID, What: api.MendingWhat(m.What), Started: m.Started, StartedBy: m.StartedBy, CancelledBy: given(m.CancelledBy), Runs: len(m.Runs)}
	var under []uuid.UUID
	var refused []struct {
		Message string    `json:"message"`
		Run     uuid.UUID `json:"run"`
	}
	for _, r := range m.Runs {
		n := len(r.Addresses)
		out.Items += n
		switch {
		case r.State == "pending":
			out.WaitingRuns++
		case r.State == "refused":
			refused = append(refused, struct {
				Message string    `json:"message"`
				Run     uuid.UUID `json:"run"`
			}{r.Message, r.Run})
		case r.State == "begun" && r.Ended:
			out.Begun += n
			out.Again += r.Still
			out.Done += n - r.Still
		case r.State == "begun":
			under = append(under, r.Run)
			out.Begun += r.Begun
			out.Done += r.Begun
		}
	}
	out.UnderWay, out.Refused = listed(under), refused
	moving := out.WaitingRuns > 0 || len(under) > 0
	switch {
	case m.Cancelled != nil && moving:
		out.State = api.MendingStateCancelling
	case m.Cancelled != nil:
		out.State = api.MendingStateCancelled
	case moving:
		out.State = api.MendingStateGoing
	default:
		out.State = api.MendingStateEnded
	}
	return out, nil
}
