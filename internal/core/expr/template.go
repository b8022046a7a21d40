package expr

import (
	"strings"
	"unicode/utf8"
)

// Template is text in which expressions may stand as (= … ). A template that
// is one expression and nothing else keeps that expression's type.
type Template struct {
	Source string
	parts  []part
}

type part struct {
	text string
	expr *Program
	at   int // where the expression begins in the template, in characters
}

// IsTemplate tells whether the text holds an expression or an escaped one.
func IsTemplate(s string) bool { return strings.Contains(s, "(=") }

// CompileTemplate reads a template. "(==" stands for a literal "(=".
func CompileTemplate(source string, in Names) (*Template, error) {
	if !utf8.ValidString(source) {
		return nil, &Error{Source: strings.ToValidUTF8(source, "?"), Message: "the text is not valid UTF-8 text"}
	}
	t := &Template{Source: source}
	var text strings.Builder
	rest, offset := source, 0
	for {
		i := strings.Index(rest, "(=")
		if i < 0 {
			text.WriteString(rest)
			break
		}
		text.WriteString(rest[:i])
		offset += utf8.RuneCountInString(rest[:i])
		rest = rest[i+2:]
		if strings.HasPrefix(rest, "=") {
			text.WriteString("(=")
			rest, offset = rest[1:], offset+3
			continue
		}
		end := closing(rest)
		if end < 0 {
			return nil, &Error{Source: source, Pos: offset, Message: "the expression that begins here with (= has no closing bracket"}
		}
		p, err := Compile(rest[:end], in)
		if err != nil {
			if e, ok := err.(*Error); ok {
				err = &Error{Source: source, Pos: offset + 2 + e.Pos, Message: e.Message}
			}
			return nil, err
		}
		if text.Len() > 0 {
			t.parts = append(t.parts, part{text: text.String()})
			text.Reset()
		}
		t.parts = append(t.parts, part{expr: p, at: offset + 2})
		offset += 2 + utf8.RuneCountInString(rest[:end]) + 1
		rest = rest[end+1:]
	}
	if text.Len() > 0 {
		t.parts = append(t.parts, part{text: text.String()})
	}
	return t, nil
}

// closing finds the bracket that ends the expression at the start of s, past
// nested brackets and quoted text.
func closing(s string) int {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch c := s[i]; c {
		case '"', '\'', '`':
			j := i + 1
			for j < len(s) && s[j] != c {
				if s[j] == '\\' && c != '`' {
					j++
				}
				j++
			}
			i = j
		case '(', '[', '{':
			depth++
		case ')', ']', '}':
			if depth == 0 {
				if c == ')' {
					return i
				}
				return -1
			}
			depth--
		}
	}
	return -1
}

// Refs lists every path that the template reads.
func (t *Template) Refs() []Ref {
	var refs []Ref
	for _, p := range t.parts {
		if p.expr != nil {
			for _, r := range p.expr.Refs {
				refs = append(refs, Ref{r.Path, r.Pos + p.at})
			}
		}
	}
	return refs
}

// Eval fills the template in.
func (t *Template) Eval(s *Scope) (any, error) {
	if len(t.parts) == 1 && t.parts[0].expr != nil {
		v, err := t.parts[0].expr.Eval(s)
		return v, t.placed(t.parts[0], err)
	}
	var out strings.Builder
	for _, p := range t.parts {
		if p.expr == nil {
			out.WriteString(p.text)
			continue
		}
		v, err := p.expr.Eval(s)
		if err != nil {
			return nil, t.placed(p, err)
		}
		text := Text(v)
		if out.Len()+len(text) > MaxMemory {
			return nil, &Error{Source: t.Source, Pos: p.at, Message: "the text becomes too long"}
		}
		out.WriteString(text)
	}
	return out.String(), nil
}

func (t *Template) placed(p part, err error) error {
	if e, ok := err.(*Error); ok {
		return &Error{Source: t.Source, Pos: e.Pos + p.at, Message: e.Message}
	}
	return err
}

// Value is a JSON value whose texts may be templates, compiled.
type Value struct {
	constant any
	template *Template
	list     []*Value
	object   map[string]*Value
}

// CompileValue compiles every text in v that holds an expression. The error
// names the path within v, as lines[2].text.
func CompileValue(v any, in Names) (*Value, error) { return compileValue(v, "", in) }

// PathError places an error within a value.
type PathError struct {
	Path string
	Err  error
}

func (e *PathError) Error() string { return e.Path + ": " + e.Err.Error() }
func (e *PathError) Unwrap() error { return e.Err }

func placedAt(path string, err error) error {
	if _, ok := err.(*PathError); ok || path == "" {
		return err
	}
	return &PathError{path, err}
}

func compileValue(v any, path string, in Names) (*Value, error) {
	switch v := v.(type) {
	case string:
		if !IsTemplate(v) {
			return &Value{constant: v}, nil
		}
		t, err := CompileTemplate(v, in)
		if err != nil {
			return nil, placedAt(path, err)
		}
		return &Value{template: t}, nil
	case []any:
		out := &Value{list: make([]*Value, len(v))}
		for i, e := range v {
			c, err := compileValue(e, path+"["+Text(int64(i))+"]", in)
			if err != nil {
				return nil, err
			}
			out.list[i] = c
		}
		return out, nil
	case map[string]any:
		out := &Value{object: make(map[string]*Value, len(v))}
		for k, e := range v {
			c, err := compileValue(e, strings.TrimPrefix(path+"."+k, "."), in)
			if err != nil {
				return nil, err
			}
			out.object[k] = c
		}
		return out, nil
	}
	return &Value{constant: v}, nil
}

// Eval fills the value in.
func (v *Value) Eval(s *Scope) (any, error) { return v.eval(s, "") }

func (v *Value) eval(s *Scope, path string) (any, error) {
	switch {
	case v.template != nil:
		out, err := v.template.Eval(s)
		return out, placed(path, err)
	case v.list != nil:
		out := make([]any, len(v.list))
		for i, e := range v.list {
			r, err := e.eval(s, path+"["+Text(int64(i))+"]")
			if err != nil {
				return nil, err
			}
			out[i] = r
		}
		return out, nil
	case v.object != nil:
		out := make(map[string]any, len(v.object))
		for k, e := range v.object {
			r, err := e.eval(s, strings.TrimPrefix(path+"."+k, "."))
			if err != nil {
				return nil, err
			}
			out[k] = r
		}
		return out, nil
	}
	return v.constant, nil
}

func placed(path string, err error) error {
	if err == nil {
		return nil
	}
	return placedAt(path, err)
}

// Constant returns the value if no expression stands in it.
func (v *Value) Constant() (any, bool) {
	return v.constant, v.template == nil && v.list == nil && v.object == nil
}

// Refs lists every path that the value reads.
func (v *Value) Refs() []Ref {
	switch {
	case v.template != nil:
		return v.template.Refs()
	case v.list != nil:
		var refs []Ref
		for _, e := range v.list {
			refs = append(refs, e.Refs()...)
		}
		return refs
	}
	var refs []Ref
	for _, e := range v.object {
		refs = append(refs, e.Refs()...)
	}
	return refs
}

// Whole tells whether the text is one expression and nothing else, so that its
// value keeps its kind.
func Whole(s string) bool {
	t, err := CompileTemplate(s, roots)
	return err == nil && len(t.parts) == 1 && t.parts[0].expr != nil
}

// Split cuts a template at each separator that stands outside of its
// expressions.
func Split(s string, separator byte) []string {
	var parts []string
	start := 0
	for i := 0; i < len(s); i++ {
		if strings.HasPrefix(s[i:], "(=") && !strings.HasPrefix(s[i:], "(==") {
			if end := closing(s[i+2:]); end >= 0 {
				i += 2 + end
				continue
			}
		}
		if s[i] == separator {
			parts = append(parts, s[start:i])
			start = i + 1
		}
	}
	return append(parts, s[start:])
}
