package paste

import (
	"errors"
	"regexp"
	"strings"
)

var (
	caret    = regexp.MustCompile(`\^[ \t]*(\n|$)|\^["%&{}\[\]|<>^]`)
	backtick = regexp.MustCompile("[ \t]`[ \t]*\n")
	percent  = regexp.MustCompile(`%([A-Za-z_][A-Za-z0-9_]*)%`)
)

// windows tells whether a command is written for one of the two shells of Windows,
// which write a line that goes on with ^ and with a backtick.
func windows(text string) (func(string) (*command, error), bool) {
	bare := unquoted(text)
	switch {
	case backtick.MatchString(bare) && !strings.Contains(bare, "\\\n"):
		return inPowerShell, true
	case caret.MatchString(bare) && !strings.Contains(bare, "\\\n"):
		return inPrompt, true
	}
	return nil, false
}

// unquoted is the text without what stands in single quotes, in which none of the
// marks means anything.
func unquoted(text string) string {
	var b strings.Builder
	in := false
	for _, c := range text {
		if c == '\'' {
			in = !in
		} else if !in {
			b.WriteRune(c)
		}
	}
	return b.String()
}

// inPrompt reads a command of the Windows command prompt: first ^ takes the meaning
// from the character behind it, and goes on into the next line; then the program
// splits what is left by blanks and quotes, in which a backslash before a quote keeps it.
func inPrompt(text string) (*command, error) {
	var line strings.Builder
	quoted := false
	runes := []rune(text)
	rest := len(runes)
	for i := 0; i < rest; i++ {
		switch c := runes[i]; {
		case c == '^' && !quoted && i+1 < len(runes):
			i++
			if runes[i] == '\n' { // the line goes on, and its first character is taken as it is
				if i++; i >= len(runes) {
					break
				}
			}
			line.WriteRune(runes[i])
		case c == '^' && !quoted:
		case c == '"':
			quoted = !quoted
			line.WriteRune(c)
		case !quoted && strings.ContainsRune("|&><\n", c):
			rest = i
		default:
			line.WriteRune(c)
		}
	}
	words, err := splitArguments(line.String())
	if err != nil {
		return nil, err
	}
	for i, w := range words {
		words[i] = percent.ReplaceAllString(w, "$$$1")
	}
	c := &command{words: words}
	c.leftOut(string(runes[min(rest+1, len(runes)):]))
	return c, nil
}

// leftOut says so where something follows the command.
func (c *command) leftOut(rest string) {
	if strings.TrimSpace(rest) != "" {
		c.notes = append(c.notes, "What follows the command was left out.")
	}
}

// splitArguments splits a command line as programs for Windows do: blanks part, quotes
// keep together, and a backslash means itself unless a quote comes behind it.
func splitArguments(line string) ([]string, error) {
	var out []string
	var b strings.Builder
	quoted, there := false, false
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case c == '\\':
			n := 1
			for i+n < len(line) && line[i+n] == '\\' {
				n++
			}
			if i+n < len(line) && line[i+n] == '"' {
				b.WriteString(strings.Repeat(`\`, n/2))
				if n%2 == 1 {
					b.WriteByte('"')
					n++
				}
			} else {
				b.WriteString(strings.Repeat(`\`, n))
			}
			there = true
			i += n - 1
		case c == '"' && quoted && i+1 < len(line) && line[i+1] == '"':
			b.WriteByte('"')
			i++
		case c == '"':
			quoted, there = !quoted, true
		case (c == ' ' || c == '\t') && !quoted:
			if there {
				out = append(out, b.String())
				b.Reset()
			}
			there = false
		default:
			b.WriteByte(c)
			there = true
		}
	}
	if quoted {
		return nil, errors.New("the command cannot be read: a quote is not closed")
	}
	if there {
		out = append(out, b.String())
	}
	return out, nil
}

// inPowerShell reads a command of the newer shell: '…' keeps everything but a doubled
// quote, "…" knows ` as its escape, and ` at the end of a line goes on into the next.
func inPowerShell(text string) (*command, error) {
	var out []string
	var b strings.Builder
	there := false
	end := func() {
		if there {
			out = append(out, b.String())
		}
		b.Reset()
		there = false
	}
	escapes := map[byte]byte{'n': '\n', 't': '\t', 'r': '\r', '0': 0}
	rest := len(text)
	for i := 0; i < rest; i++ {
		switch c := text[i]; {
		case c == '`' && i+1 < len(text):
			if i++; text[i] == '\n' {
				end()
			} else {
				b.WriteByte(text[i])
				there = true
			}
		case c == '\'' || c == '"':
			there = true
			closed := false
			for i++; i < len(text); i++ {
				if text[i] == c {
					if i+1 < len(text) && text[i+1] == c {
						i++
					} else {
						closed = true
						break
					}
				} else if c == '"' && text[i] == '`' && i+1 < len(text) {
					i++
					if e, ok := escapes[text[i]]; ok {
						b.WriteByte(e)
						continue
					}
				}
				b.WriteByte(text[i])
			}
			if !closed {
				return nil, errors.New("the command cannot be read: a quote is not closed")
			}
		case c == ' ' || c == '\t':
			end()
		case c == '\n' || c == ';' || c == '|':
			if end(); len(out) > 0 {
				rest = i
			}
		default:
			b.WriteByte(c)
			there = true
		}
	}
	end()
	for i, w := range out { // what is handed to a program has its quotes escaped once more
		out[i] = strings.ReplaceAll(w, `\"`, `"`)
	}
	c := &command{words: out}
	c.leftOut(text[min(rest+1, len(text)):])
	return c, nil
}
