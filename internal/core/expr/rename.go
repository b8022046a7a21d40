package expr

import (
	"slices"

	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser/lexer"
)

// RenameSteps gives an expression that reads the steps by new names, as
// steps.NAME and column("NAME"), and in how many places it differs. What is text
// in it, or a field that only looks so, stays. A source that is no expression
// stays too.
func RenameSteps(source string, names map[string]string) (string, int) {
	p, err := Compile(source, roots)
	if err != nil {
		return source, 0
	}
	return p.renameSteps(names)
}

// RenameStepsIn is RenameSteps for text with expressions in it.
func RenameStepsIn(template string, names map[string]string) (string, int) {
	t, err := CompileTemplate(template, roots)
	if err != nil {
		return template, 0
	}
	text, count := []rune(template), 0
	for _, p := range slices.Backward(t.parts) {
		if p.expr == nil {
			continue
		}
		if fresh, n := p.expr.renameSteps(names); n > 0 {
			text = slices.Replace(text, p.at, p.at+len([]rune(p.expr.Source)), []rune(fresh)...)
			count += n
		}
	}
	return string(text), count
}

func (p *Program) renameSteps(names map[string]string) (string, int) {
	tokens, err := lexer.Lex(file.NewSource(p.Source))
	if err != nil {
		return p.Source, 0
	}
	at := map[int]string{} // where the new names go, by the token
	for _, r := range p.Refs {
		if len(r.Path) < 2 || (r.Path[0] != "steps" && r.Path[0] != "column") {
			continue
		}
		fresh, ok := names[r.Path[1]]
		i := slices.IndexFunc(tokens, func(t lexer.Token) bool { return t.From >= r.Pos })
		if !ok || i < 0 {
			continue
		}
		if r.Path[0] == "steps" {
			i++ // past the word itself: a step may be called so
		}
		for ; i < len(tokens); i++ {
			if (tokens[i].Kind == lexer.Identifier || tokens[i].Kind == lexer.String) && tokens[i].Value == r.Path[1] {
				at[i] = fresh
				break
			}
		}
	}
	text := []rune(p.Source)
	for i, t := range slices.Backward(tokens) {
		fresh, ok := at[i]
		if !ok {
			continue
		}
		if t.Kind == lexer.String {
			quote := string(text[t.From])
			fresh = quote + fresh + quote
		}
		text = slices.Replace(text, t.From, t.To, []rune(fresh)...)
	}
	return string(text), len(at)
}
