package workflow

import (
	"fmt"
	"maps"
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
		before = &Workflow{Trigger: after.Trigger, Title: after.Title, Limits: after.Limits, Label: after.Label, FindBy: after.FindBy, About: after.About, Vars: after.Vars}
	}
	if before.TitleOrName() != after.TitleOrName() && before.Name != "" {
		out = append(out, Change{Kind: "changed", Sentence: fmt.Sprintf("It is now called “%s”, was “%s”.", after.TitleOrName(), before.TitleOrName())})
	}
	if !reflect.DeepEqual(before.Trigger, after.Trigger) {
		out = append(out, Change{Kind: "changed", Sentence: "What starts it: " + TriggerSentence(after.Trigger) + settled(before.Trigger.Settings, after.Trigger.Settings)})
	}
	out = append(out, headDiff(before, after)...)
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

// headDiff tells of the keys of the workflow itself.
func headDiff(before, after *Workflow) (out []Change) {
	say := func(format string, args ...any) {
		out = append(out, Change{Kind: "changed", Sentence: fmt.Sprintf(format, args...)})
	}
	switch {
	case before.Label == after.Label:
	case after.Label == "":
		say("Rows are no longer labelled by %s.", shown(before.Label))
	default:
		say("Rows are labelled by %s, was %s.", shown(after.Label), shown(before.Label))
	}
	if !slices.Equal(before.FindBy, after.FindBy) {
		say("Items are found by %s, was %s.", listed(after.FindBy), listed(before.FindBy))
	}
	for _, s := range limitsDiff(before, after) {
		say("%s", s)
	}
	if before.About != after.About {
		if after.About == "" {
			say("What it is about is no longer said.")
		} else {
			say("It is about: %s", sentence(after.About))
		}
	}
	for _, d := range differing(before.Vars, after.Vars) {
		say("The variable %s.", d)
	}
	return out
}

func listed(list []string) string {
	if len(list) == 0 {
		return "nothing"
	}
	return shown(strings.Join(list, ", "))
}

func sentence(s string) string {
	if strings.HasSuffix(s, ".") {
		return s
	}
	return s + "."
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
			parts = append(parts, retryDiff(a.Retry, b.Retry)...)
		case "off":
			parts = append(parts, map[bool]string{true: "switched off", false: "switched on"}[b.Off])
		default:
			parts = append(parts, fmt.Sprintf("%s is %s, was %s", key, given(y), given(x)))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return strings.Join(parts, "; ") + "."
}

// retryDiff tells what differs in how a step tries again.
func retryDiff(a, b *Retry) (parts []string) {
	if a == nil {
		a = &Retry{}
	}
	if b == nil {
		b = &Retry{}
	}
	fields := reflect.TypeOf(*a)
	for i := range fields.NumField() {
		x, y := reflect.ValueOf(*a).Field(i).Interface(), reflect.ValueOf(*b).Field(i).Interface()
		if x != y {
			parts = append(parts, fmt.Sprintf("retry.%s is %s, was %s", fields.Field(i).Tag.Get("doc"), given(y), given(x)))
		}
	}
	return parts
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
	out := ""
	for _, d := range differing(before, after) {
		out += "; " + d
	}
	return out
}

// differing tells of each name whose value differs.
func differing(before, after map[string]any) (out []string) {
	names := map[string]any{}
	maps.Copy(names, before)
	maps.Copy(names, after)
	for _, k := range item.Keys(names) {
		a, there := before[k]
		b, still := after[k]
		if reflect.DeepEqual(a, b) && there == still {
			continue
		}
		is, was := shown(b), shown(a)
		if !still {
			is = "gone"
		}
		if !there {
			was = "not set"
		}
		out = append(out, fmt.Sprintf("%s is %s, was %s", k, is, was))
	}
	return out
}

// given shows the value of a key of the document; none is as if it were not there.
func given(v any) string {
	if reflect.ValueOf(v).IsZero() {
		return "not set"
	}
	return shown(v)
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
