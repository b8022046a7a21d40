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
	for _, name := range []string{"tables", "contacts", "text-model"} {
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
	_, problems := Check(context.Background(), []byte(text), shippedCatalog(t), []map[string]any{{"duration_s": int64(30), "number": "+441632960141", "call_id": "1"}})
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

func TestSamplesShowTheirLanes(t *testing.T) {
	t.Parallel()
	said := func(by string, samples ...map[string]any) []string {
		text := "format: young-trellis/1\nname: calls\ntrigger: {type: manual}\nlimits: {one_at_a_time_by: '" + by + "'}\nsteps:\n  - {name: one, type: shape, settings: {keep: [n]}}\n"
		_, problems := Check(context.Background(), []byte(text), shippedCatalog(t), samples)
		out := []string{}
		for _, p := range problems {
			require.Equal(t, 4, p.Line, p.Message)
			out = append(out, p.Severity+": "+p.Message)
		}
		return out
	}
	one, two := map[string]any{"person": "ann", "n": int64(1)}, map[string]any{"person": nil, "n": int64(0)}
	require.Empty(t, said("trigger.person", one, two), "one that is in none may be meant")
	require.Equal(t, []string{"warning: It gives nothing for any sample: their runs would be in no lane."}, said("trigger.persn", one, two))
	got := said("1 / trigger.n", one, two)
	require.Len(t, got, 1)
	require.Contains(t, got[0], "warning: Sample 2 could not start a run: the lane of the run cannot be told: ")
}

// What samples show is told also where something else is wrong, all of it at
// once, and of every name that a field can be read by.
func TestSamplesShowEverythingAtOnce(t *testing.T) {
	t.Parallel()
	const head = "format: young-trellis/1\nname: calls\nlabel: item.calr\nfind_by: [item.number, item.cal_id]\ntrigger: {type: manual}\nsteps:\n"
	samples := []map[string]any{{"caller": "A", "number": "+441632960141", "n": "x"}, {"caller": "", "number": "ask", "n": int64(2)}}
	said := func(steps string) []string {
		_, problems := Check(context.Background(), []byte(head+steps), shippedCatalog(t), samples)
		var out []string
		for _, p := range problems {
			out = append(out, strings.TrimSpace(p.Message+" "+p.Cure))
		}
		return out
	}
	got := said(`  - {name: one, type: shape, settings: {set: {who: (= item.caller )}}}
  - {name: two, type: shape, settings: {set: {a: (= steps.one.whoo ), b: (= trigger.numbr )}}}
  - {name: sent, type: tables.append, connection: tables, on_error: set_aside, input: {workbook: wb_1, tab: tb_1, values: {a: (= item.n * 2 ), b: (= steps.two.a )}}}
`)
	require.Contains(t, got, `No sample has a field "calr" at any step. Did you mean item.caller?`)
	require.Contains(t, strings.Join(got, "\n"), `No sample has a field "cal_id" at any step.`)
	require.Contains(t, got, `No sample has a field "whoo" here. Did you mean steps.one.who?`)
	require.Contains(t, got, `No sample has a field "numbr" here. Did you mean trigger.number?`)
	require.Contains(t, strings.Join(got, "\n"), "1 of 2 samples would fail here: ")

	got = said(`  - {name: one, type: filter, settings: {where: item.caler == "A"}}
  - {name: two, type: shap}
  - {name: three, type: filter, settings: {where: item.gone}}
`)
	require.Contains(t, got, `No sample has a field "caler" here. Did you mean item.caller?`, "although a later step has an error")
	require.NotContains(t, strings.Join(got, "\n"), "gone", "what comes after an error is not known")
}

// What a field does not take is told beneath that field.
func TestRulesOfFieldsAreToldWhereTheyAre(t *testing.T) {
	t.Parallel()
	text := "format: young-trellis/1\nname: calls\ntrigger: {type: manual}\nsteps:\n  - {name: sent, type: hall.send, connection: hall, on_error: set_aside, input: {n: (= item.n )}}\n"
	_, problems := Check(context.Background(), []byte(text), catalog(t), []map[string]any{{"n": "many"}, {"n": int64(2)}})
	require.Len(t, problems, 1)
	require.Equal(t, "steps[0].input.n", problems[0].Path)
	require.Contains(t, problems[0].Message, "1 of 2 samples would fail here: ")
}
