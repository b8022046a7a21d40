package workflow

import (
	"fmt"
	"strings"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/words"
)

// refs checks that every name that an expression reads can be read there.
func (c *checker) refs() {
	plan, _ := Compile(c.w, c.catalog) // as far as it goes: what does not compile was said
	for _, s := range plan.Steps {
		for at, refs := range s.Refs {
			for _, r := range refs {
				c.ref(plan, s, s.path+"."+at, r)
			}
		}
	}
	c.flow(plan)
}

func (c *checker) ref(plan *Plan, s *CompiledStep, path string, r expr.Ref) {
	var err error
	switch r.Path[0] {
	case "item", "run":
		return
	case "trigger":
		if s.OnFailure() {
			c.add(document.SeverityError, path, "There is no single trigger item when a run fails.", "item.message, item.step and item.label say what happened.")
		}
		return
	case "error":
		if !s.Rescues() {
			c.add(document.SeverityError, path, "error can be used only within a fallback or on_failure.", "")
		}
		return
	case "hmac":
		c.signs(path, r.Path[1])
		return
	case "list":
		c.list(path, second(r.Path))
		return
	case "steps", "column":
		if len(r.Path) < 2 {
			return
		}
		if err = plan.SeesColumn(s, r.Path[1]); err == nil && r.Path[0] == "steps" {
			err = plan.Sees(s, r.Path[1])
		}
	case "vars":
		if _, ok := c.w.Vars[second(r.Path)]; !ok && len(r.Path) > 1 {
			c.add(document.SeverityError, path, fmt.Sprintf("There is no variable %q.", r.Path[1]), strings.TrimSpace(near.Hint(r.Path[1], item.Keys(c.w.Vars))))
		}
		return
	case "round":
		if s.Loop() == nil && !s.Loops() { // until of a loop sees the round that ended
			c.add(document.SeverityError, path, "round can be used only within a loop.", "")
		}
		return
	}
	if err != nil {
		c.errorf(path, "%s", words.Sentence(err.Error()))
	}
}

// signs checks that codes can be made with the secret of a connection, and may be.
func (c *checker) signs(path, name string) {
	var able []string
	for _, k := range c.catalog.Connections {
		switch {
		case k.Name != name:
			if connector.Codes(k.Method) && !k.Forbidden && k.Granted == nil {
				able = append(able, k.Name)
			}
			continue
		case k.Forbidden || k.Granted != nil: // what is granted are actions
			c.add(document.SeverityError, path, fmt.Sprintf("You may not use the secret of the connection %q.", name), "Ask an administrator to grant the whole connection to you under Connections.")
		case !connector.Codes(k.Method):
			c.add(document.SeverityError, path, fmt.Sprintf("The connection %q has no key, token or password of its own, so hmac has nothing to make one with.", name), "Name one that has.")
		}
		return
	}
	cure := "Add it under Connections first."
	if len(able) > 0 {
		cure = "There are: " + strings.Join(able, ", ") + "."
	}
	c.add(document.SeverityError, path, fmt.Sprintf("There is no connection %q.", name), cure)
}

// list checks that there is a workspace list of a name.
func (c *checker) list(path, name string) {
	known := make([]string, 0, len(c.catalog.Lists))
	for _, l := range c.catalog.Lists {
		if l.Name == name {
			return
		}
		known = append(known, l.Name)
	}
	cure := "Add it under Lists first."
	if len(known) > 0 {
		cure = "There are: " + strings.Join(known, ", ") + "."
	}
	c.add(document.SeverityError, path, fmt.Sprintf("There is no list %q.%s", name, near.Hint(name, known)), cure)
}

func second(path []string) string {
	if len(path) > 1 {
		return path[1]
	}
	return ""
}
