package workflow

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const readingText = `format: young-trellis/1
name: reading
trigger: {type: manual}
steps:
  - name: one # the first
    type: shape
    settings: {set: {note: "steps.one.x"}}
  - name: two
    type: branch
    on_error: fallback
    settings:
      cases:
        - name: much
          when: steps.one.x > 2 and item.steps.one != "steps.one"
          steps:
            - name: inner
              type: shape
              settings:
                set:
                  a: (= steps.one.x ) and steps.one.x
                  b: {c: ["(= column(\"one\")[0].x )"]}
      else: []
    fallback:
      - name: rescue
        type: no_such.action
        input: {deep: [{text: "(= steps.inner.a + steps.one.x )"}]}
  - name: broken
    type: filter
    settings: {where: "steps.one.x >", also: steps.one}
on_failure:
  - {name: told, type: filter, settings: {where: steps.one.x == 1}}
`

// A step's new name is followed wherever it is read, within steps too, and where
// something else is wrong with a step; text that only looks so is left.
func TestReferencesAreFollowedByParsing(t *testing.T) {
	t.Parallel()
	out, n, err := Apply([]byte(readingText), []Edit{{Op: "rename", Step: "one", Value: "first"}})
	require.NoError(t, err)
	require.Equal(t, 5, n)
	for _, want := range []string{
		`note: "steps.one.x"`, "- name: first # the first", `steps.first.x > 2 and item.steps.one != "steps.one"`, "(= steps.first.x ) and steps.one.x",
		`column(\"first\")[0].x`, "(= steps.inner.a + steps.first.x )", `where: steps.first.x == 1`, `where: "steps.one.x >"`,
	} {
		require.Contains(t, string(out), want)
	}
	same, _, err := Apply([]byte(readingText), []Edit{{Op: "set", Step: "one", Key: "name", Value: "first"}})
	require.NoError(t, err)
	require.Equal(t, string(out), string(same), "a name that is set is a step renamed")
}

// Cases are edited as lines of their own.
func TestEditsOfLimits(t *testing.T) {
	t.Parallel()
	edited := func(text string, edits ...Edit) string {
		out, _, err := Apply([]byte(text), edits)
		require.NoError(t, err)
		return string(out)
	}
	with := edited(readingText, Edit{Op: "set", Key: "limits.parallel_runs", Value: int64(3)}, Edit{Op: "set", Key: "limits.deadline", Value: "2h"})
	w, _, problems := Read([]byte(with))
	require.Empty(t, problems)
	require.Equal(t, map[string]any{"parallel_runs": int64(3), "deadline": "2h"}, w.Limits)
	without := edited(with, Edit{Op: "set", Key: "limits.deadline"}, Edit{Op: "set", Key: "limits.one_at_a_time_by"})
	w, _, _ = Read([]byte(without))
	require.Equal(t, map[string]any{"parallel_runs": int64(3)}, w.Limits)
	require.Equal(t, readingText, edited(readingText, Edit{Op: "set", Key: "limits.deadline"}), "what is not there is not taken away")
	over, err := Overtaken([]byte(with), []Edit{{Op: "set", Key: "limits.deadline", Value: "3h", Seen: &Seen{}}, {Op: "set", Key: "limits.parallel_runs", Value: int64(4), Seen: &Seen{Value: int64(3)}}})
	require.NoError(t, err)
	require.Len(t, over, 1)
	require.Equal(t, "limits.deadline", over[0].Key)
}

func TestEditsOfCases(t *testing.T) {
	t.Parallel()
	few := map[string]any{"name": "few", "when": "item.n < 2"}
	for name, c := range map[string]struct {
		edits []Edit
		lines []string
		err   string
	}{
		"a new one":           {edits: []Edit{{Op: "insert", In: "two", To: 0, Value: few}}, lines: []string{"one", "two", "-few", "-much", "inner", "-else", "-fallback", "rescue", "broken", "-on_failure", "told"}},
		"one more at the end": {edits: []Edit{{Op: "insert", In: "two", To: 9, Value: few}}, lines: []string{"one", "two", "-much", "inner", "-few", "-else", "-fallback", "rescue", "broken", "-on_failure", "told"}},
		"moved":               {edits: []Edit{{Op: "insert", In: "two", To: 9, Value: few}, {Op: "move", Step: "two/few", To: 0}}, lines: []string{"one", "two", "-few", "-much", "inner", "-else", "-fallback", "rescue", "broken", "-on_failure", "told"}},
		"its name":            {edits: []Edit{{Op: "rename", Step: "two/much", Value: "lots"}}, lines: []string{"one", "two", "-lots", "inner", "-else", "-fallback", "rescue", "broken", "-on_failure", "told"}},
		"its condition":       {edits: []Edit{{Op: "set", Step: "two/much", Key: "when", Value: "true"}}, lines: []string{"one", "two", "-much", "inner", "-else", "-fallback", "rescue", "broken", "-on_failure", "told"}},
		"taken out":           {edits: []Edit{{Op: "remove", Step: "two/much"}}, lines: []string{"one", "two", "-else", "-fallback", "rescue", "broken", "-on_failure", "told"}},
		"else taken out":      {edits: []Edit{{Op: "remove", Step: "two/else"}}, lines: []string{"one", "two", "-much", "inner", "-fallback", "rescue", "broken", "-on_failure", "told"}},
		"else put back":       {edits: []Edit{{Op: "remove", Step: "two/else"}, {Op: "insert", In: "two", Value: map[string]any{"name": "else"}}}, lines: []string{"one", "two", "-much", "inner", "-else", "-fallback", "rescue", "broken", "-on_failure", "told"}},
		"no more fallback":    {edits: []Edit{{Op: "remove", Step: "two/fallback"}}, lines: []string{"one", "two", "-much", "inner", "-else", "broken", "-on_failure", "told"}},
		"nothing on failure":  {edits: []Edit{{Op: "remove", Step: "/on_failure"}}, lines: []string{"one", "two", "-much", "inner", "-else", "-fallback", "rescue", "broken"}},
		"a branch from none":  {edits: []Edit{{Op: "insert", Value: map[string]any{"name": "ways", "type": "branch"}}, {Op: "insert", In: "ways", Value: few}}, lines: []string{"ways", "-few", "one", "two", "-much", "inner", "-else", "-fallback", "rescue", "broken", "-on_failure", "told"}},
		"a name twice":        {edits: []Edit{{Op: "insert", In: "two", Value: map[string]any{"name": "much"}}}, err: `there is a case "much" already`},
		"named as else":       {edits: []Edit{{Op: "rename", Step: "two/much", Value: "else"}}, err: `there is a case "else" already`},
		"no name at all":      {edits: []Edit{{Op: "insert", In: "two", Value: map[string]any{"name": "A b"}}}, err: "cannot be the name of a case"},
		"a step as a case":    {edits: []Edit{{Op: "insert", In: "two", Value: map[string]any{"name": "x", "type": "filter"}}}, err: "name the one that the new step belongs to, as two/CASE"},
		"out of its branch":   {edits: []Edit{{Op: "move", Step: "two/much", In: "/"}}, err: "a case stays in its branch"},
		"no such case":        {edits: []Edit{{Op: "remove", Step: "two/none"}}, err: `the step "two" has no "none"`},
		"of no such step":     {edits: []Edit{{Op: "remove", Step: "zwei/none"}}, err: `there is no step "zwei"`},
		"of what has none":    {edits: []Edit{{Op: "set", Step: "one/much", Key: "when", Value: "true"}}, err: `there is no step "one/much"`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			out, _, err := Apply([]byte(readingText), c.edits)
			if c.err != "" {
				require.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			require.Equal(t, c.lines, outline(t, out), string(out))
		})
	}
}

func outline(t *testing.T, text []byte) []string {
	w, _, problems := Read(text)
	require.NotNil(t, w, "%v", problems)
	var got []string
	for l := range w.Lines() {
		if l.Step == nil {
			got = append(got, "-"+l.Block.Name)
		} else {
			got = append(got, l.Step.Name)
		}
	}
	return got
}

// What is copied from one place is pasted at another, here or in another
// workflow, under names of its own, and what its lines read of each other follows.
func TestLinesAreCopiedAndPasted(t *testing.T) {
	t.Parallel()
	texts := Texts([]byte(readingText))
	require.Contains(t, texts["one"], "# the first")
	out, n, err := Apply([]byte(readingText), []Edit{{Op: "paste", To: 9, Value: texts["one"] + texts["two"]}})
	require.NoError(t, err)
	require.Equal(t, 5, n)
	require.Equal(t, []string{"one", "two", "-much", "inner", "-else", "-fallback", "rescue", "broken", "one_2", "two_2", "-much", "inner_2", "-else", "-fallback", "rescue_2", "-on_failure", "told"}, outline(t, out))
	_, pasted, _ := strings.Cut(string(out), "name: one_2")
	for _, want := range []string{"steps.one_2.x > 2", `note: "steps.one.x"`, "steps.inner_2.a + steps.one_2.x"} {
		require.Contains(t, pasted, want)
	}

	into := "format: young-trellis/1\nname: other\ntrigger: {type: manual}\nsteps: []\n"
	out, _, err = Apply([]byte(into), []Edit{{Op: "paste", Value: texts["two"]}})
	require.NoError(t, err)
	require.Equal(t, []string{"two", "-much", "inner", "-else", "-fallback", "rescue"}, outline(t, out))

	out, _, err = Apply([]byte(readingText), []Edit{{Op: "paste", Step: "two/much", Value: texts["two/much"] + "- {name: else, when: \"true\", steps: []}"}})
	require.NoError(t, err)
	require.Equal(t, []string{"one", "two", "-much", "inner", "-much_2", "inner_2", "-else_2", "-else", "-fallback", "rescue", "broken", "-on_failure", "told"}, outline(t, out))

	out, _, err = Apply([]byte(readingText), []Edit{{Op: "paste", Step: "two", Value: texts["two/much"]}})
	require.NoError(t, err)
	require.Equal(t, []string{"one", "two", "-much", "inner", "-much_2", "inner_2", "-else", "-fallback", "rescue", "broken", "-on_failure", "told"}, outline(t, out))

	out, _, err = Apply([]byte(into), []Edit{{Op: "paste", Value: readingText}})
	require.NoError(t, err)
	require.Equal(t, []string{"one", "two", "-much", "inner", "-else", "-fallback", "rescue", "broken"}, outline(t, out), "of a whole workflow its steps are taken")

	for text, want := range map[string]struct{ line, err string }{
		`{"name": "Über Mut", "type": "filter", "settings": {"where": "true"}}`: {line: "ber_mut"},
		"- type: shape\r\n  settings: {}\r\n":                                   {line: "shape"},
		"- type: a.find_row":                                                    {line: "find_row"},
		"- {name: " + strings.Repeat("x", 60) + ", type: filter}":               {line: "filter"},
		" ":                       {err: "there is nothing to paste"},
		"just words":              {err: "what is pasted is no text of lines"},
		"- name: x":               {err: "line 1 of what is pasted has no type"},
		"- {type: filter}\n- [1]": {err: "line 2 of what is pasted has no type"},
		"a: [":                    {err: "cannot be read as YAML"},
		texts["two/much"]:         {err: "choose the branch"},
		strings.Repeat("- {type: filter}\n", 501): {err: "at most 500 can be pasted"},
	} {
		out, _, err := Apply([]byte(into), []Edit{{Op: "paste", Value: text}})
		if want.err != "" {
			require.ErrorContains(t, err, want.err)
			continue
		}
		require.NoError(t, err, text)
		require.Equal(t, []string{want.line}, outline(t, out))
	}
}

// Whoever edits on an older draft is told where somebody else was faster, and
// only there.
func TestEditsAreOvertakenOnlyAtTheirPlaces(t *testing.T) {
	t.Parallel()
	text := []byte("format: young-trellis/1\nname: loads\ntitle: Loads\ntrigger: {type: webhook, settings: {key: item.id}}\nsteps:\n  - {name: keep, type: filter, settings: {where: item.x > 1}}\n  - {name: load, type: shape, settings: {keep: [a, b]}}\n")
	seen := func(op, step, key string, was, now any) Edit {
		return Edit{Op: op, Step: step, Key: key, Value: now, Seen: &Seen{was}}
	}
	for _, e := range []Edit{
		seen("set", "keep", "settings.where", "item.x > 1", "item.x > 2"),
		seen("set", "keep", "settings.where", "item.x > 0", "item.x > 1"), // it is so already
		seen("set", "load", "settings.keep", []any{"a", "b"}, []any{"a"}),
		seen("set", "keep", "note", nil, "why"),
		seen("trigger", "", "settings.key", "item.id", nil),
		seen("set", "", "title", "Loads", "More loads"),
		{Op: "set", Step: "keep", Key: "settings.where", Value: "false"}, // it tells nothing of what was seen
	} {
		out, err := Overtaken(text, []Edit{e})
		require.NoError(t, err)
		require.Empty(t, out, "%+v", e)
	}
	for _, e := range []Edit{
		seen("set", "keep", "settings.where", "item.x > 0", "item.x > 2"),
		seen("set", "load", "settings.keep", []any{"a"}, "all"),
		seen("set", "keep", "settings.where", nil, "item.x > 2"),
		seen("set", "gone", "settings.where", "true", "false"),
		seen("trigger", "", "settings.key", nil, "item.call"),
	} {
		out, err := Overtaken(text, []Edit{e})
		require.NoError(t, err)
		require.Equal(t, []Edit{e}, out)
	}
	_, err := Overtaken([]byte("{"), nil)
	require.Error(t, err)
}
