package engine

import (
	"context"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

func shippedCatalog(t testing.TB) *workflow.Catalog {
	c := &workflow.Catalog{Connectors: map[string]*connector.Connector{}}
	for _, name := range []string{"tables", "contacts"} {
		b, err := os.ReadFile("../../../connectors/" + name + ".yaml")
		require.NoError(t, err)
		con, err := connector.Parse(b)
		require.NoError(t, err)
		c.Connectors[name] = con
		c.Connections = append(c.Connections, workflow.Connection{Name: name, Connector: name, State: "ok"})
	}
	return c
}

func shippedWorkflow(t testing.TB, name string) []byte {
	b, err := os.ReadFile("../../../demo/workflows/" + name + ".yaml")
	require.NoError(t, err)
	return b
}

func TestSamplesShowWhatWouldFail(t *testing.T) {
	t.Parallel()
	text := strings.ReplaceAll(string(shippedWorkflow(t, "counter-calls")), "item.duration_s >= 20", "item.duration >= 20")
	_, problems := Check(context.Background(), []byte(text), shippedCatalog(t), []map[string]any{{"duration_s": int64(30), "number": "+441632960141"}})
	require.Contains(t, problems[0].Message, `No sample has a field "duration" here.`)
	require.Equal(t, "Did you mean item.duration_s?", problems[0].Cure)

	text = strings.ReplaceAll(string(shippedWorkflow(t, "counter-calls")), "name: (= item.studio.name )", `name: (= repeat("x", 2001) )`)
	sample, err := item.DecodeObject([]byte(`{"duration_s": 30, "number": "+441632960141", "caller": "A", "ended": "2026-11-20T13:12:04Z", "call_id": "1", "shown_number": "x"}`))
	require.NoError(t, err)
	_, problems = Check(context.Background(), []byte(text), shippedCatalog(t), []map[string]any{sample})
	require.Len(t, problems, 1)
	require.Contains(t, problems[0].Message, "1 of 1 sample would fail here")
	require.Contains(t, problems[0].Message, "has 2001 characters; at most 2000 are taken")
}
