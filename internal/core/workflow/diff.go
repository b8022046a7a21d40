package workflow

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// Change is one difference between two workflows, as a sentence.
type Change struct {
	Step     string `json:"step,omitempty"`
	Kind     string `json:"kind"` // added, removed, changed, moved
	Sentence string `json:"sentence"`
}

// Diff says what differs in after from before. Before may be nil.
func Diff(before, after *Workflow, catalog *Catalog) []Change {
	var out []Change
	if before == nil {
		before = &Workflow{Trigger: after.Trigger, Title: after.Title, Label: after.Label}
	}
	if before.TitleOrName() != after.TitleOrName() && before.Name != "" {
		out = append(out, Change{Kind: "changed", Sentence: fmt.Sprintf("It is now called “%s”, was “%s”.", after.TitleOrName(), before.TitleOrName())})
	}
	if !reflect.DeepEqual(before.Trigger, after.Trigger) {
		out = append(out, Change{Kind: "changed", Sentence: "What starts it: " + TriggerSentence(after.Trigger) + settled(before.Trigger.Settings, after.Trigger.Settings)})
	}
	if before.Label != after.Label {
		out = append(out, Change{Kind: "changed", Sentence: "Rows are labelled by " + after.Label + "."})
	}
	for l := range before.Lines() {
		if s := l.Step; s != nil && !stays(after, s.Name) {
			out = append(out, Change{s.Name, "removed", fmt.Sprintf("Gone: %s.", catalog.Sentence(s))})
		}
	}
	last := -1
	for l := range after.Lines() {
		s := l.Step
		if s == nil {
			continue
		}
		j, old := before.Step(s.Name)
		if old == nil && s.Was != "" {
			j, old = before.Step(s.Was)
		}
		if old == nil {
			out = append(out, Change{s.Name, "added", fmt.Sprintf("New line %s: %s.", l.Number, catalog.Sentence(s))})
			continue
		}
		was, _ := before.Line(old.Name)
		if j < last || nestOf(l) != nestOf(was) && !renamed(after, nestOf(was), nestOf(l)) {
			out = append(out, Change{s.Name, "moved", fmt.Sprintf("Moved to line %s: %s.", l.Number, catalog.Sentence(s))})
		}
		last = max(last, j)
		if d := stepDiff(old, s); d != "" {
			out = append(out, Change{s.Name, "changed", fmt.Sprintf("Line %s, %s: %s", l.Number, catalog.Sentence(s), d)})
		}
	}
	return out
}

// nestOf names the steps in which a line stands, as Edit.In does.
func nestOf(l Line) string {
	switch {
	case l.Of == nil && l.Block != nil:
		return top + l.Block.Name
	case l.Of == nil:
		return ""
	case l.Block.Name == "":
		return l.Of.Name
	}
	return l.Of.Name + "/" + l.Block.Name
}

// renamed tells whether the step around was called otherwise, and the case was
// not.
func renamed(after *Workflow, was, is string) bool {
	old, oldCase, _ := strings.Cut(was, "/")
	fresh, freshCase, _ := strings.Cut(is, "/")
	_, s := after.Step(fresh)
	return s != nil && s.Was == old && oldCase == freshCase
}

func stays(w *Workflow, name string) bool {
	for s := range w.All() {
		if s.Name == name || s.Was == name {
			return true
		}
	}
	return false
}

func stepDiff(a, b *Step) string {
	var parts []string
	fields := reflect.TypeOf(*a)
	for i := range fields.NumField() {
		key := fields.Field(i).Tag.Get("doc")
		if key, _, _ = strings.Cut(key, ","); key == "" {
			continue
		}
		x, y := reflect.ValueOf(*a).Field(i).Interface(), reflect.ValueOf(*b).Field(i).Interface()
		if key == "was" || key == FallbackBlock || reflect.DeepEqual(x, y) { // a fallback is told line by line
			continue
		}
		switch key {
		case "settings", "input":
			mx, _ := withoutSteps(x).(map[string]any)
			my, _ := withoutSteps(y).(map[string]any)
			if d := settled(mx, my); d != "" {
				parts = append(parts, strings.TrimPrefix(d, "; "))
			}
		case "retry":
			parts = append(parts, "how it tries again")
		default:
			parts = append(parts, fmt.Sprintf("%s is %s, was %s", key, shown(y), shown(x)))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return strings.Join(parts, "; ") + "."
}

// withoutSteps leaves out the steps that stand within settings: they are told
// line by line.
func withoutSteps(v any) any {
	switch v := v.(type) {
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = withoutSteps(e)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, e := range v {
			if k != "steps" && k != "else" {
				out[k] = withoutSteps(e)
			}
		}
		return out
	}
	return v
}

func settled(before, after map[string]any) string {
	keys := []string{}
	for k := range before {
		keys = append(keys, k)
	}
	for k := range after {
		if _, ok := before[k]; !ok {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	var out strings.Builder
	for _, k := range keys {
		if !reflect.DeepEqual(before[k], after[k]) {
			fmt.Fprintf(&out, "; %s is %s, was %s", k, shown(after[k]), shown(before[k]))
		}
	}
	return out.String()
}

func shown(v any) string {
	if m, ok := v.(map[string]any); ok {
		if n, ok := m["name"].(string); ok && len(m) == 2 {
			return "“" + n + "”"
		}
	}
	if n, err := item.Normal(v); err == nil {
		v = n
	}
	if s := expr.Text(v); s != "" {
		return "“" + s + "”"
	}
	return "not set"
}
