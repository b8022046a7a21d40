package expr

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
)

// Patterns are regular expressions of the kind that takes linear time (RE2), so
// that none can hang an evaluation; what they read is charged.
const matching = 8 // bytes that a pattern reads in one step

const mostMatches = 100_000

var patternFunctions = group("patterns",
	fn("match(text: text, pattern: text) text", "The first match of a regular expression, or of its first group; nothing where there is none.", `match("cone 06, slow", "cone (\\d+)")`, `"06"`, func(m *machine, a args) (any, error) {
		re, err := m.pattern(a.text(1))
		if err != nil {
			return nil, err
		}
		found := re.FindStringSubmatch(a.text(0))
		if found == nil {
			return nil, nil
		}
		return found[min(1, len(found)-1)], nil
	}, costs(matching), takes(4), fails("the pattern cannot be read"), found("regex regular expression extract find capture")),
	fn("match_all(text: text, pattern: text) list", "All matches of a regular expression, or of its first group, 100,000 at most.", `match_all("3 of 14", "\\d+")`, `["3","14"]`, func(m *machine, a args) (any, error) {
		re, err := m.pattern(a.text(1))
		if err != nil {
			return nil, err
		}
		var out []string
		for _, found := range re.FindAllStringSubmatch(a.text(0), mostMatches) {
			out = append(out, found[min(1, len(found)-1)])
		}
		return texts(m, out)
	}, costs(matching), takes(4), fails("the pattern cannot be read"), found("regex regular expression extract every find")),
	fn("replace_match(text: text, pattern: text, new: text) text", "Every match of a regular expression becomes new, in which $1 is what the first group found.", `replace_match("2 kg, 3 kg", "(\\d+) kg", "${1}000 g")`, `"2000 g, 3000 g"`, func(m *machine, a args) (any, error) {
		re, err := m.pattern(a.text(1))
		if err != nil {
			return nil, err
		}
		s, with := a.text(0), a.text(2)
		var out []byte
		last := 0
		for _, at := range re.FindAllStringSubmatchIndex(s, mostMatches) {
			before := len(out)
			out = append(out, s[last:at[0]]...)
			out = re.ExpandString(out, with, s, at)
			last = at[1]
			if err := m.charge(0, len(out)-before); err != nil {
				return nil, err
			}
		}
		return string(append(out, s[last:]...)), m.charge(0, len(s))
	}, costs(matching), takes(4), fails("the pattern cannot be read"), found("regex regular expression substitute rewrite")),
)

// pattern reads a regular expression; those that one evaluation meets again are
// kept.
func (m *machine) pattern(source string) (*regexp.Regexp, error) {
	if re, ok := m.patterns[source]; ok {
		return re, nil
	}
	if err := m.work(0, 4+4*len(source)); err != nil {
		return nil, err
	}
	re, err := compilePattern(source)
	if err != nil {
		return nil, err
	}
	if m.patterns == nil {
		m.patterns = map[string]*regexp.Regexp{}
	}
	if len(m.patterns) < 100 {
		m.patterns[source] = re
	}
	return re, nil
}

const longestPattern = 2000

func compilePattern(source string) (*regexp.Regexp, error) {
	if len(source) > longestPattern {
		return nil, fmt.Errorf("the pattern has %d characters; at most %d are taken", len(source), longestPattern)
	}
	re, err := regexp.Compile(source)
	if err != nil {
		return nil, patternError(source, err)
	}
	return re, nil
}

// patternError says what is wrong with a pattern in words of people.
func patternError(source string, err error) error {
	var what string
	e, ok := err.(*syntax.Error)
	if !ok {
		return fmt.Errorf("the pattern %s cannot be read", quote(source))
	}
	switch e.Code {
	case syntax.ErrInvalidPerlOp:
		what = "has " + quote(e.Expr) + ", which looks ahead or behind; such patterns are not taken, since they can take for ever. Match a little more, and take the group that is wanted"
	case syntax.ErrMissingParen:
		what = "has a bracket ( that is not closed"
	case syntax.ErrUnexpectedParen:
		what = "has a bracket ) that is not opened; a bracket itself is written \\)"
	case syntax.ErrMissingBracket:
		what = "has a bracket [ that is not closed; a bracket itself is written \\["
	case syntax.ErrMissingRepeatArgument:
		what = "has " + quote(e.Expr) + " with nothing before it that could be repeated; the sign itself is written \\" + e.Expr
	case syntax.ErrInvalidRepeatOp:
		what = "repeats twice with " + quote(e.Expr)
	case syntax.ErrInvalidRepeatSize:
		what = "repeats more often than can be, with " + quote(e.Expr) + "; at most 1000 times"
	case syntax.ErrTrailingBackslash:
		what = "ends with a backslash; a backslash itself is written \\\\"
	case syntax.ErrInvalidEscape:
		what = "has " + quote(e.Expr) + ", which stands for nothing"
	case syntax.ErrInvalidCharClass, syntax.ErrInvalidCharRange:
		what = "has " + quote(e.Expr) + ", which is no set of characters"
	case syntax.ErrInvalidNamedCapture:
		what = "has a group whose name is not right, " + quote(e.Expr)
	default:
		what = "cannot be read at " + quote(e.Expr)
	}
	return fmt.Errorf("the pattern %s %s", quote(source), strings.TrimSpace(what))
}
