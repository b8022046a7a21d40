package expr

import (
	"strconv"
	"time"

	"github.com/expr-lang/expr/ast"
)

// Why says, in a few words, which part of a condition did not hold: "3 days,
// needs at least 6 days". It is empty if the condition holds.
func (p *Program) Why(s *Scope) string {
	if ok, err := p.Holds(s); ok || err != nil {
		return ""
	}
	return p.why(p.tree, s)
}

func (p *Program) why(n ast.Node, s *Scope) string {
	b, ok := n.(*ast.BinaryNode)
	if !ok {
		return p.text(n) + " is false"
	}
	if b.Operator == "and" || b.Operator == "&&" {
		if v, err := p.part(b.Left, s); err == nil && (v == nil || v == false) {
			return p.why(b.Left, s)
		}
		return p.why(b.Right, s)
	}
	word, compares := needs[b.Operator]
	if !compares {
		return p.text(n) + " is false"
	}
	l, err1 := p.part(b.Left, s)
	r, err2 := p.part(b.Right, s)
	if err1 != nil || err2 != nil {
		return p.text(n) + " is false"
	}
	if l == nil {
		return p.text(b.Left) + " is empty"
	}
	return Brief(l) + ", " + word + Brief(r)
}

// part evaluates a part of the expression. Parts are compiled the first time
// that they are asked for.
func (p *Program) part(n ast.Node, s *Scope) (any, error) {
	alone := *s
	alone.Others, alone.Signer, alone.Lists = nil, nil, nil // they remember the whole
	if e, ok := p.parts.Load(n); ok {
		v, _, err := run(p.Source, e.(evaluator), &alone)
		return v, err
	}
	c := &compiler{source: p.Source, in: p.in}
	e := c.compile(n)
	if c.err != nil {
		return nil, c.err
	}
	p.parts.Store(n, e)
	v, _, err := run(p.Source, e, &alone)
	return v, err
}

func (p *Program) text(n ast.Node) string { return short(source(n), 60) }

var needs = map[string]string{
	">=": "needs ", ">": "needs more than ", "<=": "needs at most ", "<": "needs less than ",
	"==": "needs ", "!=": "needs something else than ", "in": "is none of ", "matches": "does not match ",
	"contains": "does not contain ", "startsWith": "does not start with ", "endsWith": "does not end with ",
}

// Brief writes a value for a cell: durations in words, texts cut to 40
// characters, lists by their elements.
func Brief(v any) string {
	switch v := v.(type) {
	case time.Duration:
		return Words(v)
	case time.Time:
		return v.Format("2 Jan 15:04")
	case nil:
		return "nothing"
	case int64:
		return strconv.FormatInt(v, 10)
	case bool:
		return strconv.FormatBool(v)
	case string:
		if v == "" {
			return "empty text"
		}
		return short(v, 40)
	case []any:
		out := ""
		for i, e := range v {
			if i > 0 {
				out += ", "
			}
			out += Brief(e)
		}
		return short(out, 40)
	}
	return short(Text(v), 40)
}

func short(s string, n int) string {
	if len(s) <= n {
		return s
	}
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}
