package expr

import (
	"fmt"
	"slices"
	"strings"

	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/parser/lexer"

	"youngtrellis/internal/core/near"
	wording "youngtrellis/internal/core/words"
)

// parse reads an expression by the library's grammar, which knows functions with
// a body only by names of its own, and takes the bracket of an object after a
// comma for that of a body. Both are put right before, and positions are those of
// the text as it was written.
func parse(source string) (ast.Node, error) {
	tokens, err := lexer.Lex(file.NewSource(source))
	if err != nil {
		return nil, grammar(source, nil, err)
	}
	text, origin, err := rewritten(source, tokens)
	if err != nil {
		return nil, err
	}
	tree, err := parser.Parse(text)
	if err != nil {
		return nil, grammar(source, origin, err)
	}
	if origin != nil {
		ast.Walk(&tree.Node, relocate(origin))
	}
	return tree.Node, nil
}

// relocate puts the positions of nodes back to where they were written.
type relocate []int

// Visit implements ast.Visitor.
func (o relocate) Visit(node *ast.Node) {
	l := (*node).Location()
	l.From, l.To = o.of(l.From), o.of(l.To)
	(*node).SetLocation(l)
}

func (o relocate) of(at int) int {
	if o == nil {
		return at
	}
	return o[max(0, min(at, len(o)-1))]
}

// Ours are as long as the library's, or longer; blanks fill what is left.
var bodied = map[string]string{"sort_by": "sortBy", "group_by": "groupBy", "find_last": "findLast", "index_by": "one", "contains": "includes"}

// theirs are names of the library's that are not ours.
var theirs = map[string]string{"sortBy": "sort_by", "groupBy": "group_by", "findLast": "find_last", "one": "index_by", "findIndex": "find", "findLastIndex": "find_last"}

func rewritten(source string, tokens []lexer.Token) (string, []int, error) {
	runes := []rune(source)
	var opens, ends []int
	for i, t := range tokens {
		before := lexer.Token{}
		if i > 0 {
			before = tokens[i-1]
		}
		called := i+1 < len(tokens) && tokens[i+1].Is(lexer.Bracket, "(")
		named := t.Kind == lexer.Identifier && called && !before.Is(lexer.Operator, ".", "?.")
		if ours, ok := theirs[t.Value]; ok && named {
			return "", nil, &Error{Source: source, Pos: t.From, Message: fmt.Sprintf("there is no function %s. Did you mean %s?", t.Value, ours)}
		}
		if t.Value == "contains" && t.Kind == lexer.Operator && called && !operand(before) {
			named = true
		}
		if own, ok := bodied[t.Value]; ok && named {
			copy(runes[t.From:], []rune(own+strings.Repeat(" ", len(t.Value)-len(own))))
		}
		if t.Is(lexer.Bracket, "{") && before.Is(lexer.Operator, ",") && beginsObject(tokens[i:]) {
			if end := closes(tokens[i:]); end > 0 {
				opens, ends = append(opens, t.From), append(ends, tokens[i+end].From)
			}
		}
	}
	if len(opens) == 0 {
		return string(runes), nil, nil
	}
	var out []rune
	var origin []int
	put := func(r rune, at int) { out, origin = append(out, r), append(origin, at) }
	for i, r := range runes {
		for _, o := range opens {
			if o == i {
				put('(', i)
			}
		}
		put(r, i)
		for _, e := range ends {
			if e == i {
				put(')', i)
			}
		}
	}
	return string(out), append(origin, len(runes)), nil
}

// operand tells whether a value ends with a token, so that an operator follows.
func operand(t lexer.Token) bool {
	switch t.Kind {
	case lexer.Identifier, lexer.Number, lexer.String:
		return true
	case lexer.Bracket:
		return t.Value == ")" || t.Value == "]" || t.Value == "}"
	case lexer.Operator:
		return t.Value == "#"
	}
	return false
}

func beginsObject(tokens []lexer.Token) bool {
	if len(tokens) > 1 && tokens[1].Is(lexer.Bracket, "}") {
		return true
	}
	return len(tokens) > 2 && (tokens[1].Kind == lexer.String || tokens[1].Kind == lexer.Identifier || tokens[1].Kind == lexer.Number) && tokens[2].Is(lexer.Operator, ":")
}

// closes finds the bracket that closes the first one.
func closes(tokens []lexer.Token) int {
	depth := 0
	for i, t := range tokens {
		switch {
		case t.Kind != lexer.Bracket:
		case strings.Contains("([{", t.Value):
			depth++
		default:
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

func grammar(source string, origin relocate, err error) error {
	e := &Error{Source: source, Message: "the expression cannot be read"}
	if fe, ok := err.(*file.Error); ok {
		e.Pos = origin.of(fe.From)
		e.Message = plain(source, e.Pos, fe.Message)
	}
	return e
}

// plain puts the parser's words into those of people.
func plain(source string, pos int, message string) string {
	rest := ""
	if r := []rune(source); pos < len(r) {
		rest = string(r[pos:])
	}
	switch {
	case strings.Contains(message, "unexpected token EOF"):
		return "the expression ends too early: something is missing after this"
	case strings.Contains(message, "literal not terminated"), strings.Contains(message, "unterminated"):
		return "the text that begins here has no closing quote"
	case strings.Contains(message, "unexpected token Operator(\"=\")"), strings.HasPrefix(rest, "="):
		if strings.HasPrefix(rest, "=>") || strings.HasPrefix(rest, "= >") {
			return "a body needs no name for the element: write .price for a field of it, or # for the element itself, as in map(item.lines, .price * 2)"
		}
		return `to compare, write == with two equals signs`
	case strings.HasPrefix(message, "unclosed"):
		return "a bracket is not closed"
	case strings.HasPrefix(rest, "&&&"), strings.HasPrefix(rest, "|||"):
		return "to join conditions, write and, or"
	case strings.HasPrefix(message, "unexpected token "):
		token := strings.TrimPrefix(message, "unexpected token ")
		if i, j := strings.IndexByte(token, '"'), strings.LastIndexByte(token, '"'); i >= 0 && j > i {
			token = token[i : j+1]
		}
		switch strings.Trim(token, `"`) {
		case ":":
			return `":" does not belong here; an object stands in brackets { }, and ? : has both parts`
		case "contains", "matches", "startsWith", "endsWith", "in":
			return token + ` stands between two values, as in item.name ` + strings.Trim(token, `"`) + ` "glaze"`
		}
		return token + " does not belong here"
	case strings.Contains(message, "unrecognized character"):
		return "the sign " + quote(string([]rune(rest + " ")[:1])) + " does not belong here; text stands in quotes"
	case strings.Contains(message, "unknown pointer"):
		return "after # there can be index or acc"
	case strings.Contains(message, "bad number syntax"), strings.Contains(message, "invalid"):
		return "this number cannot be read"
	case strings.Contains(message, "predicate") || strings.Contains(message, "not enough arguments") || strings.Contains(message, "arguments"):
		return "a function has too few or too many values here"
	case strings.Contains(message, "invalid char escape"), strings.Contains(message, "escape"):
		return `a backslash in text stands before n, t, ", \ or another sign that needs one; a backslash itself is written \\`
	}
	return "the expression cannot be read from here on"
}

// mistaken are words of other languages, with what is meant here.
var mistaken = map[string]string{
	"null": "nothing is written nil", "None": "nothing is written nil", "undefined": "nothing is written nil", "NULL": "nothing is written nil",
	"True": "write true", "False": "write false", "TRUE": "write true", "FALSE": "write false",
	"env": "the machine's settings cannot be read here; vars.NAME reads a value of the workflow", "secrets": "secrets are never read by expressions; a connection brings them to the call",
	"connection": "secrets are never read by expressions; a connection brings them to the call", "self": "the element of a list is #, and the record is item", "this": "the record is item",
	"record": "the record is item", "row": "the record is item", "payload": "the record is item; what started the run is trigger", "data": "the record is item", "var": "values of the workflow are vars.NAME",
	"step": "what an earlier step gave is steps.NAME", "today": "the day is start_of(now(), \"day\")",
}

// unknown says that a name is not known, and what may be meant.
func (in Names) unknown(name string) string {
	if meant, ok := mistaken[name]; ok {
		return fmt.Sprintf("%q is not known here; %s", name, meant)
	}
	if f, ok := library[name]; ok {
		return fmt.Sprintf("%s is a function; it is written %s", name, f.Usage)
	}
	if roots.has(name) {
		return fmt.Sprintf("%s cannot be used here; there %s", name, in.offer())
	}
	hint := near.Hint(name, in)
	if hint == "" {
		hint = near.Hint(name, in.functions())
	}
	if hint == "" {
		hint = fmt.Sprintf(" A field of the record is written item.%s; text stands in quotes.", name)
	}
	return fmt.Sprintf("%q is not known here.%s", name, hint)
}

// offer says which names there are.
func (in Names) offer() string {
	list := slices.DeleteFunc(slices.Clone(in), func(n string) bool { return slices.Contains(inRuns, n) })
	switch len(list) {
	case 0:
		return "is nothing to read"
	case 1:
		return "is only " + list[0]
	default:
		return "are " + wording.And(list...)
	}
}
