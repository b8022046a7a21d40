package paste

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// command is one that was found in a pasted text.
type command struct {
	words []string
	stdin *string // what it reads, where that stands in the text
	file  string  // or the file that it reads it from
	notes []string
}

// mostNested is how deep brackets and quotes may stand within each other.
const mostNested = 200

// variables are those that the text itself sets. One that it does not set stays as it
// is written, since only the reader's shell knows it.
type variables map[string]string

// inShell finds the first curl call in a text for a shell: comments and assignments
// may come before it, a pipe behind it.
func inShell(text string) (*command, error) {
	if err := notTooDeep(text); err != nil {
		return nil, err
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), "")
	if err != nil {
		var pe syntax.ParseError
		if errors.As(err, &pe) {
			return nil, fmt.Errorf("the command cannot be read at line %d, column %d: %s", pe.Pos.Line(), pe.Pos.Col(), pe.Text)
		}
		return nil, fmt.Errorf("the command cannot be read: %w", err)
	}
	s := &shell{known: variables{}}
	for _, stmt := range file.Stmts {
		if err := s.statement(stmt, nil); err != nil {
			return nil, err
		}
	}
	if s.found == nil {
		return nil, errors.New("no curl command stands here by itself; paste the call alone, without what is around it")
	}
	return s.found, nil
}

// mostWords is how many words of the shell's own a text may hold. Each may open one
// thing within another, whether it stands in quotes or not is known only afterwards, and
// no command that a person pastes comes near.
const mostWords = 20_000

var shellWords = regexp.MustCompile(`\b(if|then|elif|else|while|until|for|select|case|do|time|coproc|function)\b`)

// notTooDeep keeps the parser, which goes down by calling itself, from going down
// without end.
func notTooDeep(text string) error {
	if len(shellWords.FindAllStringIndex(text, mostWords+1)) > mostWords {
		return errors.New("this is a script rather than a command; paste the curl command alone")
	}
	deep := strings.Count(text, "(") + strings.Count(text, "{") + strings.Count(text, "`")
	if deep > 20*mostNested { // it is counted well only if there are many: JSON holds brackets too
		depth, most := 0, 0
		for _, c := range text {
			switch c {
			case '(', '{', '`':
				depth++
			case ')', '}':
				depth = max(depth-1, 0)
			}
			most = max(most, depth)
		}
		if most > mostNested {
			return fmt.Errorf("the command has brackets within brackets, more than %d deep", mostNested)
		}
	}
	return nil
}

type shell struct {
	known variables
	found *command
}

func (s *shell) note(format string, a ...any) {
	s.found.notes = append(s.found.notes, fmt.Sprintf(format, a...))
}

// statement takes assignments, and the first curl call; input is what a command
// before a pipe gives it.
func (s *shell) statement(stmt *syntax.Stmt, input *command) error {
	switch cmd := stmt.Cmd.(type) {
	case *syntax.CallExpr:
		return s.call(stmt, cmd, input)
	case *syntax.DeclClause:
		return s.assign(cmd.Args)
	case *syntax.TimeClause:
		if cmd.Stmt != nil {
			return s.statement(cmd.Stmt, input)
		}
	case *syntax.BinaryCmd:
		left := s.found
		var given *command
		if cmd.Op == syntax.Pipe && s.found == nil {
			given = s.output(cmd.X)
		}
		if given == nil {
			if err := s.statement(cmd.X, input); err != nil {
				return err
			}
		}
		if s.found != nil && left == nil {
			s.note("What follows the command, after %s, was left out.", cmd.Op)
			return nil
		}
		return s.statement(cmd.Y, given)
	default:
		if s.found == nil {
			return fmt.Errorf("line %d begins something that is more than a command; paste the curl command alone", stmt.Pos().Line())
		}
		s.note("Only the first call was read; what comes from line %d on was left out.", stmt.Pos().Line())
	}
	return nil
}

func (s *shell) call(stmt *syntax.Stmt, call *syntax.CallExpr, input *command) error {
	if len(call.Args) == 0 {
		return s.assign(call.Assigns)
	}
	if s.found != nil {
		s.note("Only the first call was read; what stands in line %d was left out.", stmt.Pos().Line())
		return nil
	}
	words, err := s.words(call.Args)
	if err != nil {
		return err
	}
	for len(words) > 1 && (words[0] == "sudo" || words[0] == "command" || words[0] == "exec") {
		words = words[1:]
	}
	if name := strings.ToLower(path.Base(strings.ReplaceAll(words[0], `\`, "/"))); name != "curl" && name != "curl.exe" {
		return nil // something before the call, as cd or set -e
	}
	s.found = &command{words: words}
	if input != nil {
		s.found.stdin, s.found.file = input.stdin, input.file
	}
	return s.redirections(stmt, s.found)
}

func (s *shell) assign(list []*syntax.Assign) error {
	for _, a := range list {
		if a.Name == nil || a.Value == nil || s.found != nil {
			continue
		}
		value, err := s.word(a.Value)
		if err != nil {
			return err
		}
		s.known[a.Name.Value] = value
	}
	return nil
}

// redirections takes what the command reads; where its answer is written to changes nothing.
func (s *shell) redirections(stmt *syntax.Stmt, c *command) error {
	for _, r := range stmt.Redirs {
		switch r.Op {
		case syntax.Hdoc, syntax.DashHdoc:
			text := r.Hdoc.Lit()
			if !quotedWord(r.Word) {
				var err error
				if text, err = s.parts(r.Hdoc.Parts, "$`\\"); err != nil {
					return err
				}
			}
			if r.Op == syntax.DashHdoc {
				lines := strings.SplitAfter(text, "\n")
				for i := range lines {
					lines[i] = strings.TrimLeft(lines[i], "\t")
				}
				text = strings.Join(lines, "")
			}
			c.stdin = &text
		case syntax.WordHdoc:
			text, err := s.word(r.Word)
			if err != nil {
				return err
			}
			text += "\n"
			c.stdin = &text
		case syntax.RdrIn:
			name, err := s.word(r.Word)
			if err != nil {
				return err
			}
			c.file = name
		}
	}
	return nil
}

func quotedWord(w *syntax.Word) bool {
	for _, p := range w.Parts {
		switch p := p.(type) {
		case *syntax.SglQuoted, *syntax.DblQuoted:
			return true
		case *syntax.Lit:
			if strings.Contains(p.Value, `\`) {
				return true
			}
		}
	}
	return false
}

// output tells what a command before a pipe writes, where it says so itself.
func (s *shell) output(stmt *syntax.Stmt) *command {
	call, ok := stmt.Cmd.(*syntax.CallExpr)
	if !ok || len(call.Args) == 0 {
		return nil
	}
	words, err := s.words(call.Args)
	if err != nil {
		return nil
	}
	out := &command{}
	switch words[0] {
	case "echo":
		text, end := words[1:], "\n"
		if len(text) > 0 && text[0] == "-n" {
			text, end = text[1:], ""
		}
		all := strings.Join(text, " ") + end
		out.stdin = &all
	case "printf":
		if len(words) < 2 {
			return nil
		}
		text := escapesOf(words[1])
		for _, w := range words[2:] {
			text = strings.Replace(text, "%s", w, 1)
		}
		if strings.Contains(text, "%") {
			return nil
		}
		out.stdin = &text
	case "cat":
		if len(words) == 2 {
			out.file = words[1]
		} else if len(words) > 2 || s.redirections(stmt, out) != nil || out.stdin == nil && out.file == "" {
			return nil
		}
	default:
		return nil
	}
	return out
}

func (s *shell) words(list []*syntax.Word) ([]string, error) {
	out := make([]string, len(list))
	for i, w := range list {
		var err error
		if out[i], err = s.word(w); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *shell) word(w *syntax.Word) (string, error) {
	text, err := s.parts(w.Parts, "")
	if err != nil {
		return "", err
	}
	if len(text) > MaxBytes {
		return "", fmt.Errorf("the variables of the command make a text of more than %d bytes", MaxBytes)
	}
	return text, nil
}

// parts puts a word together as a shell does. Within double quotes a backslash takes the
// meaning from some signs only; escaped has them, and outside of quotes it is empty.
func (s *shell) parts(list []syntax.WordPart, escaped string) (string, error) {
	var b strings.Builder
	for _, p := range list {
		switch p := p.(type) {
		case *syntax.Lit:
			b.WriteString(unescape(p.Value, escaped))
		case *syntax.SglQuoted:
			if !p.Dollar {
				b.WriteString(p.Value)
				continue
			}
			if strings.Contains(p.Value, `\c`) {
				return "", errors.New("the command holds a control character, written as \\c; a call cannot carry it")
			}
			text, _, _ := strings.Cut(escapesOf(p.Value), "\x00") // a shell ends a text there
			b.WriteString(text)
		case *syntax.DblQuoted:
			text, err := s.parts(p.Parts, "$`\"\\")
			if err != nil {
				return "", err
			}
			b.WriteString(text)
		case *syntax.ParamExp:
			if p.Param == nil || p.Exp != nil || p.Repl != nil || p.Slice != nil || p.Index != nil || p.Length || p.Excl || p.NestedParam != nil {
				return "", errors.New("the command works with a variable in a way that is not read here; write its value in its place")
			}
			if value, ok := s.known[p.Param.Value]; ok {
				b.WriteString(value)
			} else {
				b.WriteString("$" + p.Param.Value)
			}
		case *syntax.ArithmExp:
			return "", errors.New("the command reckons within itself; replace that part by its result")
		default:
			return "", errors.New("the command runs another command within itself; replace that part by its result")
		}
	}
	return b.String(), nil
}

// unescape takes out the backslashes that a shell would, and with them the line breaks
// behind them.
func unescape(s, only string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) {
			switch next := s[i+1]; {
			case next == '\n':
				i++
				continue
			case only == "" || strings.IndexByte(only, next) >= 0:
				i++
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

var escaped = regexp.MustCompile(`(?s)\\(x[0-9a-fA-F]{1,2}|u[0-9a-fA-F]{1,4}|U[0-9a-fA-F]{1,8}|[0-7]{1,3}|.)`)

// escapesOf reads what stands in $'…', and before the % of printf.
func escapesOf(s string) string {
	return escaped.ReplaceAllStringFunc(s, func(m string) string {
		switch c := m[1]; {
		case strings.IndexByte("xuU", c) >= 0 && len(m) > 2:
			n, err := strconv.ParseUint(m[2:], 16, 32)
			if err != nil {
				return m
			}
			if c == 'x' {
				return string([]byte{byte(n)})
			}
			return string(rune(n))
		case c >= '0' && c <= '7':
			n, _ := strconv.ParseUint(m[1:], 8, 16)
			return string([]byte{byte(n)})
		case strings.IndexByte("abeEfnrtv", c) >= 0:
			return map[byte]string{'a': "\a", 'b': "\b", 'e': "\x1b", 'E': "\x1b", 'f': "\f", 'n': "\n", 'r': "\r", 't': "\t", 'v': "\v"}[c]
		case strings.IndexByte(`\'"?`, c) >= 0:
			return string(c)
		}
		return m
	})
}
