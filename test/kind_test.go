package test

import (
	"encoding/json"
	"fmt"
	"maps"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/ottermere"
)

// weigh is a step kind that only this test knows: all that there is to one.
type weigh struct {
	Of    *expr.Program `form:"of,required" title:"Weight of" help:"An expression that gives kilograms." example:"item.kg"`
	Most  int           `form:"most" title:"At most" default:"30" min:"1" max:"500"`
	Field string        `form:"field" title:"As the field" default:"weighed" pattern:"^[a-z]+$"`
}

func init() {
	steps.Register(steps.New(steps.Info{Type: "weigh", Title: "Weigh", Help: "Holds back what is too heavy for a shelf."},
		func(w *weigh) string {
			if w.Of == nil {
				return "Weigh … (to fill in)"
			}
			return "Weigh " + w.Of.Words()
		},
		func(w *weigh) (steps.Operator, error) { return w, nil }))
}

// Apply implements steps.Each.
func (w *weigh) Apply(scope *expr.Scope) (steps.Result, error) {
	v, err := w.Of.Eval(scope)
	if err != nil {
		return steps.Result{}, err
	}
	n, _ := strconv.ParseFloat(fmt.Sprint(v), 64)
	if n > float64(w.Most) {
		return steps.Result{Held: true, Text: "too heavy"}, nil
	}
	fields := maps.Clone(scope.Item)
	fields[w.Field] = v
	return steps.Result{Fields: fields, Text: "light enough"}, nil
}

// A kind of step is one file and one line: from there on the checker, the schema,
// the rehearsal, a run, its lattice and the command line know it.
func TestAStepKindIsOneFileAndOneLine(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	document := func(settings string) string {
		return "format: young-trellis/1\nname: shelves\ntrigger: {type: manual}\nsteps:\n" +
			"  - name: each\n    type: loop\n    settings: {size: 1, steps: [{name: weighed, type: weigh, settings: " + settings + "}]}\n"
	}
	// The checker, with places, from the tags.
	for settings, want := range map[string]string{
		"{}":                           "Weight of is required",
		"{of: item.kg, mots: 3}":       "Did you mean most?",
		"{of: item.kg, most: 900}":     "500",
		"{of: item.kg, field: A b}":    "field",
		"{of: 'item.kg +'}":            "of",
		"{of: 'steps.nothing.kg'}":     "nothing",
		"{of: item.kg, most: [heavy]}": "most",
	} {
		c, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: document(settings)}))
		require.NoError(t, err, settings)
		text, _ := json.Marshal(c.Problems)
		require.Contains(t, string(text), want, settings)
		res, err := w.Client.DeleteWorkflow(ctx, "shelves")
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
	}
	made, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: document("{of: item.kg}")}))
	require.NoError(t, err)
	require.Empty(t, made.Problems)
	out, code := command(t, w, "", "workflow", "show", "shelves")
	require.Zero(t, code, out)
	require.Contains(t, out, "1.1  Weigh kg")
	out, code = command(t, w, "", "workflow", "schema")
	require.Zero(t, code)
	var schema map[string]any
	require.NoError(t, json.Unmarshal([]byte(out), &schema), "what editors read is an object")
	require.Equal(t, "https://json-schema.org/draft/2020-12/schema", schema["$schema"])
	require.True(t, strings.Contains(out, `"weigh"`) && strings.Contains(out, "An expression that gives kilograms."))
	connectors, err := ottermere.Answer[map[string]any](w.Client.ConnectorSchema(ctx))
	require.NoError(t, err)
	require.NotEmpty(t, connectors["properties"])

	_, err = ottermere.Answer[api.Sample](w.Client.AddSample(ctx, "shelves", api.NewSample{Fields: fieldsOf(t, `{"kg": 40}`)}))
	require.NoError(t, err)
	r, err := ottermere.Answer[api.Rehearsal](w.Client.Rehearse(ctx, "shelves", api.Rehearse{}))
	require.NoError(t, err)
	require.Equal(t, api.RunState("succeeded"), r.State, "%v", r.Message)

	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "shelves", &api.GoLiveParams{}))
	require.NoError(t, err)
	s, err := ottermere.Answer[api.Started](w.Client.StartWorkflow(ctx, "shelves", api.Items{Items: &[]api.Fields{fieldsOf(t, `{"kg": 40}`), fieldsOf(t, `{"kg": 12}`)}}))
	require.NoError(t, err)
	run := ended(t, ctx, w, s.Run)
	require.Equal(t, api.RunState("succeeded"), run.Run.State, run.Run.Message)
	require.Equal(t, map[string]int{"held_back": 1, "passed": 1}, fates(t, ctx, w, run, "weighed"))
	o, err := ottermere.Answer[api.OpenedCell](w.Client.OpenCell(ctx, s.Run, "1", "weighed"))
	require.NoError(t, err)
	require.Equal(t, "light enough", o.Cell.Text)
	require.JSONEq(t, `{"kg": 12, "weighed": 12}`, string(*o.After))
}

func fieldsOf(t *testing.T, text string) (f api.Fields) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), &f))
	return f
}
