package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"youngtrellis/api"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

func cell(c engine.Cell) api.Cell {
	return api.Cell{Fate: api.Fate(c.Fate), Text: c.Text, Round: given(c.Round), Reused: given(c.Reused)}
}

func sent(e *call.Sent) api.Sent {
	return api.Sent{Method: e.Method, Url: e.URL, Body: given(e.Body), Status: given(e.Status), Prepared: given(e.Prepared), Guarded: given(e.Guarded)}
}

// OpenCell implements api.StrictServerInterface.
func (s *Server) OpenCell(ctx context.Context, r api.OpenCellRequestObject) (api.OpenCellResponseObject, error) {
	sc := scopeOf(ctx)
	if _, err := s.Store.Run(ctx, sc, r.Run); err != nil {
		return nil, err
	}
	address, err := item.ParseAddress(r.Address)
	if err != nil {
		return nil, refuse(http.StatusBadRequest, "invalid_request", err.Error())
	}
	run, err := s.Runs.Run(ctx, sc.Workspace(), r.Run)
	if err != nil {
		return nil, err
	}
	step := r.Step
	if step == "-" {
		step = ""
	} else if run.Passes[len(run.Passes)-1].Plan.Step(step) == nil {
		return nil, refuse(http.StatusNotFound, "not_found", fmt.Sprintf("The run has no step %q. Its columns say which it has.", step))
	}
	o, err := run.Inspect(ctx, address, step)
	if errors.Is(err, engine.ErrNoItem) {
		return nil, refuse(http.StatusNotFound, "not_found", fmt.Sprintf("The run has no item %s. The rows of its lattice say which it has.", address))
	}
	if err != nil {
		return nil, err
	}
	return api.OpenCell200JSONResponse(s.opened(o)), nil
}

func (s *Server) opened(o *engine.Opened) api.OpenedCell {
	catalog := o.Plan.Catalog
	out := api.OpenedCell{Address: o.Address.String(), Label: o.Label, Step: "-", Sentence: workflow.TriggerSentence(o.Plan.Workflow.Trigger), Cell: cell(o.Cell), Before: raw(o.Before)}
	if n := len(o.Members); n > 0 {
		out.MadeOf = some(n)
		members := []string{}
		for _, a := range o.Members[:min(n, 100)] {
			members = append(members, a.String())
		}
		out.Members = &members
	}
	if o.After != nil {
		out.After = some(raw(o.After))
	}
	if o.Step != nil {
		out.Step, out.Sentence = o.Step.Name, catalog.Sentence(o.Step.Step)
	}
	if e := o.Edited; e != nil {
		out.EditedBy, out.EditedAt = some(e.By), some(e.At)
	}
	if e := o.Entry; e != nil {
		out.Ended, out.Attempts = some(e.Ended), some(e.Attempts)
		if e.Request != nil {
			out.Sent = some(sent(e.Request))
		}
		if len(e.Result) > 0 && !o.Step.Lists() {
			out.Result = some(json.RawMessage(e.Result))
			if v, err := item.Decode(e.Result); err == nil {
				out.Link = given(o.Step.Action.RecordLink(v))
			}
		}
		if f := e.Failure; f != nil {
			out.Failure = &struct {
				Class   *string `json:"class,omitempty"`
				Message string  `json:"message"`
				OverMs  *int64  `json:"over_ms,omitempty"`
				Setting *string `json:"setting,omitempty"`
				Status  *int    `json:"status,omitempty"`
				Tried   *int    `json:"tried,omitempty"`
			}{given(string(f.Class)), f.Message, some(f.Over.Milliseconds()), given(f.Setting), given(f.Status), given(f.Tried)}
		}
	}
	for _, c := range o.Way {
		st := o.Plan.ByNumber(c.Step)
		if st == nil {
			continue
		}
		out.Way = append(out.Way, struct {
			Fate     api.Fate `json:"fate"`
			Sentence string   `json:"sentence"`
			Step     string   `json:"step"`
			Text     string   `json:"text"`
		}{api.Fate(c.Fate), catalog.Sentence(st.Step), st.Name, c.Text})
	}
	return out
}
