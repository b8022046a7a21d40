package workflow

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/document"
)

// most are the steps that can be pasted at once.
const most = 500

// paste puts steps, or cases, that came as text. A name that is taken becomes
// another, and what they read of each other follows.
func paste(doc *document.Document, e Edit) (int, error) {
	text, _ := e.Value.(string)
	from, cases, err := pasted(text)
	if err != nil {
		return 0, err
	}
	if cases {
		return pasteCases(doc, e, from)
	}
	path, err := container(doc, e.In)
	if err != nil {
		return 0, err
	}
	count := freshNames(doc, from)
	for i, n := range from.Content {
		if err := doc.Insert(path, e.To+i, n); err != nil {
			return 0, err
		}
	}
	return count, nil
}

// pasteCases puts cases after the one that Step names, or at the end of those of
// the branch.
func pasteCases(doc *document.Document, e Edit, from *yaml.Node) (int, error) {
	branch, name, _ := strings.Cut(e.Step, "/")
	path, ok := casesOf(doc, branch)
	n := doc.At(path)
	if !ok || n == nil || n.Kind != yaml.SequenceNode {
		return 0, fmt.Errorf("these are cases; choose the branch, or the case after which they belong")
	}
	to, count := len(n.Content), 0
	if _, at, ok := locateCase(doc, branch, name); ok {
		to = at + 1
	}
	for i, c := range from.Content {
		set(c, "name", free(scalar(c, "name"), "case", func(s string) bool {
			_, _, taken := locateCase(doc, branch, s)
			return taken || s == elseBlock
		}))
		count += freshNames(doc, document.Under(c, "steps"))
		if err := doc.Insert(path, to+i, c); err != nil {
			return 0, err
		}
	}
	return count, nil
}

// pasted reads text of steps or of cases: a list of them, one alone, or a whole
// workflow, of which the steps are taken.
func pasted(text string) (list *yaml.Node, cases bool, err error) {
	if strings.TrimSpace(text) == "" {
		return nil, false, fmt.Errorf("there is nothing to paste; copy a line first")
	}
	read, err := document.Parse([]byte("pasted:\n" + indented(text)))
	if err != nil {
		return nil, false, fmt.Errorf("what is pasted is no text of lines: %w", err)
	}
	n := read.At("pasted")
	switch {
	case n == nil:
	case n.Kind == yaml.MappingNode && scalar(n, "type") == "" && document.Under(n, "steps") != nil && document.Under(n, "when") == nil:
		n = document.Under(n, "steps")
	case n.Kind == yaml.MappingNode:
		n = &yaml.Node{Kind: yaml.SequenceNode, Content: []*yaml.Node{n}}
	}
	if n == nil || n.Kind != yaml.SequenceNode || len(n.Content) == 0 {
		return nil, false, fmt.Errorf("what is pasted is no text of lines: a line begins as “- name: …” and “type: …”")
	}
	if len(n.Content) > most {
		return nil, false, fmt.Errorf("these are %d lines; at most %d can be pasted at once", len(n.Content), most)
	}
	for i, c := range n.Content {
		isCase := scalar(c, "type") == "" && document.Under(c, "steps") != nil
		if scalar(c, "type") == "" && !isCase || i > 0 && isCase != cases {
			return nil, false, fmt.Errorf("line %d of what is pasted has no type, as “type: filter”", i+1)
		}
		cases = isCase
	}
	return n, cases, nil
}

// indented puts every line of a text two places in.
func indented(text string) string {
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	return "  " + strings.Join(lines, "\n  ") + "\n"
}

var unfit = regexp.MustCompile(`[^a-z0-9_]+`)

// free is a name as the one that is wished, with a number where that is taken.
func free(wish, otherwise string, taken func(string) bool) string {
	wish = strings.TrimLeft(strings.Trim(unfit.ReplaceAllString(strings.ToLower(wish), "_"), "_"), "0123456789_")
	if !stepName.MatchString(wish) {
		wish = otherwise
	}
	name := wish
	for n := 2; taken(name); n++ {
		tail := "_" + strconv.Itoa(n)
		name = wish[:min(len(wish), 40-len(tail))] + tail
	}
	return name
}

// freshNames gives steps names that the document has not, and tells in how many
// places what they read of each other follows.
func freshNames(doc *document.Document, list *yaml.Node) int {
	names, used, seen := map[string]string{}, map[string]bool{}, map[string]bool{"": true}
	each(list, func(n *yaml.Node) {
		old := scalar(n, "name")
		_, kind, ok := strings.Cut(scalar(n, "type"), ".")
		if !ok {
			kind = scalar(n, "type")
		}
		name := free(old, free(kind, "line", func(string) bool { return false }), func(s string) bool {
			_, _, taken := locate(doc, s)
			return taken || used[s]
		})
		used[name] = true
		unset(n, "was")
		if name != old {
			set(n, "name", name)
			if !seen[old] {
				names[old] = name
			}
		}
		seen[old] = true
	})
	if len(names) == 0 {
		return 0
	}
	return follow(list, names)
}

// each goes through steps and those that stand within them.
func each(list *yaml.Node, do func(*yaml.Node)) {
	if list == nil || list.Kind != yaml.SequenceNode {
		return
	}
	for _, n := range list.Content {
		do(n)
		for _, b := range blocksOf(sketch(n)) {
			each(document.Under(n, b.Place), do)
		}
	}
}

func set(n *yaml.Node, key, value string) {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			n.Content[i+1] = document.Node(value)
			return
		}
	}
	n.Content = append([]*yaml.Node{document.Node(key), document.Node(value)}, n.Content...)
}

func unset(n *yaml.Node, key string) {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			n.Content = append(n.Content[:i:i], n.Content[i+2:]...)
			return
		}
	}
}

// Texts are the lines of a workflow as text that can be pasted: by the name of
// the step, or as STEP/CASE for a case. None where the text cannot be read.
func Texts(text []byte) map[string]string {
	out := map[string]string{}
	doc, err := document.Parse(text)
	if err != nil {
		return out
	}
	add := func(name string, n *yaml.Node) {
		if b, err := document.Encode(&yaml.Node{Kind: yaml.SequenceNode, Content: []*yaml.Node{n}}); err == nil {
			out[name] = string(b)
		}
	}
	for _, in := range []string{"steps", OnFailureBlock} {
		each(doc.At(in), func(n *yaml.Node) {
			add(scalar(n, "name"), n)
			place, ok := casesPlace(scalar(n, "type"))
			cases := document.Under(n, place)
			if !ok || cases == nil {
				return
			}
			for _, c := range cases.Content {
				add(scalar(n, "name")+"/"+scalar(c, "name"), c)
			}
		})
	}
	return out
}
