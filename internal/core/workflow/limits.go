package workflow

import (
	"context"
	"errors"
	"fmt"
	"time"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

// limits bound the runs of a workflow, as its document says.
type limits struct {
	Lane     *expr.Program `form:"one_at_a_time_by" part:"Limits of its runs" title:"One run at a time by" example:"trigger.person" help:"Runs for which this gives the same are carried out one behind the other, in the order in which they came; those for which it gives nothing wait for nobody."`
	Parallel int           `form:"parallel_runs" part:"Limits of its runs" title:"Runs at once" min:"1" max:"1000" help:"So many are on their way at the same time; others wait for a place. A run that waits, as for a pause, takes none."`
	Deadline time.Duration `form:"deadline" part:"Limits of its runs" title:"Deadline" example:"2h" help:"A run that takes longer fails: it begins nothing more. It is counted from the start on, and anew when the run is resumed."`
}

// LimitsForm is what is asked for.
var LimitsForm = form.Of[limits](expr.Names{"trigger", "vars", "run"})

// Bounds are limits that are ready to be used.
type Bounds struct {
	Parallel int           // runs at once; 0: as many as there are
	Lane     *expr.Program // nil: there are no lanes
	Deadline time.Duration // 0: there is none
}

const (
	// MostDeadline is the longest deadline: as long as a run's line is kept.
	MostDeadline = 400 * 24 * time.Hour
	// MostLane is how many bytes of its canonical form the key of a lane may have.
	MostLane = 500
)

// Bounds are the limits of the runs of the workflow, as far as they can be used.
// The errors say what cannot, each a *form.Error where it has a place.
func (w *Workflow) Bounds() (b Bounds, errs []error) {
	s := limits{}
	errs = LimitsForm.Read(w.Limits, &s)
	wrong := func(field, format string, args ...any) {
		errs = append(errs, &form.Error{Field: field, Err: fmt.Errorf(format, args...)})
	}
	for i := 0; s.Lane != nil && i < len(s.Lane.Refs); i++ {
		if p := s.Lane.Refs[i].Path; p[0] == "run" && (len(p) < 2 || p[1] != "workflow") {
			wrong("one_at_a_time_by", "the lane of a run is told before it begins: of run only run.workflow can be used")
			s.Lane = nil
		}
	}
	if d := s.Deadline; (d != 0 || w.Limits["deadline"] != nil) && (d < time.Second || d > MostDeadline) && len(errs) == 0 {
		wrong("deadline", "a deadline lies between 1s and %s", expr.Words(MostDeadline))
		s.Deadline = 0
	}
	if len(errs) > 0 {
		return Bounds{}, errs
	}
	return Bounds{Parallel: s.Parallel, Lane: s.Lane, Deadline: s.Deadline}, nil
}

// limitSentence says one of the limits, by its key; "" for none.
func (w *Workflow) limitSentence(key string) string {
	s := limits{}
	LimitsForm.Sketch(w.Limits, &s)
	switch {
	case key == "one_at_a_time_by" && s.Lane != nil:
		return "One run at a time by " + s.Lane.Words()
	case key == "parallel_runs" && s.Parallel > 0:
		return "At most " + words.Count(s.Parallel, "run") + " at once"
	case key == "deadline" && s.Deadline > 0:
		return "Each run takes " + expr.Words(s.Deadline) + " at most"
	}
	return ""
}

// LimitSentences says all limits that are set.
func (w *Workflow) LimitSentences() (out []string) {
	for _, p := range LimitsForm.Properties {
		if s := w.limitSentence(p.Name); s != "" {
			out = append(out, s)
		}
	}
	return out
}

// LaneOf is the key of the lane of a run with these items, in its canonical form;
// "" for none. Items that belong to different lanes cannot start one run. It ends with
// ctx: there may be many items.
func (p *Plan) LaneOf(ctx context.Context, items []map[string]any, accepted time.Time) (string, error) {
	lane := ""
	if p.Limits.Lane == nil {
		return lane, nil
	}
	if len(items) == 0 {
		items = []map[string]any{{}}
	}
	for i, fields := range items {
		key, err := p.laneOf(ctx, fields, accepted)
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		if err != nil {
			return "", fmt.Errorf("the lane of the run cannot be told: %w", err)
		}
		if i > 0 && key != lane {
			return "", fmt.Errorf("items 1 and %d belong to different lanes (%s and %s), and a run is in one: send each as an event of its own", i+1, laneWords(lane), laneWords(key))
		}
		lane = key
	}
	return lane, nil
}

func (p *Plan) laneOf(ctx context.Context, fields map[string]any, accepted time.Time) (string, error) {
	v, err := p.Limits.Lane.Eval(&expr.Scope{Now: accepted, Context: ctx, Names: map[string]any{
		"trigger": fields, "vars": nonNil(p.Workflow.Vars), "run": map[string]any{"workflow": p.Workflow.Name},
	}})
	if err != nil {
		return "", err
	}
	key, err := item.Key(v)
	switch {
	case err != nil:
		return "", err
	case len(key) > MostLane:
		return "", fmt.Errorf("what one_at_a_time_by gives is longer than %d characters", MostLane)
	case item.StorableText(key) != key:
		return "", errors.New("what one_at_a_time_by gives holds a character that cannot be stored (U+0000, or broken UTF-8)")
	}
	return key, nil
}

func laneWords(key string) string {
	if key == "" {
		return "none"
	}
	return words.Key(key)
}

// limitsDiff says which limits differ.
func limitsDiff(before, after *Workflow) (out []string) {
	for _, p := range LimitsForm.Properties {
		was, is := before.limitSentence(p.Name), after.limitSentence(p.Name)
		switch {
		case was == is:
		case is == "":
			out = append(out, fmt.Sprintf("No longer: %s.", was))
		case was == "":
			out = append(out, is+".")
		default:
			out = append(out, fmt.Sprintf("%s, was: %s.", is, was))
		}
	}
	return out
}
