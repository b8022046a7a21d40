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
	for _, s := range before.Steps {
		if i := match(after, s.Name); i < 0 {
			out = append(out, Change{s.Name, "removed", fmt.Sprintf("Gone: %s.", catalog.Sentence(&s))})
		}
	}
	last := -1
	for i := range after.Steps {
		s := &after.Steps[i]
		j, old := before.Step(s.Name)
		if old == nil && s.Was != "" {
			j, old = before.Step(s.Was)
		}
		if old == nil {
			out = append(out, Change{s.Name, "added", fmt.Sprintf("New line %d: %s.", i+1, catalog.Sentence(s))})
			continue
		}
		if j < last {
			out = append(out, Change{s.Name, "moved", fmt.Sprintf("Moved to line %d: %s.", i+1, catalog.Sentence(s))})
		}
		last = max(last, j)
		if d := stepDiff(old, s); d != "" {
			out = append(out, Change{s.Name, "changed", fmt.Sprintf("Line %d, %s: %s", i+1, catalog.Sentence(s), d)})
		}
	}
	return out
}

func match(w *Workflow, name string) int {
	return slices.IndexFunc(w.Steps, func(s Step) bool { return s.Name == name || s.Was == name })
}

func stepDiff(a, b *Step) string {
	var parts []string
	fields := reflect.TypeOf(*a)
	for i := range fields.NumField() {
		key := fields.Field(i).Tag.Get("doc")
		key, _, _ = strings.Cut(key, ",")
		x, y := reflect.ValueOf(*a).Field(i).Interface(), reflect.ValueOf(*b).Field(i).Interface()
		if key == "was" || reflect.DeepEqual(x, y) {
			continue
		}
		switch key {
		case "settings", "input":
			mx, _ := x.(map[string]any)
			my, _ := y.(map[string]any)
			parts = append(parts, strings.TrimPrefix(settled(mx, my), "; "))
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
