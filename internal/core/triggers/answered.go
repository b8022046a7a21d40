package triggers

import (
	"fmt"
	"time"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
)

// MostAnswerWithin is how long somebody may wait for an answer: those on the way give up
// sooner or later.
const MostAnswerWithin = 5 * time.Minute

// answered are the settings of kinds that somebody waits behind for an answer.
type answered struct {
	AnswerWithin time.Duration `form:"answer_within" title:"Waits for the answer" part:"What is answered" default:"30s" help:"Where a step answers: for so long at most, as 10s; then, or with 0s at once, the answer has an address of its own."`
}

func (a *answered) check() error {
	if a.AnswerWithin < 0 || a.AnswerWithin > MostAnswerWithin {
		return &form.Error{Field: "answer_within", Err: fmt.Errorf("it waits for at most %s; what takes longer is answered at an address of its own", expr.Words(MostAnswerWithin))}
	}
	return nil
}
