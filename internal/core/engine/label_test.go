package engine

import (
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// A row is called by what a person would call it; it is without a name only where
// there is nothing to call it by.
func TestWhatARowIsCalled(t *testing.T) {
	t.Parallel()
	p := plan(t, `  - {name: a, type: shape}`)
	for fields, want := range map[string]string{
		`{"title": "Ash bowl", "name": "bowl", "id": 3}`: "Ash bowl",
		`{"name": "", "subject": "Cone 9"}`:              "Cone 9",
		`{"zeal": 1, "order_id": "O-217", "at": "now"}`:  "order id O-217",
		`{"id": 17, "call_id": "x"}`:                     "id 17",
		`{"n": 3, "x": "long"}`:                          "n 3",
		`{"list": [1], "made": true}`:                    "made true",
		`{"list": [1], "deep": {"id": 1}, "note": " "}`:  "",
		`{}`:                                 "",
		`{"token": "ottermere-secret-4711"}`: "token ••••",
	} {
		o, err := item.DecodeObject([]byte(fields))
		require.NoError(t, err)
		require.Equal(t, want, Label(p, &item.Item{Fields: o}, call.NewSecrets("ottermere-secret-4711")), fields)
	}
	with, err := workflow.Compile(&workflow.Workflow{Label: "item.piece"}, &workflow.Catalog{})
	require.NoError(t, err)
	first := &item.Item{Fields: map[string]any{"piece": "Jug", "n": int64(1)}}
	require.Equal(t, "Jug", Label(with, first, nil))
	require.Equal(t, "Jug", Label(with, &item.Item{Fields: map[string]any{"n": int64(2)}, Parent: first}, nil), "what it was called before counts")
	require.Equal(t, "n 2", Label(with, &item.Item{Fields: map[string]any{"n": int64(2)}}, nil))
}
