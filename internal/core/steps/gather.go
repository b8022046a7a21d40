package steps

import (
	"errors"
	"fmt"
	"iter"
	"strings"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

type gather struct {
	By     *expr.Program    `form:"by" title:"Apart for each" help:"One item for every value of this; without it one for all." example:"item.studio"`
	Fields map[string]Total `form:"fields,required" title:"Fields" hint:"totals" help:"What the new item holds, by name."`

	group grouping
	names []string
}

// Total is a field that is made of many items.
type Total struct {
	How     string        `form:"how,required" title:"How" oneof:"list|text|count|sum|average|first|last|least|most" words:"list=all of them; text=joined to one text; count=how many; sum=their sum; average=their average; first=the first; last=the last; least=the least; most=the most"`
	Of      *expr.Program `form:"of" title:"Of" help:"What is taken of each item; of a list the whole item unless given, of a count only items for which it is something." example:"item.piece"`
	Between string        `form:"between" title:"Between two" default:", " help:"What stands between two values of a text."`
}

var gatherKind = New(Info{
	Type: "gather", Title: "Make one item of many",
	Words: "collect summarise sum total count aggregate combine join merge into one report all", Does: DoesHold,
	Help: "Waits for the whole list and makes one item of it, or one for each key: lists, joined text, counts, sums. Over no items it still gives one.",
}, gatherSentence, compileGather)

func gatherSentence(g *gather) string {
	if len(g.Fields) == 0 {
		return "Gather … (to fill in)"
	}
	parts := item.Keys(g.Fields)
	text := "Gather " + names(parts) + " of all items"
	if g.By != nil {
		text = "Gather " + names(parts) + " for each " + g.By.Words()
	}
	return text
}

func compileGather(g *gather) (Operator, error) {
	g.group = grouping{By: g.By}
	g.names = item.Keys(g.Fields)
	for _, n := range g.names {
		if _, err := fieldPath(n); err != nil {
			return nil, wrong("fields."+n, err)
		}
		if n == g.group.named() {
			return nil, wrong("fields."+n, errors.New("the key stands in this field already"))
		}
		if f := g.Fields[n]; f.Of == nil && f.How != "list" && f.How != "count" {
			return nil, wrong("fields."+n+".of", fmt.Errorf("say with of what the %s is taken of, as item.price", f.How))
		}
	}
	return g, nil
}

// Take implements Holder: it keeps what each field takes of the item.
func (g *gather) Take(s *expr.Scope) (m Member, err error) {
	kept := make([]any, len(g.names))
	for i, n := range g.names {
		f := g.Fields[n]
		if f.Of == nil {
			if kept[i] = true; f.How == "list" {
				kept[i] = s.Item
			}
			continue
		}
		if kept[i], err = f.Of.Eval(s); err != nil {
			return m, wrong("fields."+n+".of", err)
		}
	}
	m.Value = kept
	m.Key, err = g.group.key(s)
	return m, err
}

// Streams implements Holder.
func (g *gather) Streams() bool { return false }

// Fits implements Holder.
func (g *gather) Fits(Filling, Member) bool { return true }

// Full implements Holder.
func (g *gather) Full(Filling) bool { return false }

// OfNothing implements Holder: a sum over nothing is 0.
func (g *gather) OfNothing() bool { return g.By == nil }

// Make implements Holder.
func (g *gather) Make(key any, members iter.Seq2[any, error]) (Result, error) {
	totals := make([]total, len(g.names))
	n := 0
	for v, err := range members {
		if err != nil {
			return Result{}, err
		}
		kept, _ := v.([]any)
		for i := range totals {
			if err := totals[i].add(g.Fields[g.names[i]], kept[i]); err != nil {
				return Result{}, wrong("fields."+g.names[i], err)
			}
		}
		n++
	}
	out := map[string]any{}
	for i, name := range g.names {
		path, _ := fieldPath(name)
		v, err := totals[i].end(g.Fields[name])
		if err != nil {
			return Result{}, wrong("fields."+name, err)
		}
		assign(out, path, v)
	}
	text := "of " + words.Count(n, "item")
	if f := g.group.named(); f != "" {
		out[f] = key
		text = expr.Brief(key) + ", " + text
	}
	return Result{Fields: out, Text: text}, nil
}

// total is a field on its way.
type total struct {
	list  []any
	text  strings.Builder
	count int
	value any
}

var (
	added   = expr.MustCompile("sum([item.a, item.b])", expr.Names{"item"})
	divided = expr.MustCompile("item.a / item.b", expr.Names{"item"})
	less    = expr.MustCompile("item.a < item.b", expr.Names{"item"})
)

// of evaluates a small expression over two values, so that numbers here are
// those of the expression language.
func of(p *expr.Program, a, b any) (any, error) {
	v, err := p.Eval(&expr.Scope{Item: map[string]any{"a": a, "b": b}})
	var e *expr.Error
	if errors.As(err, &e) {
		return nil, errors.New(e.Message)
	}
	return v, err
}

func (t *total) add(f Total, v any) (err error) {
	if f.How == "list" {
		t.list = append(t.list, v)
		return nil
	}
	if v == nil || f.How == "count" && v == false {
		return nil
	}
	t.count++
	switch f.How {
	case "text":
		if t.count > 1 {
			t.text.WriteString(f.between())
		}
		t.text.WriteString(expr.Text(v))
		if t.text.Len() > item.MaxBytes {
			return fmt.Errorf("the text has more than %s", item.Bytes(item.MaxBytes))
		}
	case "sum", "average":
		if t.value == nil {
			t.value = int64(0)
		}
		t.value, err = of(added, t.value, v)
	case "first":
		if t.count == 1 {
			t.value = v
		}
	case "last":
		t.value = v
	case "least", "most":
		if t.count == 1 {
			t.value = v
			return nil
		}
		a, b := v, t.value
		if f.How == "most" {
			a, b = t.value, v
		}
		sooner, err := before(a, b)
		if err != nil {
			return err
		}
		if sooner {
			t.value = v
		}
	}
	return err
}

func (f Total) between() string {
	if f.Between == "" {
		return ", "
	}
	return f.Between
}

func (t *total) end(f Total) (any, error) {
	switch f.How {
	case "list":
		if t.list == nil {
			return []any{}, nil
		}
		return t.list, nil
	case "text":
		return t.text.String(), nil
	case "count":
		return int64(t.count), nil
	case "sum":
		if t.value == nil {
			return int64(0), nil
		}
	case "average":
		if t.count == 0 {
			return nil, nil
		}
		return of(divided, t.value, int64(t.count))
	}
	return t.value, nil
}
