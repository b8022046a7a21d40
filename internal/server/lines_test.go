package server

import (
	"context"
	"encoding/json"
	"flag"
	"io/fs"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/api"
	"youngtrellis/connectors"
	"youngtrellis/internal/core/connector"
)

var rewrite = flag.Bool("write", false, "write what the console's tests find lines in")

// The console finds lines by words; its tests find them in what is shipped.
func TestWhatTheConsoleFindsLinesInIsCurrent(t *testing.T) {
	t.Parallel()
	const path = "../../web/src/workbench/lines.fixture.json"
	res, err := (&Server{}).ListKinds(context.Background(), api.ListKindsRequestObject{})
	require.NoError(t, err)
	all := struct {
		Kinds      []api.Kind      `json:"kinds"`
		Connectors []api.Connector `json:"connectors"`
	}{Kinds: res.(api.ListKinds200JSONResponse).Steps}
	for i := range all.Kinds {
		all.Kinds[i].Settings = titles(all.Kinds[i].Settings)
	}
	files, err := fs.Glob(connectors.Files, "*.yaml")
	require.NoError(t, err)
	for _, name := range files {
		text, err := connectors.Files.ReadFile(name)
		require.NoError(t, err)
		c, err := connector.Parse(text)
		require.NoError(t, err)
		d := (&Server{}).described(c, false)
		d.SignIn, d.Account, d.Triggers, d.Document = []api.Way{}, []api.Property{}, []api.ConnectorTrigger{}, nil
		for i := range d.Actions {
			d.Actions[i].Fields = titles(d.Actions[i].Fields)
		}
		all.Connectors = append(all.Connectors, d)
	}
	now, err := json.MarshalIndent(all, "", " ")
	require.NoError(t, err)
	if *rewrite {
		require.NoError(t, os.WriteFile(path, append(now, '\n'), 0o644))
	}
	was, err := os.ReadFile(path)
	require.NoError(t, err)
	require.JSONEq(t, string(was), string(now), "go test ./internal/server -run FindsLines -write writes it again")
}

// titles leaves of properties what they are called, and what they hold.
func titles(list []api.Property) []api.Property {
	out := []api.Property{}
	for _, p := range list {
		var schema struct {
			Title string `json:"title"`
			Hint  string `json:"hint,omitempty"`
		}
		_ = json.Unmarshal(p.Schema, &schema)
		text, _ := json.Marshal(schema)
		out = append(out, api.Property{Name: p.Name, Required: p.Required, Schema: text})
	}
	return out
}
