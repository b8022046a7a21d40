package connector

import (
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
)

// JobPart is one of the calls that follow a job.
type JobPart int

// Parts of a job.
const (
	JobCheck JobPart = iota
	JobResult
)

// BuildJob makes a call that follows a job; submitted is the first answer.
func (a *Action) BuildJob(part JobPart, account, input map[string]any, submitted any) (*call.Call, error) {
	r := &a.Job.Check
	if part == JobResult {
		r = a.Job.Result
	}
	request, err := a.connector.buildRequest(r, map[string]any{"account": account, "input": a.Picked(input), "submitted": submitted}, nil, nil)
	if err == nil && part == JobResult {
		request.Answer = a.Answer
	}
	return request, err
}

// ReadSubmitted reads the answer to the call that begins a job.
func (a *Action) ReadSubmitted(answer *call.Answer, now time.Time) (any, error) {
	p, err := a.connector.read(answer, "auto", nil)
	if r, ok := err.(*Refusal); ok {
		r.Wait = a.connector.Wait(answer, now)
	}
	return p.value, err
}

// JobState is how a job does.
type JobState struct {
	Done   bool
	Failed string // why, in words
	Answer any    // the check's
}

// ReadJob reads the answer to a look at a job.
func (a *Action) ReadJob(answer *call.Answer, submitted any, now time.Time) (JobState, error) {
	p, err := a.connector.read(answer, "auto", nil)
	if err != nil {
		if r, ok := err.(*Refusal); ok {
			r.Wait = a.connector.Wait(answer, now)
		}
		return JobState{}, err
	}
	scope := answerScope(answer, p.value, nil)
	scope.Names["submitted"] = submitted
	s := JobState{Answer: p.value}
	if a.Job.failed != nil {
		failed, err := a.Job.failed.Holds(scope)
		if err != nil {
			return s, &Unreadable{answer.Status, err}
		}
		if failed {
			s.Failed = "it failed"
			if a.Job.reason != nil {
				if v, err := a.Job.reason.Eval(scope); err == nil && expr.Text(v) != "" {
					s.Failed = expr.Text(v)
				}
			}
			return s, nil
		}
	}
	if s.Done, err = a.Job.done.Holds(scope); err != nil {
		return s, &Unreadable{answer.Status, err}
	}
	return s, nil
}
