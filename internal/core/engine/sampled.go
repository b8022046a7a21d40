package engine

import (
	"context"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
)

// sampled answers for an action with its declared sample, and reaches nothing
// outside: the world of the checker.
type sampled struct {
	*base
	input map[string]any
}

// Ready implements Performer.
func (p *sampled) Ready(_ context.Context, s Subject) (Deed, error) {
	v, err := p.step.Input.Eval(s.Scope)
	if err != nil {
		return nil, err
	}
	input, _ := v.(map[string]any)
	if len(p.step.Step.Input) > 0 {
		err = p.step.Action.Validate(p.step.Action.Picked(input))
	}
	return &sampled{p.base, input}, err
}

// About implements Deed.
func (p *sampled) About() About {
	return About{Effect: call.Read, Repeat: call.Safe, Show: func() *call.Sent { return &call.Sent{} }}
}

// Do implements Deed.
func (p *sampled) Do(context.Context, string) (*Gave, *call.Sent, error) {
	a := p.step.Action
	if !a.List() {
		return &Gave{Output: a.Answered(p.input)}, nil, nil
	}
	gave := &Gave{}
	list, _ := a.Answered(p.input).([]any)
	for _, e := range list {
		gave.Items = append(gave.Items, connector.AsFields(e))
	}
	return gave, nil, nil
}
