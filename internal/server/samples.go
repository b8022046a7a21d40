package server

import (
	"context"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"time"

	"youngtrellis/api"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/store"
)

// samples gives the samples' fields, to whom they may be seen: what a check says of
// them quotes them.
func (s *Server) samples(ctx context.Context, sc store.Scope, w store.Workflow) ([]map[string]any, error) {
	if !sc.SeesItems() {
		return nil, nil
	}
	list, err := s.Store.Samples(ctx, sc, w.ID)
	if err != nil {
		return nil, err
	}
	out := make([]map[string]any, 0, len(list))
	for _, x := range list {
		if f, err := item.DecodeObject([]byte(x.Fields)); err == nil {
			out = append(out, f)
		}
	}
	return out, nil
}

// ListSamples implements api.StrictServerInterface.
func (s *Server) ListSamples(ctx context.Context, r api.ListSamplesRequestObject) (api.ListSamplesResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Samples(ctx, sc, w.ID)
	if err != nil {
		return nil, err
	}
	arrived, err := s.Store.Deliveries(ctx, sc, w.ID)
	if err != nil {
		return nil, err
	}
	out := api.Samples{Samples: []api.Sample{}, Taking: w.Taking != nil && w.Taking.After(time.Now())}
	parsed, _, _ := workflow.Read([]byte(w.Draft))
	naming := workflow.Naming(parsed)
	for _, x := range list {
		out.Samples = append(out.Samples, labelled(naming, x))
	}
	for _, d := range arrived {
		out.Arrived = append(out.Arrived, api.Delivery{Id: d.ID, At: time.Unix(d.ID.Time().UnixTime()), Bytes: d.Bytes, Excerpt: d.Excerpt, Reason: d.Reason, Run: d.Run, Verdict: api.DeliveryVerdict(d.Verdict), Startable: d.Whole})
	}
	return api.ListSamples200JSONResponse(out), nil
}

// sample words a sample of a workflow.
func sample(w store.Workflow, x store.Sample) api.Sample {
	parsed, _, _ := workflow.Read([]byte(w.Draft))
	return labelled(workflow.Naming(parsed), x)
}

func labelled(naming *workflow.Plan, x store.Sample) api.Sample {
	fields, _ := item.DecodeObject([]byte(x.Fields)) // a text that cannot be read has no name
	return api.Sample{Id: x.ID, Label: engine.Label(naming, item.New(0, fields, x.Created), nil), Fields: json.RawMessage(x.Fields), Source: x.Source, Created: x.Created, Expected: expectedOf(x)}
}

// AddSample implements api.StrictServerInterface.
func (s *Server) AddSample(ctx context.Context, r api.AddSampleRequestObject) (api.AddSampleResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	fields, err := objects(&[]api.Fields{r.Body.Fields})
	if err != nil {
		return nil, err
	}
	x, err := s.Store.AddSample(ctx, scopeOf(ctx), w.ID, string(raw(fields[0])), or(r.Body.Source, "written by "+scopeOf(ctx).Who()), false)
	return api.AddSample201JSONResponse(sample(w, x)), err
}

// ChangeSample implements api.StrictServerInterface.
func (s *Server) ChangeSample(ctx context.Context, r api.ChangeSampleRequestObject) (api.ChangeSampleResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	fields, err := objects(&[]api.Fields{r.Body.Fields})
	if err != nil {
		return nil, err
	}
	x, err := s.Store.ChangeSample(ctx, scopeOf(ctx), w.ID, r.Id, string(raw(fields[0])), or(r.Body.Source, "changed by "+scopeOf(ctx).Who()))
	return api.ChangeSample200JSONResponse(sample(w, x)), err
}

// ExpectOfSample implements api.StrictServerInterface.
func (s *Server) ExpectOfSample(ctx context.Context, r api.ExpectOfSampleRequestObject) (api.ExpectOfSampleResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	wanted, err := item.DecodeObject(*r.Body)
	if err != nil {
		return nil, refuse(http.StatusUnprocessableEntity, "invalid_input", err.Error())
	}
	text := ""
	if len(wanted) > 0 {
		if _, err := engine.ReadExpected(wanted); err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_input", words.Sentence(err.Error()))
		}
		text = string(raw(wanted))
	}
	x, err := s.Store.ExpectOf(ctx, scopeOf(ctx), w.ID, r.Id, text)
	return api.ExpectOfSample200JSONResponse(sample(w, x)), err
}

func expectedOf(x store.Sample) *api.Expected {
	if x.Expected == "" {
		return nil
	}
	out := &api.Expected{}
	_ = json.Unmarshal([]byte(x.Expected), out) // it was read before it was kept
	return out
}

// expects puts into a rehearsal whether the samples became what is expected.
func (s *Server) expects(ctx context.Context, sc store.Scope, w store.Workflow, plan *workflow.Plan, got *runs.Rehearsal, out *api.Rehearsal) error {
	list, err := s.Store.Samples(ctx, sc, w.ID)
	if d := differs(plan, got, list); len(d) > 0 {
		out.Expected = &d
	}
	return err
}

// differs tells of each sample for which something is expected in what it differs.
func differs(plan *workflow.Plan, got *runs.Rehearsal, list []store.Sample) []api.Differs {
	var out []api.Differs
	for i, x := range list {
		if x.Expected == "" {
			continue
		}
		wanted, err := item.DecodeObject([]byte(x.Expected))
		if err != nil {
			continue
		}
		e, err := engine.ReadExpected(wanted)
		if err != nil {
			continue
		}
		var rows []*engine.Row
		for j := range got.Rows {
			if first, _, _ := strings.Cut(got.Rows[j].Address.String(), "-"); first == strconv.Itoa(i) {
				rows = append(rows, &got.Rows[j])
			}
		}
		out = append(out, api.Differs{Sample: i + 1, Label: given(labelled(plan, x).Label), Differs: append([]string{}, e.Differs(plan, rows)...)})
	}
	return out
}

// ProfileSamples implements api.StrictServerInterface.
func (s *Server) ProfileSamples(ctx context.Context, r api.ProfileSamplesRequestObject) (api.ProfileSamplesResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	list, err := s.samples(ctx, sc, w)
	if err != nil {
		return nil, err
	}
	out := api.ProfileSamples200JSONResponse{Fields: []api.Profile{}}
	for _, p := range item.Profiles(list) {
		out.Fields = append(out.Fields, api.Profile{Path: p.Path, Types: append([]string{}, p.Types...), Filled: p.Filled, Of: p.Of, Distinct: p.Distinct, Spread: p.Spread, Examples: append([]string{}, p.Examples...)})
	}
	return out, nil
}

// DeleteSample implements api.StrictServerInterface.
func (s *Server) DeleteSample(ctx context.Context, r api.DeleteSampleRequestObject) (api.DeleteSampleResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	return api.DeleteSample204Response{}, s.Store.DeleteSample(ctx, scopeOf(ctx), w.ID, r.Id)
}

// TakeSample implements api.StrictServerInterface.
func (s *Server) TakeSample(ctx context.Context, r api.TakeSampleRequestObject) (api.TakeSampleResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	parsed, _, _ := workflow.Read([]byte(w.Draft))
	if parsed == nil || !isAddressed(parsed.Trigger) {
		return nil, refuse(http.StatusConflict, "no_webhook", "Only a workflow with an address, of a webhook or a form, can take a sample of what really comes.")
	}
	s.Intake.Forget(w.Hook)
	return api.TakeSample202Response{}, s.Store.TakeSample(ctx, scopeOf(ctx), w.ID, 15*time.Minute, or(r.Params.Personal, "") == api.TakeSampleParamsPersonalKept)
}
