package connector

import (
	"fmt"
	"slices"
	"strings"

	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
)

// Change is what another version of a connector does otherwise.
type Change struct {
	Action string // empty for what concerns all of it
	Says   string // a sentence
	Breaks bool   // what was made for the version before may not work with this one
}

// Changes compares two versions of a connector: where calls go, how it signs in, which
// actions there are, and what each is given and gives. What only words it otherwise is
// no change.
func Changes(was, is *Connector) []Change {
	var out []Change
	add := func(action string, breaks bool, format string, a ...any) {
		out = append(out, Change{action, fmt.Sprintf(format, a...), breaks})
	}
	if was.Base != is.Base {
		add("", true, "Calls go to %s; they went to %s. Secrets are to be entered again.", is.Base, was.Base)
	}
	for i := range was.SignIn {
		if name := was.SignIn[i].Called(); !slices.ContainsFunc(is.SignIn, func(w SignIn) bool { return w.Called() == name }) {
			add("", true, "The sign-in %s is not there any more.", name)
		}
	}
	for i := range is.SignIn {
		name := is.SignIn[i].Called()
		if before, ok := was.Way(name); !ok {
			add("", false, "The sign-in %s is new.", name)
		} else if !slices.Equal(secretNames(before), secretNames(&is.SignIn[i])) {
			add("", true, "The sign-in %s asks for other things: %s.", name, strings.Join(secretNames(&is.SignIn[i]), ", "))
		}
	}
	for _, name := range was.Order {
		after, ok := is.Actions[name]
		if !ok {
			add(name, true, "The action %s is not there any more.", name)
			continue
		}
		out = append(out, changesOf(was.Actions[name], after)...)
	}
	for _, name := range is.Order {
		if was.Actions[name] == nil {
			add(name, false, "The action %s is new.", name)
		}
	}
	return out
}

func secretNames(s *SignIn) []string {
	out := []string{}
	for _, x := range s.Secrets() {
		if x.Needed {
			out = append(out, x.Name)
		}
	}
	return out
}

func changesOf(was, is *Action) (out []Change) {
	add := func(breaks bool, format string, a ...any) {
		out = append(out, Change{is.Name, fmt.Sprintf(format, a...), breaks})
	}
	if x, y := was.Request.Method+" "+was.Request.Path, is.Request.Method+" "+is.Request.Path; x != y {
		add(false, "It calls %s; it called %s.", y, x)
	}
	if was.Effect != is.Effect {
		add(true, "It %ss; before it did %s.", is.Effect, was.Effect)
	}
	if was.List() != is.List() {
		add(true, "%s", map[bool]string{true: "It gives a list, one item each; it gave one answer.", false: "It gives one answer; it gave a list."}[is.List()])
	} else if was.Each != is.Each || was.Output != is.Output {
		add(true, "What it gives is taken from another place of the answer.")
	}
	for _, p := range was.Properties {
		i := slices.IndexFunc(is.Properties, func(q form.Property) bool { return q.Name == p.Name })
		if i < 0 {
			add(true, "The field %s is not there any more.", p.Name)
			continue
		}
		q := is.Properties[i]
		if q.Required && !p.Required {
			add(true, "The field %s is required now.", p.Name)
		}
		if x, y := kindOf(p.Schema), kindOf(q.Schema); x != y {
			add(true, "The field %s is %s; it was %s.", p.Name, y, x)
		}
	}
	for _, q := range is.Properties {
		if !slices.ContainsFunc(was.Properties, func(p form.Property) bool { return p.Name == q.Name }) {
			if q.Required {
				add(true, "The field %s is new, and required.", q.Name)
			} else {
				add(false, "The field %s is new.", q.Name)
			}
		}
	}
	return out
}

// kindOf says of a schema what values it takes.
func kindOf(s map[string]any) string {
	if e, ok := s["enum"].([]any); ok {
		b, _ := item.Encode(e)
		return "one of " + string(b)
	}
	switch t := s["type"].(type) {
	case string:
		return t
	case []any:
		var list []string
		for _, x := range t {
			list = append(list, fmt.Sprint(x))
		}
		return strings.Join(list, " or ")
	}
	return "anything"
}
