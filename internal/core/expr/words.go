package expr

import (
	"regexp"
	"strings"

	"github.com/expr-lang/expr/ast"
)

// Words says a condition as people would: "duration s is at least 20".
func (p *Program) Words() string { return words(p.tree) }

// TemplateWords words a template, wherever it stands; "" where it cannot be read.
func TemplateWords(source string) string {
	t, err := CompileTemplate(source, roots)
	if err != nil {
		return ""
	}
	return t.Words()
}

// Words says what a template that is one expression reads; "" for others.
func (t *Template) Words() string {
	if len(t.parts) == 1 && t.parts[0].expr != nil {
		return t.parts[0].expr.Words()
	}
	return ""
}

// Said says what a text reads, its expressions in words; "" for what is no text.
func (v *Value) Said() string {
	if v.template == nil {
		if v.list != nil || v.object != nil {
			return ""
		}
		return Text(v.constant)
	}
	var out strings.Builder
	for _, p := range v.template.parts {
		if out.WriteString(p.text); p.expr != nil {
			out.WriteString(p.expr.Words())
		}
	}
	return out.String()
}

var verbs = map[string]string{
	">=": "is at least", ">": "is more than", "<=": "is at most", "<": "is less than", "==": "is", "!=": "is not",
	"in": "is one of", "matches": "matches", "contains": "contains", "startsWith": "starts with", "endsWith": "ends with",
	"and": "and", "&&": "and", "or": "or", "||": "or",
}

// source is an expression as it is written here: the grammar knows some functions by
// other names.
func source(n ast.Node) string {
	return theirCalls.ReplaceAllStringFunc(n.String(), func(s string) string {
		if name, ok := ownName[strings.TrimSuffix(s, "(")]; ok {
			return name + "("
		}
		return s // a text
	})
}

// theirCalls finds calls by the grammar's names, and texts, in which there is none.
var theirCalls = regexp.MustCompile(`"(\\.|[^"\\])*"|\b(sortBy|groupBy|findLast|one)\(`)

func words(n ast.Node) string {
	switch n := n.(type) {
	case *ast.BinaryNode:
		if n.Operator == "??" {
			return words(n.Left) + " or " + words(n.Right)
		}
		if v, ok := verbs[n.Operator]; ok {
			return words(n.Left) + " " + v + " " + words(n.Right)
		}
	case *ast.UnaryNode:
		if n.Operator == "not" || n.Operator == "!" {
			return "not " + words(n.Node)
		}
	case *ast.StringNode:
		return n.Value
	case *ast.ChainNode:
		return words(n.Node)
	case *ast.MemberNode:
		if path, _, ok := pathOf(n, roots); ok && len(path) > 1 {
			return strings.ReplaceAll(strings.Join(path[1:], " "), "_", " ")
		}
		// A field of what a function finds: the phone of duty.
		if name, ok := n.Property.(*ast.StringNode); ok {
			if of := words(n.Node); of != source(n.Node) {
				return strings.ReplaceAll(name.Value, "_", " ") + " of " + of
			}
		}
	case *ast.ArrayNode:
		parts := make([]string, len(n.Nodes))
		for i, e := range n.Nodes {
			parts[i] = words(e)
		}
		return strings.Join(parts, ", ")
	case *ast.BuiltinNode:
		return callWords(n.Name, n.Arguments, n)
	case *ast.CallNode:
		if id, ok := n.Callee.(*ast.IdentifierNode); ok {
			return callWords(id.Value, n.Arguments, n)
		}
	}
	return source(n)
}

func callWords(name string, args []ast.Node, n ast.Node) string {
	if name == "find" && len(args) == 2 && words(args[0]) != source(args[0]) {
		return words(args[0])
	}
	if len(args) != 1 {
		return source(n)
	}
	switch name {
	case "list":
		if s, ok := args[0].(*ast.StringNode); ok {
			return strings.NewReplacer("-", " ", "_", " ").Replace(s.Value)
		}
	case "duration":
		if s, ok := args[0].(*ast.StringNode); ok {
			if d, err := ParseDuration(s.Value); err == nil {
				return Words(d)
			}
		}
	case "age":
		return "the age of " + words(args[0])
	case "empty":
		return words(args[0]) + " is empty"
	case "len":
		return "the length of " + words(args[0])
	case "is_phone":
		return words(args[0]) + " is a whole telephone number"
	case "is_email":
		return words(args[0]) + " is a mail address"
	}
	return source(n)
}

// Met says in a few words what made a condition hold: the left side of its
// first comparison.
func (p *Program) Met(s *Scope) string {
	n := p.tree
	for {
		b, ok := n.(*ast.BinaryNode)
		if !ok {
			return ""
		}
		if b.Operator != "and" && b.Operator != "&&" {
			break
		}
		n = b.Left
	}
	b := n.(*ast.BinaryNode)
	if _, ok := verbs[b.Operator]; !ok || b.Operator == "or" || b.Operator == "||" {
		return ""
	}
	v, err := p.part(b.Left, s)
	if err != nil || v == nil {
		return ""
	}
	return Brief(v)
}
