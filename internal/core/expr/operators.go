package expr

import (
	"errors"
	"math"
	"math/bits"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/expr-lang/expr/ast"
)

func (c *compiler) unary(n *ast.UnaryNode) evaluator {
	operand, pos := c.compile(n.Node), n.Location().From
	switch n.Operator {
	case "not", "!":
		return func(m *machine) (any, error) {
			v, err := operand(m)
			if err != nil {
				return nil, err
			}
			ok, err := m.truth(pos, v)
			return !ok, err
		}
	case "+", "-":
		negate := n.Operator == "-"
		return func(m *machine) (any, error) {
			v, err := operand(m)
			if err != nil {
				return nil, err
			}
			switch v := v.(type) {
			case nil:
				return nil, nil
			case int64:
				if !negate {
					return v, nil
				}
				if v == math.MinInt64 {
					return nil, m.errorf(pos, "the result is larger than a 64-bit whole number")
				}
				return -v, nil
			case float64:
				if negate {
					return -v, nil
				}
				return v, nil
			case time.Duration:
				if negate {
					return -v, nil
				}
				return v, nil
			}
			return nil, m.errorf(pos, "%s needs a number; this is %s", n.Operator, show(v))
		}
	}
	return c.fail(n, "the operator %s is not known", n.Operator)
}

func (c *compiler) binary(n *ast.BinaryNode) evaluator {
	left, pos := c.compile(n.Left), n.Location().From
	switch n.Operator {
	case "matches":
		return c.matches(n, left)
	case "and", "&&", "or", "||":
		return logical(left, c.compile(n.Right), n.Left.Location().From, n.Right.Location().From, n.Operator[0] == 'o' || n.Operator[0] == '|')
	case "??":
		right := c.compile(n.Right)
		return func(m *machine) (any, error) {
			if v, err := left(m); v != nil || err != nil {
				return v, err
			}
			return right(m)
		}
	}
	right := c.compile(n.Right)
	apply, ok := operators[n.Operator]
	if !ok {
		return c.fail(n, "the operator %s is not known", n.Operator)
	}
	return func(m *machine) (any, error) {
		l, err := left(m)
		if err != nil {
			return nil, err
		}
		r, err := right(m)
		if err != nil {
			return nil, err
		}
		return apply(m, pos, l, r)
	}
}

func logical(left, right evaluator, lpos, rpos int, or bool) evaluator {
	return func(m *machine) (any, error) {
		l, err := left(m)
		if err != nil {
			return nil, err
		}
		a, err := m.truth(lpos, l)
		if err != nil || a == or {
			return a, err
		}
		r, err := right(m)
		if err != nil {
			return nil, err
		}
		return m.truthValue(rpos, r)
	}
}

func (m *machine) truthValue(pos int, v any) (any, error) {
	ok, err := m.truth(pos, v)
	return ok, err
}

// matches compiles a constant pattern once. Patterns are linear in time (RE2), so
// that none can hang an evaluation; what they read is charged.
func (c *compiler) matches(n *ast.BinaryNode, left evaluator) evaluator {
	pos := n.Right.Location().From
	pattern := func(*machine) (*regexp.Regexp, error) { return nil, nil }
	if s, ok := n.Right.(*ast.StringNode); ok {
		re, err := compilePattern(s.Value)
		if err != nil {
			return c.fail(n.Right, "%v", err)
		}
		pattern = func(*machine) (*regexp.Regexp, error) { return re, nil }
	} else {
		right := c.compile(n.Right)
		pattern = func(m *machine) (*regexp.Regexp, error) {
			v, err := right(m)
			if err != nil || v == nil {
				return nil, err
			}
			re, err := m.pattern(Text(v))
			if err != nil {
				return nil, m.wrap(pos, err)
			}
			return re, nil
		}
	}
	return func(m *machine) (any, error) {
		v, err := left(m)
		if err != nil {
			return nil, err
		}
		re, err := pattern(m)
		if err != nil {
			return nil, err
		}
		if v == nil || re == nil {
			return false, nil
		}
		s := Text(v)
		if err := m.work(pos, len(s)/matching); err != nil {
			return nil, err
		}
		return re.MatchString(s), nil
	}
}

type operator func(m *machine, pos int, l, r any) (any, error)

var operators = map[string]operator{
	"+": add, "-": subtract, "*": arithmetic("*"), "/": arithmetic("/"), "%": arithmetic("%"), "**": arithmetic("**"), "^": arithmetic("**"),
	"==": func(m *machine, pos int, l, r any) (any, error) { return m.equal(pos, l, r) },
	"!=": func(m *machine, pos int, l, r any) (any, error) {
		same, err := m.equal(pos, l, r)
		return !same, err
	},
	"<":          ordering("<", func(c int) bool { return c < 0 }),
	"<=":         ordering("<=", func(c int) bool { return c <= 0 }),
	">":          ordering(">", func(c int) bool { return c > 0 }),
	">=":         ordering(">=", func(c int) bool { return c >= 0 }),
	"in":         within,
	"contains":   textTest("contains", strings.Contains),
	"startsWith": textTest("startsWith", strings.HasPrefix),
	"endsWith":   textTest("endsWith", strings.HasSuffix),
	"..":         span,
}

func textTest(name string, test func(a, b string) bool) operator {
	return func(m *machine, pos int, l, r any) (any, error) {
		if l == nil || r == nil {
			return false, nil
		}
		a, ok1 := l.(string)
		b, ok2 := r.(string)
		if !ok1 || !ok2 {
			return nil, m.errorf(pos, "%s compares text; these are %s and %s", name, show(l), show(r))
		}
		return test(a, b), nil
	}
}

func add(m *machine, pos int, l, r any) (any, error) {
	_, lt := l.(string)
	_, rt := r.(string)
	if lt || rt {
		if err := errors.Join(m.written(pos, l), m.written(pos, r)); err != nil {
			return nil, err
		}
		return Text(l) + Text(r), nil
	}
	if a, ok := l.([]any); ok {
		if b, ok := r.([]any); ok {
			if err := m.charge(pos, 16*(len(a)+len(b))); err != nil {
				return nil, err
			}
			return append(append(make([]any, 0, len(a)+len(b)), a...), b...), nil
		}
	}
	switch a := l.(type) {
	case time.Time:
		if d, ok := r.(time.Duration); ok {
			return a.Add(d), nil
		}
	case time.Duration:
		switch b := r.(type) {
		case time.Duration:
			return a + b, nil
		case time.Time:
			return b.Add(a), nil
		}
	}
	return calculate(m, pos, "+", l, r)
}

func subtract(m *machine, pos int, l, r any) (any, error) {
	switch a := l.(type) {
	case time.Time:
		switch b := r.(type) {
		case time.Time:
			return a.Sub(b), nil
		case time.Duration:
			return a.Add(-b), nil
		}
	case time.Duration:
		if b, ok := r.(time.Duration); ok {
			return a - b, nil
		}
	}
	return calculate(m, pos, "-", l, r)
}

func arithmetic(op string) operator {
	return func(m *machine, pos int, l, r any) (any, error) { return calculate(m, pos, op, l, r) }
}

func calculate(m *machine, pos int, op string, l, r any) (any, error) {
	if l == nil || r == nil {
		return nil, nil
	}
	if !isNumber(l) || !isNumber(r) {
		return nil, m.errorf(pos, "%s needs numbers; these are %s and %s%s", op, show(l), show(r), offerNumber(l, r))
	}
	v, err := calculateNumbers(op, l, r)
	if err != nil {
		return nil, m.wrap(pos, err)
	}
	return v, nil
}

// whole computes exactly in 64 bits; not ok where the result does not fit or
// is not whole.
func whole(op string, a, b int64) (any, bool) {
	switch op {
	case "+":
		c := a + b
		return c, (c > a) == (b > 0)
	case "-":
		c := a - b
		return c, (c < a) == (b > 0)
	case "*":
		return multiply(a, b)
	case "/":
		if b == 0 || a%b != 0 || (a == math.MinInt64 && b == -1) {
			return nil, false
		}
		return a / b, true
	case "%":
		if b == 0 {
			return nil, false
		}
		if b == -1 {
			return int64(0), true
		}
		return a % b, true
	case "**":
		if b < 0 || b > 64 {
			return nil, false
		}
		c := int64(1)
		for range b {
			v, ok := multiply(c, a)
			if !ok {
				return nil, false
			}
			c = v.(int64)
		}
		return c, true
	}
	return nil, false
}

func multiply(a, b int64) (any, bool) {
	hi, lo := bits.Mul64(magnitude(a), magnitude(b))
	most := uint64(math.MaxInt64)
	negative := (a < 0) != (b < 0)
	if negative {
		most++ // there is one negative number more
	}
	if hi != 0 || lo > most {
		return nil, false
	}
	if negative {
		return -int64(lo), true
	}
	return int64(lo), true
}

func magnitude(a int64) uint64 {
	if a < 0 {
		return uint64(-a)
	}
	return uint64(a)
}

func asFloat(v any) (float64, bool) {
	switch v := v.(type) {
	case int64:
		return float64(v), true
	case float64:
		return v, true
	}
	return 0, false
}

func offerNumber(l, r any) string {
	for _, v := range []any{l, r} {
		if s, ok := v.(string); ok && looksNumeric(s) {
			return "; turn text into a number with number(…)"
		}
	}
	return ""
}

func looksNumeric(s string) bool {
	_, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
	return err == nil
}

func isNumber(v any) bool { _, ok := asFloat(v); return ok }
