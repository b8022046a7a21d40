package steps

import (
	"errors"

	"youngtrellis/internal/core/expr"
)

type stopping struct {
	As      string      `form:"as" title:"The run ends" oneof:"success|failure" default:"success" words:"success=well;failure=as a failure"`
	Message *expr.Value `form:"message" title:"Message" hint:"text" help:"Why, for those who read the run." example:"The price list of (= item.supplier ) is empty."`
}

var stopKind = tells(New(Info{
	Type: "stop", Title: "End the run",
	Words: "end finish exit abort cancel fail error quit run", Does: DoesEnd,
	Help: "Ends the run as soon as an item comes here, well or as a failure: what is under way is finished, and nothing else begins.",
}, func(s *stopping) string {
	text := "End the run"
	if s.As == "failure" {
		text = "End the run as a failure"
	}
	if s.Message == nil {
		return text
	}
	return text + ": " + s.Message.Said()
}, func(s *stopping) (Operator, error) {
	if s.As == "failure" && s.Message == nil {
		return nil, wrong("message", errors.New("a run that ends as a failure says why: give a message"))
	}
	return s, nil
}), stopTraits)

// Ends implements Ender.
func (s *stopping) Ends(scope *expr.Scope) (message string, err error) {
	if s.Message == nil {
		return "", nil
	}
	v, err := s.Message.Eval(scope)
	if err != nil {
		return "", wrong("message", err)
	}
	return expr.Text(v), nil
}

// Fails implements Ender.
func (s *stopping) Fails() bool { return s.As == "failure" }
