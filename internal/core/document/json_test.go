package document

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// JSON is read as JSON (RFC 8259), not by the rules of YAML.
func TestJSONIsReadAsJSON(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]any{
		`{"more": {"a": "\/x\u00e9\ud83c\udffa\b"}}`: map[string]any{"a": "/xé🏺\b"},
		"{\"more\": {\"a\": \"\x7f\"}}":              map[string]any{"a": "\x7f"},
		"\ufeff{\"more\": {\"a\": 1}}":               map[string]any{"a": int64(1)},
		`{"more": {"a": -0.5e1, "b": 1e3, "c": 12345678901234567890, "d": [true, null], "e": "(= {\"x\": 1} )"}}`: map[string]any{"a": int64(-5), "b": int64(1000), "c": "12345678901234567890", "d": []any{true, nil}, "e": `(= {"x": 1} )`},
		"{\"more\":\n\t{\"a\": \"# no comment\"}\n}":                                                              map[string]any{"a": "# no comment"},
		`{"more": {"yes": "no", "04": "04"}}`:                                                                     map[string]any{"yes": "no", "04": "04"},
	} {
		d, err := Parse([]byte(text))
		require.NoError(t, err, text)
		require.Equal(t, want, Value(d.At("more")), text)
	}
}

func TestWhatIsWrongWithJSONIsSaidAsPeopleMeanIt(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"{\"a\": 1,\n \"b\": 2,\n}":      "line 3, column 1: A comma stands before the closing bracket.",
		"{\"a\": [1, 2, ]}":              "A comma stands before the closing bracket.",
		"{\n  // kilns\n  \"a\": 1\n}":   "line 2, column 3: JSON has no comments.",
		"{\"a\": 1, // kilns\n\"b\": 2}": "JSON has no comments.",
		"{\"a\": {\"b\": 1":              "The JSON ends in the middle of a value.",
		`{"a": "open`:                    "The JSON ends in the middle of a value.",
		`{"a": 1} x`:                     "More text follows",
		`{"a": 1}{"b": 2}`:               "More text follows",
		`{"a": "\x"}`:                    "A backslash stands before a sign that needs none.",
		`{"a": 1, "a": 2}`:               `"a" stands here twice.`,
		"{\"a\": \"\xff\"}":              "not valid UTF-8",
		`{"a": ` + strings.Repeat("[", 80) + strings.Repeat("]", 80) + "}": "deeper than 64 levels",
	} {
		_, err := Parse([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
	for _, text := range []string{"{a: 1}", `{"a": no}`, "{}", "{'a': 1}"} { // YAML has brackets, too
		_, err := Parse([]byte(text))
		require.NoError(t, err, text)
	}
}

func TestTheCureOfWhatYAMLCutsIsSaid(t *testing.T) {
	t.Parallel()
	for text, line := range map[string]int{
		"a: 1\nb: {a: (= {\"x\": 1}) }\nc: 2\n": 2,
		"a:\n  b: (= item.x ? \"a\": \"b\" )\n": 2,
		"a: [(= item.b[0], 1) ]]\n":             1,
	} {
		_, err := Parse([]byte(text))
		var p Problem
		require.ErrorAs(t, err, &p, text)
		require.Contains(t, p.Cure, "in quotes", text)
		require.Equal(t, line, p.Line, text)
	}
	for text, want := range map[string]string{"# only this\n": "only comments", "a: \xff\n": "UTF-8", "a:\n\t- b\n": "never with tabs"} {
		_, err := Parse([]byte(text))
		require.ErrorContains(t, err, want)
	}
}

// What a person set stays as it was set where nothing was changed.
func TestEditsKeepTheLayout(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ text, want string }{
		"blank lines and comments": {
			"# The head\n\nname: jug     # aligned\nsize: 3       # with this\n\n\nmore:\n\n  a: 1\n\n  # of b\n  b: 2\n",
			"# The head\n\nname: tall jug # aligned\nsize: 3       # with this\n\n\nmore:\n\n  a: 1\n\n  # of b\n  b: 2\n",
		},
		"four blanks":        {"name: jug\nmore:\n    a: 1\n    list:\n        - x\n        - y:   2\n", "name: tall jug\nmore:\n    a: 1\n    list:\n        - x\n        - y:   2\n"},
		"lists at their key": {"name: jug\nlist:\n- a\n-  b\nmore: {a: 1,   b: 2}\n", "name: tall jug\nlist:\n- a\n-  b\nmore: {a: 1,   b: 2}\n"},
		"folded text":        {"name: jug\nabout: >\n  One line\n  and another\n\n  and a part\n\nmore:\n  a: 'x'\n  b: \"y\"\n", "name: tall jug\nabout: >\n  One line\n  and another\n\n  and a part\n\nmore:\n  a: 'x'\n  b: \"y\"\n"},
		"lines of Windows":   {"name: jug\r\n\r\nsize: 3\r\n", "name: tall jug\r\n\r\nsize: 3\r\n"},
		"JSON":               {"{\n    \"name\": \"jug\",\n\n    \"more\": {\"a\": 1,  \"b\": [1, 2]}\n}\n", "{\n    \"name\": \"tall jug\",\n\n    \"more\": {\"a\": 1,  \"b\": [1, 2]}\n}\n"},
		"JSON on one line":   {`{"name":"jug","more":{"a":1}}`, "{\"name\": \"tall jug\",\"more\": {\"a\": 1}}\n"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d, err := Parse([]byte(c.text))
			require.NoError(t, err)
			same, err := d.Encode()
			require.NoError(t, err)
			require.Equal(t, c.text, string(same), "nothing was changed")
			require.NoError(t, d.Set("", "name", "tall jug"))
			out, err := d.Encode()
			require.NoError(t, err)
			require.Equal(t, c.want, string(out))
		})
	}
}

// A list keeps its layout around what is put in, taken out and moved.
func TestListsKeepTheLayoutAround(t *testing.T) {
	t.Parallel()
	const text = "steps:\n\n  # the first\n  - name: one\n    note:   aligned\n\n  - name: two\n    type:  shape\n\n  # the last\n  - name: three\n"
	edit := func(change func(d *Document)) string {
		d, err := Parse([]byte(text))
		require.NoError(t, err)
		change(d)
		out, err := d.Encode()
		require.NoError(t, err)
		again, err := Parse(out)
		require.NoError(t, err)
		require.Equal(t, Value(d.root), Value(again.root))
		return string(out)
	}
	require.Equal(t, "steps:\n\n  # the first\n  - name: one\n    note:   aligned\n\n  - name: new\n  - name: two\n    type:  shape\n\n  # the last\n  - name: three\n",
		edit(func(d *Document) { require.NoError(t, d.Insert("steps", 1, Node(map[string]any{"name": "new"}))) }))
	require.Equal(t, "steps:\n\n  # the first\n  - name: one\n    note:   aligned\n\n  # the last\n  - name: three\n",
		edit(func(d *Document) { _, err := d.Remove("steps", 1); require.NoError(t, err) }))
	require.Contains(t, edit(func(d *Document) {
		n, err := d.Remove("steps", 2)
		require.NoError(t, err)
		require.NoError(t, d.Insert("steps", 0, n))
	}), "    note:   aligned\n")
}

// Whatever is changed, what is written reads as what was changed.
func FuzzLayout(f *testing.F) {
	f.Add("name: jug  # x\n\nmore:\n    a: 1\n", uint8(1))
	f.Add("- a\n\n-   b\n- c: {d: 1}\n", uint8(0))
	f.Add("{\"a\": [1,\n\n 2]}", uint8(2))
	f.Fuzz(func(t *testing.T, text string, at uint8) {
		d, err := Parse([]byte(text))
		if err != nil {
			return
		}
		switch d.root.Kind {
		case yaml.MappingNode:
			if len(d.root.Content) > 0 && at%2 == 0 {
				_ = d.Set("", d.root.Content[int(at)%(len(d.root.Content)/2)*2].Value, "changed")
			} else {
				_ = d.Set("", "new", map[string]any{"x": int64(1)})
			}
		case yaml.SequenceNode:
			d.root.Content = append(d.root.Content[:min(int(at), len(d.root.Content))], Node("new"))
		default:
			return
		}
		want := Value(d.root)
		out, err := d.Encode()
		if err != nil {
			return
		}
		again, err := ParseWithin(out, 2*len(out)+1)
		if err == nil {
			require.Equal(t, want, Value(again.root), "%q became %q", text, out)
		}
	})
}

// Places are counted on from the last one, over lines and within a long one.
func TestPlacesAreThoseOfTheText(t *testing.T) {
	t.Parallel()
	n, err := JSON([]byte("{\"é\": [1, \"ö\", 2],\n \"b\": 3, \"c\": {\"d\":\n4}}"))
	require.NoError(t, err)
	places := []string{}
	var walk func(*yaml.Node)
	walk = func(n *yaml.Node) {
		if n.Kind == yaml.ScalarNode {
			places = append(places, fmt.Sprintf("%s %d:%d", n.Value, n.Line, n.Column))
		}
		for _, c := range n.Content {
			walk(c)
		}
	}
	walk(n)
	require.Equal(t, []string{"é 1:2", "1 1:8", "ö 1:11", "2 1:16", "b 2:2", "3 2:7", "c 2:10", "d 2:16", "4 3:1"}, places)
}
