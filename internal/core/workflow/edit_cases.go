package workflow

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/document"
)

// isBlock tells whether an edit names a case, a fallback or what is done when a
// run fails, and not a step.
func isBlock(step string) bool { return strings.Contains(step, "/") }

// casesOf is the list of the cases of a step that has some.
func casesOf(doc *document.Document, step string) (string, bool) {
	if step == "" || isBlock(step) {
		return "", false
	}
	list, at, ok := locate(doc, step)
	if !ok {
		return "", false
	}
	path := fmt.Sprintf("%s[%d]", list, at)
	kind := scalar(doc.At(path), "type")
	place, ok := casesPlace(kind)
	return path + "." + place, ok
}

// casesPlace is where a kind of step keeps its cases.
func casesPlace(kind string) (string, bool) {
	for _, b := range blocksOf(&Step{Type: kind, Settings: map[string]any{"cases": []any{map[string]any{"name": "x", "steps": []any{}}}}}) {
		if place, _, ok := strings.Cut(b.Place, "[0]."); ok {
			return place, true
		}
	}
	return "", false
}

// locateCase finds a case of a step.
func locateCase(doc *document.Document, step, name string) (string, int, bool) {
	list, ok := casesOf(doc, step)
	n := doc.At(list)
	if !ok || n == nil || n.Kind != yaml.SequenceNode {
		return "", 0, false
	}
	at := slices.IndexFunc(n.Content, func(c *yaml.Node) bool { return scalar(c, "name") == name })
	return list, at, at >= 0
}

func insertCase(doc *document.Document, cases string, e Edit, name string, value map[string]any) error {
	if name == elseBlock {
		_, err := container(doc, e.In+"/"+elseBlock)
		return err
	}
	if value["type"] != nil {
		return fmt.Errorf("the step %q has cases; name the one that the new step belongs to, as %s/CASE", e.In, e.In)
	}
	if !stepName.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a case: small letters, digits and _, beginning with a letter", name)
	}
	if _, _, taken := locateCase(doc, e.In, name); taken {
		return fmt.Errorf("there is a case %q already", name)
	}
	parent, key := parted(cases)
	if doc.At(parent) == nil {
		if err := setDeep(doc, strings.TrimSuffix(parent, ".settings"), "settings.cases", []any{}); err != nil {
			return err
		}
	}
	path, err := list(doc, parent, key)
	if err != nil {
		return err
	}
	if value["steps"] == nil { // the edit stays the caller's
		value = maps.Clone(value)
		value["steps"] = []any{}
	}
	return doc.Insert(path, e.To, document.Node(value))
}

// parted divides a path into that of the parent and the last key.
func parted(path string) (parent, key string) {
	i := strings.LastIndexByte(path, '.')
	return path[:max(i, 0)], path[i+1:]
}

// elseBlock is the case for all other items.
const elseBlock = "else"

// removeBlock takes out what is not an element of a list. A case is one, and is
// left to the caller.
func removeBlock(doc *document.Document, name string) (done bool, err error) {
	if name == top+OnFailureBlock {
		return true, doc.Set("", OnFailureBlock, nil)
	}
	step, block, _ := strings.Cut(name, "/")
	if _, _, ok := locateCase(doc, step, block); ok {
		return false, nil
	}
	list, at, ok := locate(doc, step)
	if !ok {
		return false, fmt.Errorf("there is no step %q", step)
	}
	path := fmt.Sprintf("%s[%d]", list, at)
	for _, b := range blocks(doc, path) {
		if b.Name != block {
			continue
		}
		parent, key := parted(path + "." + b.Place)
		if b.Fallback {
			if err := doc.Set(path, "on_error", nil); err != nil {
				return true, err
			}
		}
		return true, doc.Set(parent, key, nil)
	}
	return false, fmt.Errorf("the step %q has no %q", step, block)
}
