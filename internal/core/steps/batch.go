package steps

import (
	"errors"
	"iter"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

type batch struct {
	grouping
	As string `form:"as" title:"As the field" pattern:"^[A-Za-z_][A-Za-z0-9_]*$" default:"items" help:"Where the list of items stands in the new one."`
}

var batchKind = New(Info{
	Type: "batch", Title: "Put items together",
	Words: "group bundle together pack size chunk bulk hundred at a time", Does: DoesHold,
	Help: "Makes one item of every so many, or of all with the same key: a list of them, to be sent at once.",
}, func(b *batch) string {
	if w := b.words(); w != "" {
		return "Put items together, " + w
	}
	return "Put items together … (to fill in)"
}, func(b *batch) (Operator, error) {
	if b.By == nil && b.Size == 0 && b.Bytes == 0 {
		return nil, wrong("size", errors.New("a batch ends at a size, at so many bytes, or is apart for each key: give one of size, bytes and by"))
	}
	if b.As == "" {
		b.As = "items"
	}
	if b.As == b.named() {
		return nil, wrong("as", errors.New("the list and the key cannot both stand in the field "+b.As))
	}
	return b, nil
})

// Take implements Holder.
func (b *batch) Take(s *expr.Scope) (m Member, err error) {
	m.Value = s.Item
	if b.Bytes > 0 {
		m.Size = item.Size(s.Item)
	}
	m.Key, err = b.key(s)
	return m, err
}

// Make implements Holder.
func (b *batch) Make(key any, members iter.Seq2[any, error]) (Result, error) {
	list := []any{}
	for v, err := range members {
		if err != nil {
			return Result{}, err
		}
		list = append(list, v)
	}
	out := map[string]any{b.As: list}
	text := words.Count(len(list), "item")
	if n := b.named(); n != "" {
		out[n] = key
		text = expr.Brief(key) + ", " + text
	}
	return Result{Fields: out, Text: text}, nil
}
