package server

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/api"
	"youngtrellis/internal/core/expr"
)

// tried is what an expression gives, as JSON.
func tried(t *testing.T, source string, template bool, item string) string {
	t.Helper()
	trigger := json.RawMessage(`{"cone": 6}`)
	res, err := (&Server{}).Evaluate(context.Background(), api.EvaluateRequestObject{Body: &api.Evaluate{Source: source, Template: &template, Item: json.RawMessage(item), Trigger: &trigger}})
	require.NoError(t, err)
	b, err := json.Marshal(res)
	require.NoError(t, err)
	return string(b)
}

func TestAnExpressionIsTriedOnAnItem(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		source   string
		template bool
		want     string
	}{
		{"item.n + trigger.cone", false, `{"value": 9, "text": "9"}`},
		{"n is (= item.n )", true, `{"value": "n is 3", "text": "n is 3"}`},
		{"item.n > 5", false, `{"value": false, "text": "false", "why": "3, needs more than 5"}`},
		{"item.n > ", false, `{"error": "the expression ends too early: something is missing after this", "position": 8}`},
		{"itm.n", false, `{"error": "\"itm\" is not known here. Did you mean item?", "position": 0}`},
		{"response.n", false, `{"error": "response cannot be used here; there are item, trigger, steps, round, run, vars and error", "position": 0}`},
		{"steps.cone.n", false, `{"unknown": "steps.cone.n"}`},
		{"(= vars.limit ) of (= item.n )", true, `{"unknown": "vars.limit"}`},
		{`len(column("cone"))`, false, `{"unknown": "column(\"cone\")"}`},
		{`hmac(item.n, "studio")`, false, `{"unknown": "hmac(\"studio\")"}`},
	} {
		got := tried(t, c.source, c.template, `{"n": 3}`)
		require.JSONEq(t, c.want, got, c.source)
	}
	_, err := (&Server{}).Evaluate(context.Background(), api.EvaluateRequestObject{Body: &api.Evaluate{Source: "item.n", Item: json.RawMessage(`[1]`)}})
	require.Error(t, err)
}

func TestWhoeverLeavesIsNotWorkedForAnyMore(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	res, err := (&Server{}).Evaluate(ctx, api.EvaluateRequestObject{Body: &api.Evaluate{Source: "sum(map(range(1, 100000), #))", Item: json.RawMessage(`{}`)}})
	require.NoError(t, err)
	b, err := json.Marshal(res)
	require.NoError(t, err)
	require.JSONEq(t, `{"error": "context canceled"}`, string(b))
}

func TestEveryFunctionIsListed(t *testing.T) {
	t.Parallel()
	res, err := (&Server{}).ListFunctions(context.Background(), api.ListFunctionsRequestObject{})
	require.NoError(t, err)
	list := res.(api.ListFunctions200JSONResponse).Functions
	require.Len(t, list, len(expr.Functions()))
	for _, f := range list {
		require.NotEmpty(t, f.Gives, f.Name)
		require.NotNil(t, f.Parameters, f.Name)
	}
}
