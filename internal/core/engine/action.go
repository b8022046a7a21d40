package engine

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// action performs an action of a connector: it evaluates the step's input,
// builds the call, and reads the answer.
type action struct {
	*base
	// build makes the call; the action's own unless a job asks after its work.
	build func(account, input map[string]any) (*call.Call, error)
	// read makes something of the answer; what the action gives unless set.
	read func(*call.Answer) (*Gave, error)
}

// Ready implements Performer.
func (p *action) Ready(ctx context.Context, s Subject) (Deed, error) {
	v, err := p.step.Input.Eval(s.Scope)
	if err != nil {
		return nil, err
	}
	input, _ := v.(map[string]any)
	if n := item.Size(input); n > item.MaxBytes {
		return nil, fmt.Errorf("the input has %d bytes; at most %d are taken", n, item.MaxBytes)
	}
	to, err := p.Connections.Open(ctx, p.step.Connection)
	if err != nil {
		return nil, ours{err}
	}
	if s.Callback != "" {
		input[p.step.Action.Job.Callback] = s.Callback
	}
	d := &actionDeed{action: p, to: to, account: to.Account(), asked: connector.Asked{Input: input, Cursor: s.Cursor}}
	build := p.build
	if build == nil {
		build = func(account, input map[string]any) (*call.Call, error) {
			return p.step.Action.Build(account, input, s.Cursor)
		}
	}
	request, err := build(d.account.Parameters, input)
	if err != nil {
		return nil, err
	}
	if p.build == nil && p.step.Repeat != "" {
		request.Repeat = p.step.Repeat
	}
	request.Timeout, request.Stopped = p.step.Deadline, p.stop.Done()
	d.asked.Call, err = At(d.account.Base, request)
	return d, err
}

// At gives a call the connection's own address where it names none.
func At(base *url.URL, request *call.Call) (*call.Call, error) {
	if request.URL.Host != "" {
		return request, nil
	}
	if base == nil {
		return nil, errors.New("the address has no host; write it whole, or choose a connection")
	}
	u := *base
	u.RawPath = strings.TrimSuffix(base.EscapedPath(), "/") + request.URL.EscapedPath()
	u.Path, _ = url.PathUnescape(u.RawPath)
	u.RawQuery = request.URL.RawQuery
	request.URL = &u
	return request, nil
}

// actionDeed is a call that is ready to be made.
type actionDeed struct {
	*action
	to      Connection
	account Account
	asked   connector.Asked
}

// About implements Deed.
func (d *actionDeed) About() About {
	request := d.asked.Call
	return About{Effect: request.Effect, Repeat: request.Repeat, Removes: request.Method == http.MethodDelete, Content: content(request), Sample: d.step.Action.Answered(d.asked.Input), Secrets: d.account.Secrets,
		Show: func() *call.Sent { return request.Show(d.account.Secrets) }, Hold: d.to.Hold}
}

// content is everything of a call that another side can tell repeats apart by.
func content(c *call.Call) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s\n", c.Method, c.URL)
	for _, p := range c.Pieces {
		if p.File != nil {
			fmt.Fprintf(&b, "[%s %s %s]", p.File.ID, p.File.Name, p.File.Type)
		} else {
			b.Write(p.Bytes)
		}
	}
	b.Write(c.Body)
	return []byte(b.String())
}

// Do implements Deed.
func (d *actionDeed) Do(ctx context.Context, key string) (*Gave, *call.Sent, error) {
	answer, sent, err := d.to.Send(ctx, d.asked.Call, key)
	if err != nil {
		return nil, sent, err
	}
	read := d.read
	if read == nil {
		read = d.gave
	}
	gave, err := read(answer)
	if err != nil {
		return nil, sent, d.classify(err, answer)
	}
	return gave, sent, nil
}

func (d *actionDeed) gave(answer *call.Answer) (*Gave, error) {
	asked := d.asked
	asked.Now = d.Clock.Now()
	page, err := d.step.Action.Read(answer, asked)
	if err != nil {
		return nil, err
	}
	return &Gave{Output: page.Output, Items: page.Items, Next: page.Next, Units: page.Units}, nil
}

// classify tells what an answer that says no means for the call.
func (d *actionDeed) classify(err error, answer *call.Answer) *call.Failure {
	var known *call.Failure
	if errors.As(err, &known) {
		return known
	}
	var refusal *connector.Refusal
	if !errors.As(err, &refusal) {
		return &call.Failure{Class: call.InDoubt, Status: answer.Status, Message: d.step.Action.Connector().Title + " " + err.Error(), Retryable: true}
	}
	why := &call.Failure{Class: call.Refused, Status: refusal.Status, Message: refusal.Error(), RetryAfter: refusal.Wait}
	if refusal.Field != "" {
		why.Setting = "input." + refusal.Field
	}
	switch s := refusal.Status; {
	case s == 408 || s == 425 || s == 429 || s == 503 && why.RetryAfter > 0:
		why.Retryable = true
	case s >= 500:
		why.Class, why.Retryable = call.InDoubt, true
	case why.RetryAfter > 0:
		why.Retryable = true
	}
	if refusal.Retry != nil {
		why.Class, why.Retryable = call.Refused, *refusal.Retry
	}
	return why
}

// wouldSend words a prepared write by what it would carry, since the sample
// that answers for it says nothing of this item.
func (b *base) wouldSend(f *flow) string {
	v, err := b.step.Input.Eval(b.scope(f.it))
	input, _ := v.(map[string]any)
	if err != nil {
		return ""
	}
	var parts []string
	for _, p := range b.step.Action.Properties {
		if p.Schema["choices"] != nil || input[p.Name] == nil {
			continue
		}
		if values, ok := input[p.Name].(map[string]any); ok {
			for _, k := range item.Keys(values) {
				parts = append(parts, expr.Brief(values[k]))
			}
			continue
		}
		parts = append(parts, expr.Brief(input[p.Name]))
	}
	return strings.Join(parts, ", ")
}
