package workflow

import (
	"os"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
)

func shipped(t testing.TB) *Catalog {
	c := &Catalog{Connectors: map[string]*connector.Connector{}}
	for _, name := range []string{"tables", "contacts", "text-model"} {
		b, err := os.ReadFile("../../../connectors/" + name + ".yaml")
		require.NoError(t, err)
		con, err := connector.Parse(b)
		require.NoError(t, err)
		c.Connectors[name] = con
		c.Connections = append(c.Connections, Connection{Name: name, Connector: name, State: "ok"})
	}
	return c
}

func example(t testing.TB, name string) []byte {
	b, err := os.ReadFile("../../../demo/workflows/" + name + ".yaml")
	require.NoError(t, err)
	return b
}

func TestTheShippedWorkflowsReadAsSentences(t *testing.T) {
	t.Parallel()
	c := shipped(t)
	w, problems := Check(example(t, "counter-calls"), c)
	require.Empty(t, problems)
	said := []string{TriggerSentence(w.Trigger)}
	for i := range w.Steps {
		said = append(said, c.Sentence(&w.Steps[i]))
	}
	require.Equal(t, []string{
		"Whenever its address is called, once for each call id",
		"Keep items where duration s is at least 20",
		"Keep call id, caller, duration s, ended and said, set number",
		"Find or make the studio by number",
		"Add a row to Calls in Counter",
		"Go one way: words",
	}, said)
}

func TestEditsKeepTheRestAsItStands(t *testing.T) {
	t.Parallel()
	out, _, err := Apply(example(t, "counter-calls"), []Edit{
		{Op: "set", Step: "real", Key: "settings.where", Value: "item.duration_s >= 30"},
		{Op: "rename", Step: "studio", Value: "caller_studio"},
		{Op: "insert", To: 1, Value: map[string]any{"name": "short", "type": "shape", "settings": map[string]any{"keep": "all"}}},
		{Op: "move", Step: "short", To: 0},
		{Op: "trigger", Key: "settings.for", Value: "2d"},
		{Op: "set", Key: "title", Value: "Calls"},
	})
	require.NoError(t, err)
	w, problems := Check(out, shipped(t))
	require.Empty(t, problems)
	require.Equal(t, []string{"short", "real", "call", "caller_studio", "noted", "heard", "gist", "filed"}, w.Names())
	require.Equal(t, "studio", w.Steps[3].Was)
	require.Contains(t, string(out), "# the switchboard sometimes reports a call twice")
	require.Contains(t, string(out), "# only one of the two number fields is filled in")
	for _, bad := range []Edit{{Op: "remove", Step: "none"}, {Op: "jump"}, {Op: "rename", Step: "real", Value: "Not A Name"}, {Op: "rename", Step: "real", Value: "call"}, {Op: "insert", Value: "x"}} {
		_, _, err := Apply(example(t, "counter-calls"), []Edit{bad})
		require.Error(t, err)
	}
}

func TestRenamingFollowsReferences(t *testing.T) {
	t.Parallel()
	text := "format: young-trellis/1\nname: a\ntrigger: {type: manual}\nsteps:\n  - {name: one, type: shape, settings: {keep: all}}\n  - {name: two, type: filter, settings: {where: steps.one.x > steps.one_more.y}}\n"
	out, _, err := Apply([]byte(text), []Edit{{Op: "rename", Step: "one", Value: "first"}})
	require.NoError(t, err)
	require.Contains(t, string(out), "steps.first.x > steps.one_more.y")
}

func TestDifferencesAreSentences(t *testing.T) {
	t.Parallel()
	c := shipped(t)
	before, _, _ := Read(example(t, "counter-calls"))
	text, _, err := Apply(example(t, "counter-calls"), []Edit{{Op: "set", Step: "real", Key: "settings.where", Value: "item.duration_s >= 30"}, {Op: "remove", Step: "noted"}, {Op: "rename", Step: "call", Value: "kept"}})
	require.NoError(t, err)
	after, _, _ := Read(text)
	var said []string
	for _, d := range Diff(before, after, c) {
		said = append(said, d.Sentence)
	}
	require.Equal(t, []string{
		"Gone: Add a row to Calls in Counter.",
		"Line 1, Keep items where duration s is at least 30: where is “item.duration_s >= 30”, was “item.duration_s >= 20”.",
		"Line 2, Keep call id, caller, duration s, ended and said, set number: name is “kept”, was “call”.",
	}, said)
	require.Empty(t, Diff(before, before, c))
}

// Every key that changes what happens is told.
func TestEveryDifferenceIsTold(t *testing.T) {
	t.Parallel()
	const text = "format: young-trellis/1\nname: loads\nlabel: item.piece\nfind_by: [item.piece]\nabout: Loads\ntrigger: {type: manual}\nvars: {limit: 3, odd: a; b}\nsteps:\n  - {name: one, type: filter, settings: {where: item.x > vars.limit}}\n  - {name: two, type: http, settings: {url: https://ottermere.example}, parallel: 2, retry: {attempts: 3}}\n"
	before, _, problems := Read([]byte(text))
	require.Empty(t, problems)
	for change, want := range map[string][]string{
		"limit: 3=>limit: 400":                             {"The variable limit is “400”, was “3”."},
		"limit: 3=>limit: 0":                               {"The variable limit is “0”, was “3”."},
		"limit: 3, odd: a; b=>odd: c; d":                   {"The variable limit is gone, was “3”.", "The variable odd is “c; d”, was “a; b”."},
		"find_by: [item.piece]=>find_by: [item.a, item.b]": {"Items are found by “item.a, item.b”, was “item.piece”."},
		"find_by: [item.piece]\n=>":                        {"Items are found by nothing, was “item.piece”."},
		"about: Loads=>about: All loads":                   {"It is about: All loads."},
		"label: item.piece\n=>":                            {"Rows are no longer labelled by “item.piece”."},
		"label: item.piece=>label: item.id":                {"Rows are labelled by “item.id”, was “item.piece”."},
		"parallel: 2=>parallel: 4":                         {"parallel is “4”, was “2”."},
		", parallel: 2=>":                                  {"parallel is not set, was “2”."},
		"attempts: 3=>attempts: 5, first: 1s":              {"retry.attempts is “5”, was “3”; retry.first is “1s”, was not set."},
		"type: filter=>off: true, type: filter":            {"switched off."},
		"name: loads=>name: loads # a comment":             nil,
	} {
		old, fresh, _ := strings.Cut(change, "=>")
		require.Contains(t, text, old)
		after, _, problems := Read([]byte(strings.Replace(text, old, fresh, 1)))
		require.Empty(t, problems, change)
		said := Diff(before, after, shipped(t))
		require.Len(t, said, len(want), change)
		for i, w := range want {
			require.Contains(t, said[i].Sentence, w, change)
		}
	}
}

func TestStepNumbersAreNeverReused(t *testing.T) {
	t.Parallel()
	w := &Workflow{Steps: []Step{{Name: "a"}, {Name: "b"}}}
	first := w.Numbers(nil)
	require.Equal(t, map[string]uint16{"a": 1, "b": 2}, first)
	w = &Workflow{Steps: []Step{{Name: "c"}, {Name: "d", Was: "b"}}}
	second := w.Numbers(first)
	require.Equal(t, uint16(3), second["c"])
	require.Equal(t, uint16(2), second["d"], "a renamed step keeps its number")
	require.Equal(t, uint16(4), (&Workflow{Steps: []Step{{Name: "e"}}}).Numbers(second)["e"])
}

func TestTheSchemaAcceptsWhatWeShip(t *testing.T) {
	t.Parallel()
	schema, err := form.Compile(Schema(shipped(t)))
	require.NoError(t, err)
	validate := func(text string) error {
		var v any
		require.NoError(t, yaml.Unmarshal([]byte(text), &v))
		b, err := item.Encode(v)
		require.NoError(t, err)
		raw, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
		require.NoError(t, err)
		return schema.Validate(raw)
	}
	for _, name := range []string{"counter-calls", "kiln-list"} {
		require.NoError(t, validate(string(example(t, name))))
	}
	require.Error(t, validate(strings.Replace(string(example(t, "kiln-list")), "type: filter", "type: filtre", 1)))
	require.Error(t, validate(strings.Replace(string(example(t, "kiln-list")), "where:", "wher:", 1)))
}

func FuzzCheck(f *testing.F) {
	f.Add(string(example(f, "counter-calls")))
	c := shipped(f)
	f.Fuzz(func(t *testing.T, text string) {
		w, problems := Check([]byte(text), c)
		if w != nil && !HasErrors(problems) {
			_, err := Compile(w, c)
			require.NoError(t, err, "what the checker lets through compiles")
		}
	})
}
