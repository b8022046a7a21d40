package steps

import (
	"net/url"
	"strings"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
)

var httpKind = tells(New(Info{
	Type: "http", Title: "Call an address",
	Words: "api call request rest webhook url endpoint get post fetch address curl web service", Does: DoesCalls, Connects: true,
	Help: "Makes any HTTP call. The answer is read by its content type; a list becomes items.",
}, httpSentence, func(f *connector.Free) (Operator, error) { return called(f.Action()) }), func(f *connector.Free) Traits {
	if hostRead(f.URL) {
		return Traits{Decides: map[string]string{"url": "decides which host is called"}}
	}
	return Traits{}
})

// called is the operator of an action and the tree of its input.
func called(a *connector.Action, tree map[string]any, err error) (Operator, error) {
	if err != nil {
		return nil, err
	}
	input, err := expr.CompileValue(tree, Reads)
	if err != nil {
		return nil, err
	}
	return &Call{Action: a, Input: input, Tree: tree}, nil
}

func httpSentence(f *connector.Free) string {
	where := "…"
	if u, err := url.Parse(strings.SplitN(f.URL, "(=", 2)[0]); err == nil && f.URL != "" {
		where = strings.TrimPrefix(u.Path, "/")
		if u.Host != "" {
			where = u.Host + u.Path
		}
		if expr.Whole(f.URL) {
			where = "the address of the item"
		} else if expr.IsTemplate(f.URL) {
			where += "…"
		}
	}
	if f.Method == "" || f.Method == "GET" {
		return "Fetch " + where
	}
	return "Call " + where + " with " + f.Method
}
