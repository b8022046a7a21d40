package workflow

import (
	"fmt"
	"regexp"
	"strings"

	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/steps"
)

// Edit is one change to a draft. Op says which:
//
//	set      Key of the step (or of the workflow, without Step) becomes Value; nil removes it
//	trigger  Key of the trigger becomes Value
//	insert   Value, a step, is put at place To of the steps In
//	remove   the step is taken out, with all that stands in it
//	move     the step goes to place To of the steps In, or of those where it stands
//	rename   the step gets the name Value; references follow
type Edit struct {
	Op   string `json:"op"`
	Step string `json:"step,omitempty"`
	Key  string `json:"key,omitempty"`
	To   int    `json:"to,omitempty"`
	// In names the steps within a step: STEP, or STEP/CASE where it has cases. ""
	// are the workflow's own, and for a move those where the step stands.
	In    string `json:"in,omitempty"`
	Value any    `json:"value,omitempty"`
}

// Apply makes the edits in the text, keeping comments and order. None is made
// if one of them cannot be.
func Apply(text []byte, edits []Edit) ([]byte, error) {
	doc, err := document.Parse(text)
	if err != nil {
		return nil, err
	}
	for i, e := range edits {
		if err := apply(doc, e); err != nil {
			return nil, fmt.Errorf("edit %d, %s: %w", i+1, e.Op, err)
		}
	}
	return doc.Encode()
}

func apply(doc *document.Document, e Edit) error {
	if e.Op == "set" && e.Step == "" {
		return doc.Set("", e.Key, e.Value)
	}
	if e.Op == "trigger" {
		return setDeep(doc, "trigger", e.Key, e.Value)
	}
	if e.Op == "insert" {
		return insert(doc, e)
	}
	list, at, ok := locate(doc, e.Step)
	if !ok {
		return fmt.Errorf("there is no step %q", e.Step)
	}
	switch e.Op {
	case "set":
		return setDeep(doc, fmt.Sprintf("%s[%d]", list, at), e.Key, e.Value)
	case "remove":
		_, err := doc.Remove(list, at)
		return err
	case "move":
		return move(doc, list, at, e)
	case "rename":
		return rename(doc, fmt.Sprintf("%s[%d]", list, at), e)
	}
	return fmt.Errorf("the operation %q is not known; there are set, trigger, insert, remove, move and rename", e.Op)
}

// move takes a step out and puts it where it belongs now. The place is counted
// without the step itself.
func move(doc *document.Document, list string, at int, e Edit) error {
	if e.In == e.Step || strings.HasPrefix(e.In, e.Step+"/") {
		return fmt.Errorf("a step cannot be moved into itself")
	}
	if e.In != "" {
		if _, err := container(doc, e.In); err != nil {
			return err
		}
	}
	n, err := doc.Remove(list, at)
	if err != nil {
		return err
	}
	if e.In != "" { // its path may have changed
		if list, err = container(doc, e.In); err != nil {
			return err
		}
	}
	return doc.Insert(list, e.To, n)
}

// top names the workflow's own steps where a step is moved out of another.
const top = "/"

// container finds the list of steps that In names, and makes it where it is
// not there yet.
func container(doc *document.Document, in string) (string, error) {
	if in == top || in == "" {
		return list(doc, "", "steps")
	}
	name, block, _ := strings.Cut(in, "/")
	at, i, ok := locate(doc, name)
	if !ok {
		return "", fmt.Errorf("there is no step %q", name)
	}
	path := fmt.Sprintf("%s[%d]", at, i)
	for _, b := range blocks(doc, path) {
		if b.Name == block || block == "" && !b.Owned && b.Name == "steps" {
			parent, key := path+".settings", b.Place
			if i := strings.LastIndexByte(b.Place, '.'); i >= 0 {
				parent, key = parent+"."+b.Place[:i], b.Place[i+1:]
			}
			return list(doc, parent, key)
		}
	}
	if block == "else" {
		return list(doc, path+".settings", "else")
	}
	if block == "" && doc.At(path+".settings") == nil { // a loop with nothing said of it yet
		if err := doc.Set(path, "settings", map[string]any{}); err != nil {
			return "", err
		}
		return list(doc, path+".settings", "steps")
	}
	return "", fmt.Errorf("the step %q has no steps %q in it", name, block)
}

// list makes sure that there is a list, and gives its path.
func list(doc *document.Document, parent, key string) (string, error) {
	path := strings.TrimPrefix(parent+"."+key, ".")
	if n := doc.At(path); n == nil || n.Kind != yaml.SequenceNode {
		if err := doc.Set(parent, key, []any{}); err != nil {
			return "", err
		}
	}
	return path, nil
}

// blocks lists the steps within the step at a path.
func blocks(doc *document.Document, path string) []form.Nested {
	step, _ := document.Value(doc.At(path)).(map[string]any)
	kind, _ := step["type"].(string)
	k, ok := steps.Find(kind)
	if !ok {
		return nil
	}
	settings, _ := step["settings"].(map[string]any)
	return k.Blocks(settings)
}

// setDeep sets a key such as settings.where, making the objects on the way.
func setDeep(doc *document.Document, path, key string, value any) error {
	for {
		head, rest, deeper := strings.Cut(key, ".")
		if !deeper {
			return doc.Set(path, key, value)
		}
		if head == "" {
			return fmt.Errorf("%q is not a key", key)
		}
		if n := doc.At(path + "." + head); n == nil || n.Kind != yaml.MappingNode {
			if value == nil {
				return nil
			}
			if err := doc.Set(path, head, map[string]any{}); err != nil {
				return err
			}
		}
		path, key = path+"."+head, rest
	}
}

func insert(doc *document.Document, e Edit) error {
	step, ok := e.Value.(map[string]any)
	if !ok {
		return fmt.Errorf("a step is an object")
	}
	name, _ := step["name"].(string)
	if !stepName.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a step", name)
	}
	for _, inner := range append(stepNames(document.Node(e.Value)), name) {
		if _, _, taken := locate(doc, inner); taken {
			return fmt.Errorf("there is a step %q already", inner)
		}
	}
	path, err := container(doc, e.In)
	if err != nil {
		return err
	}
	return doc.Insert(path, e.To, document.Node(step))
}

// locate finds a step by name: the list in which it stands, and its place there.
func locate(doc *document.Document, name string) (list string, at int, ok bool) {
	if doc.At("steps") == nil {
		return "", 0, false
	}
	return locateIn(doc, "steps", name)
}

func locateIn(doc *document.Document, list, name string) (string, int, bool) {
	n := doc.At(list)
	if n == nil || n.Kind != yaml.SequenceNode {
		return "", 0, false
	}
	for i, step := range n.Content {
		if scalar(step, "name") == name {
			return list, i, true
		}
		path := fmt.Sprintf("%s[%d]", list, i)
		for _, b := range blocks(doc, path) {
			if in, at, ok := locateIn(doc, path+".settings."+b.Place, name); ok {
				return in, at, true
			}
		}
	}
	return "", 0, false
}

func scalar(n *yaml.Node, key string) string {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1].Value
		}
	}
	return ""
}

// stepNames lists the names of the steps that stand within a step.
func stepNames(n *yaml.Node) []string {
	var out []string
	for _, c := range n.Content {
		if c.Kind == yaml.SequenceNode {
			for _, s := range c.Content {
				if s.Kind == yaml.MappingNode && scalar(s, "type") != "" && scalar(s, "name") != "" {
					out = append(out, scalar(s, "name"))
				}
			}
		}
		out = append(out, stepNames(c)...)
	}
	return out
}

func rename(doc *document.Document, path string, e Edit) error {
	name, _ := e.Value.(string)
	if !stepName.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a step: small letters, digits and _, beginning with a letter", name)
	}
	if name == e.Step {
		return nil
	}
	if _, _, taken := locate(doc, name); taken {
		return fmt.Errorf("there is a step %q already", name)
	}
	if err := doc.Set(path, "name", name); err != nil {
		return err
	}
	if doc.At(path+".was") == nil {
		if err := doc.Set(path, "was", e.Step); err != nil {
			return err
		}
	}
	old := regexp.QuoteMeta(e.Step)
	rewrite(doc.At("steps"), regexp.MustCompile(`\bsteps\.`+old+`\b`), "steps."+name)
	rewrite(doc.At("steps"), regexp.MustCompile(`\bcolumn\(\s*(["'])`+old+`["']\s*\)`), "column(${1}"+name+"${1})")
	return nil
}

func rewrite(n *yaml.Node, old *regexp.Regexp, fresh string) {
	if n.Kind == yaml.ScalarNode {
		n.Value = old.ReplaceAllString(n.Value, fresh)
	}
	for _, c := range n.Content {
		rewrite(c, old, fresh)
	}
}
