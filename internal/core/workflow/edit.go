package workflow

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/document"
)

// Edit is one change to a draft. Op says which:
//
//	set      Key of the step (or of the workflow, without Step) becomes Value; nil removes it
//	trigger  Key of the trigger becomes Value
//	insert   Value, a step, is put at place To
//	remove   the step is taken out
//	move     the step goes to place To
//	rename   the step gets the name Value; references follow
type Edit struct {
	Op    string `json:"op"`
	Step  string `json:"step,omitempty"`
	Key   string `json:"key,omitempty"`
	To    int    `json:"to,omitempty"`
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
	at := stepIndex(doc, e.Step)
	if at < 0 {
		return fmt.Errorf("there is no step %q", e.Step)
	}
	switch e.Op {
	case "set":
		return setDeep(doc, fmt.Sprintf("steps[%d]", at), e.Key, e.Value)
	case "remove":
		_, err := doc.Remove("steps", at)
		return err
	case "move":
		n, err := doc.Remove("steps", at)
		if err != nil {
			return err
		}
		return doc.Insert("steps", e.To, n)
	case "rename":
		return rename(doc, at, e)
	}
	return fmt.Errorf("the operation %q is not known; there are set, trigger, insert, remove, move and rename", e.Op)
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
	if stepIndex(doc, name) >= 0 {
		return fmt.Errorf("there is a step %q already", name)
	}
	if n := doc.At("steps"); n == nil || n.Kind != yaml.SequenceNode {
		if err := doc.Set("", "steps", []any{}); err != nil {
			return err
		}
	}
	return doc.Insert("steps", e.To, document.Node(step))
}

func stepIndex(doc *document.Document, name string) int {
	steps := doc.At("steps")
	if steps == nil {
		return -1
	}
	return slices.IndexFunc(steps.Content, func(n *yaml.Node) bool {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "name" {
				return n.Content[i+1].Value == name
			}
		}
		return false
	})
}

func rename(doc *document.Document, at int, e Edit) error {
	name, _ := e.Value.(string)
	if !stepName.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a step: small letters, digits and _, beginning with a letter", name)
	}
	if name == e.Step {
		return nil
	}
	if stepIndex(doc, name) >= 0 {
		return fmt.Errorf("there is a step %q already", name)
	}
	path := fmt.Sprintf("steps[%d]", at)
	if err := doc.Set(path, "name", name); err != nil {
		return err
	}
	if doc.At(path+".was") == nil {
		if err := doc.Set(path, "was", e.Step); err != nil {
			return err
		}
	}
	reference := regexp.MustCompile(`\bsteps\.` + regexp.QuoteMeta(e.Step) + `\b`)
	rewrite(doc.At("steps"), reference, "steps."+name)
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
