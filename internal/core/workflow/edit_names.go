package workflow

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/steps"
)

func rename(doc *document.Document, list string, at int, e Edit) (int, error) {
	name, _ := e.Value.(string)
	path, old, what := fmt.Sprintf("%s[%d]", list, at), e.Step, "step"
	taken := func() bool { _, _, ok := locate(doc, name); return ok }
	if of, c, ok := strings.Cut(e.Step, "/"); ok {
		old, what = c, "case"
		taken = func() bool { _, _, ok := locateCase(doc, of, name); return ok || name == elseBlock }
	}
	if !stepName.MatchString(name) {
		return 0, fmt.Errorf("%q cannot be the name of a %s: small letters, digits and _, beginning with a letter", name, what)
	}
	if name == old {
		return 0, nil
	}
	if taken() {
		return 0, fmt.Errorf("there is a %s %q already", what, name)
	}
	if err := doc.Set(path, "name", name); err != nil || what == "case" {
		return 0, err
	}
	if doc.At(path+".was") == nil {
		if err := doc.Set(path, "was", old); err != nil {
			return 0, err
		}
	}
	names, count := map[string]string{old: name}, 0
	for _, in := range []string{"steps", OnFailureBlock} {
		count += follow(doc.At(in), names)
	}
	return count, nil
}

// follow rewrites what the expressions of a list of steps, and of the steps
// within them, read of others by their names. Expressions are parsed: text that
// only looks like a reference stays.
func follow(list *yaml.Node, names map[string]string) (count int) {
	if list == nil || list.Kind != yaml.SequenceNode {
		return 0
	}
	for _, n := range list.Content {
		s := sketch(n)
		if k, ok := steps.Find(s.Type); ok {
			for place, refs := range k.Refs(s.Settings) {
				if len(refs) == 0 { // text without an expression
					continue
				}
				count += followAt(document.Under(n, "settings."+place), names)
			}
		}
		count += followIn(document.Under(n, "input"), names)
		for _, b := range blocksOf(s) {
			count += follow(document.Under(n, b.Place), names)
		}
	}
	return count
}

// followAt rewrites an expression, or a value with expressions in it.
func followAt(n *yaml.Node, names map[string]string) int {
	if n != nil && n.Kind == yaml.ScalarNode {
		if fresh, count := expr.RenameSteps(n.Value, names); count > 0 {
			n.Value = fresh
			return count
		}
	}
	return followIn(n, names)
}

// followIn rewrites every text with expressions in it.
func followIn(n *yaml.Node, names map[string]string) (count int) {
	if n == nil {
		return 0
	}
	if n.Kind == yaml.ScalarNode && expr.IsTemplate(n.Value) {
		n.Value, count = expr.RenameStepsIn(n.Value, names)
	}
	for _, c := range n.Content {
		count += followIn(c, names)
	}
	return count
}
