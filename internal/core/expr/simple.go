package expr

import (
	"github.com/expr-lang/expr/ast"
)

// simple is what most expressions are: a field of the item, or a field compared
// with a number or a text. It is read without a machine; where it does not fit,
// since the field is of another kind, the machine says what is to be said.
type simple struct {
	field string
	op    string // "" for the field alone
	whole int64
	text  string
	words bool // compared with text
}

func simpleOf(n ast.Node) *simple {
	if path, _, ok := pathOf(n, roots); ok && len(path) == 2 && path[0] == "item" {
		return &simple{field: path[1]}
	}
	b, ok := n.(*ast.BinaryNode)
	if !ok {
		return nil
	}
	path, _, ok := pathOf(b.Left, roots)
	if !ok || len(path) != 2 || path[0] != "item" {
		return nil
	}
	s := &simple{field: path[1], op: b.Operator}
	switch r := b.Right.(type) {
	case *ast.IntegerNode:
		s.whole = int64(r.Value)
	case *ast.StringNode:
		s.text, s.words = r.Value, true
	default:
		return nil
	}
	switch b.Operator {
	case "==", "!=":
		return s
	case ">=", ">", "<=", "<":
		if !s.words { // texts may be times
			return s
		}
	}
	return nil
}

// eval gives the value, and whether it could.
func (s *simple) eval(fields map[string]any) (any, bool) {
	v := fields[s.field]
	if s.op == "" {
		switch v.(type) {
		case string, int64, float64, bool, nil:
			return v, true
		}
		return nil, false
	}
	holds, ok := s.holds(v)
	return holds, ok
}

func (s *simple) holds(v any) (holds, ok bool) {
	if s.words {
		t, isText := v.(string)
		return (t == s.text) == (s.op == "=="), isText
	}
	n, isWhole := v.(int64)
	switch s.op {
	case ">=":
		return n >= s.whole, isWhole
	case ">":
		return n > s.whole, isWhole
	case "<=":
		return n <= s.whole, isWhole
	case "<":
		return n < s.whole, isWhole
	case "==":
		return n == s.whole, isWhole
	}
	return n != s.whole, isWhole
}
