package expr

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/expr-lang/expr/ast"

	"youngtrellis/internal/core/near"
)

// MaxSource is the longest expression, in bytes.
const MaxSource = 16 << 10

// Program is a compiled expression. It is safe for use by many goroutines.
type Program struct {
	Source string
	Refs   []Ref // every path that it reads, in order of appearance
	Calls  []string
	in     Names
	root   evaluator
	tree   ast.Node
	parts  sync.Map // evaluators of its parts, by node
	simple *simple  // nil where it is not
}

// Ref is a path that an expression reads, as item.cone or steps.slot.starts.
type Ref struct {
	Path []string
	Pos  int // offset in characters
}

type evaluator func(*machine) (any, error)

// Names are those by which an expression reads values at some place: item, for the
// item in scope, and others. Functions that reach into a run stand among them.
type Names []string

func (n Names) has(name string) bool { return slices.Contains(n, name) }

// functions are those that can be called where the names are known.
func (n Names) functions() []string {
	return slices.DeleteFunc(FunctionNames(), func(f string) bool { return slices.Contains(inRuns, f) && !n.has(f) })
}

// inRuns are functions that can be called only where they stand among the names:
// they reach into a run.
var inRuns = []string{"column", "hmac", "list"}

// quoted are functions that take the name of something of the workspace in quotes, so
// that it is known what they reach before they do.
var quoted = map[string]struct {
	at        int // of the argument
	thing, as string
}{
	"hmac": {1, "connection", `hmac(item.text, "studio")`},
	"list": {0, "list", `list("duty")`},
}

// Compile reads an expression that can read values by these names. Every error is
// an *Error with its position.
func Compile(source string, in Names) (*Program, error) {
	if len(source) > MaxSource {
		return nil, &Error{Source: source[:40] + "…", Message: fmt.Sprintf("the expression is longer than %d characters", MaxSource)}
	}
	if !utf8.ValidString(source) {
		return nil, &Error{Source: strings.ToValidUTF8(source, "?"), Message: "the expression is not valid UTF-8 text"}
	}
	if strings.TrimSpace(source) == "" {
		return nil, &Error{Source: source, Message: "there is no expression here"}
	}
	root, err := parse(source)
	if err != nil {
		return nil, err
	}
	c := &compiler{source: source, in: in}
	evaluate := c.compile(root)
	if c.err != nil {
		return nil, c.err
	}
	return &Program{Source: source, in: in, Refs: c.refs, Calls: c.calls, root: evaluate, tree: root, simple: simpleOf(root)}, nil
}

// MustCompile is Compile for expressions that stand in the program itself.
func MustCompile(source string, in Names) *Program {
	p, err := Compile(source, in)
	if err != nil {
		panic(err)
	}
	return p
}

type compiler struct {
	source string
	in     Names
	refs   []Ref
	calls  []string
	lets   []string
	depth  int
	err    error
}

func (c *compiler) fail(n ast.Node, format string, args ...any) evaluator {
	if c.err == nil {
		c.err = &Error{Source: c.source, Pos: n.Location().From, Message: fmt.Sprintf(format, args...)}
	}
	return func(*machine) (any, error) { return nil, c.err }
}

func constant(v any) evaluator { return func(*machine) (any, error) { return v, nil } }

const maxTree = 200

func (c *compiler) compile(n ast.Node) evaluator {
	c.depth++
	defer func() { c.depth-- }()
	if c.depth > maxTree {
		return c.fail(n, "the expression is nested deeper than %d levels", maxTree)
	}
	switch n := n.(type) {
	case *ast.NilNode:
		return constant(nil)
	case *ast.IntegerNode:
		return constant(int64(n.Value))
	case *ast.FloatNode:
		return constant(n.Value)
	case *ast.BoolNode:
		return constant(n.Value)
	case *ast.StringNode:
		return constant(n.Value)
	case *ast.ConstantNode:
		return constant(n.Value)
	case *ast.IdentifierNode:
		return c.identifier(n)
	case *ast.ChainNode:
		return c.compile(n.Node)
	case *ast.MemberNode:
		return c.member(n)
	case *ast.UnaryNode:
		return c.unary(n)
	case *ast.BinaryNode:
		return c.binary(n)
	case *ast.ConditionalNode:
		return c.conditional(n)
	case *ast.SliceNode:
		return c.slice(n)
	case *ast.ArrayNode:
		return c.list(n)
	case *ast.MapNode:
		return c.object(n)
	case *ast.PointerNode:
		return c.pointer(n)
	case *ast.VariableDeclaratorNode:
		return c.let(n)
	case *ast.CallNode:
		return c.call(n)
	case *ast.BuiltinNode:
		return c.builtin(n)
	}
	return c.fail(n, "this form is not part of the expression language")
}

func (c *compiler) ref(path []string, pos int) { c.refs = append(c.refs, Ref{path, pos}) }

// roots are all names that some place knows.
var roots = Names{"column", "hmac", "item", "trigger", "steps", "round", "run", "vars", "error", "account", "input", "page", "output", "response", "list", "submitted", "search", "header", "status", "method", "path", "query", "host", "time", "nonce", "body", "body_hash", "request"}

func (c *compiler) identifier(n *ast.IdentifierNode) evaluator {
	name := n.Value
	for i := len(c.lets) - 1; i >= 0; i-- {
		if c.lets[i] == name {
			return func(m *machine) (any, error) { return m.lets[i], nil }
		}
	}
	c.ref([]string{name}, n.Location().From)
	if !c.in.has(name) {
		return c.fail(n, "%s", c.in.unknown(name))
	}
	if name == "item" {
		return func(m *machine) (any, error) { return m.scope.Item, nil }
	}
	pos := n.Location().From
	return func(m *machine) (any, error) {
		v, err := m.scope.lookup(name)
		if err != nil {
			return nil, m.wrap(pos, err)
		}
		return v, nil
	}
}

func (c *compiler) member(n *ast.MemberNode) evaluator {
	if path, pos, ok := pathOf(n, c.in); ok {
		before := len(c.refs)
		e := c.memberOf(n)
		c.refs = append(c.refs[:before], Ref{path, pos})
		return e
	}
	return c.memberOf(n)
}

// pathOf reads a path that begins with one of the names.
func pathOf(n ast.Node, in Names) (path []string, pos int, ok bool) {
	switch n := n.(type) {
	case *ast.IdentifierNode:
		return []string{n.Value}, n.Location().From, in.has(n.Value)
	case *ast.ChainNode:
		return pathOf(n.Node, in)
	case *ast.MemberNode:
		key, isText := n.Property.(*ast.StringNode)
		if !isText {
			return nil, 0, false
		}
		path, pos, ok = pathOf(n.Node, in)
		return append(path, key.Value), pos, ok
	}
	return nil, 0, false
}

func (c *compiler) memberOf(n *ast.MemberNode) evaluator {
	base, pos := c.compile(n.Node), n.Location().From
	if key, ok := n.Property.(*ast.StringNode); ok {
		name := key.Value
		return func(m *machine) (any, error) {
			v, err := base(m)
			if err != nil {
				return nil, err
			}
			return m.field(pos, v, name)
		}
	}
	property := c.compile(n.Property)
	return func(m *machine) (any, error) {
		v, err := base(m)
		if err != nil {
			return nil, err
		}
		k, err := property(m)
		if err != nil {
			return nil, err
		}
		switch k := k.(type) {
		case nil:
			return nil, nil
		case string:
			return m.field(pos, v, k)
		case int64:
			return m.index(pos, v, k)
		}
		return nil, m.errorf(pos, "a position in a list is a whole number and the name of a field is text; this is %s", show(k))
	}
}

func (c *compiler) conditional(n *ast.ConditionalNode) evaluator {
	cond, yes, no := c.compile(n.Cond), c.compile(n.Exp1), c.compile(n.Exp2)
	pos := n.Cond.Location().From
	return func(m *machine) (any, error) {
		v, err := cond(m)
		if err != nil {
			return nil, err
		}
		ok, err := m.truth(pos, v)
		if err != nil {
			return nil, err
		}
		if ok {
			return yes(m)
		}
		return no(m)
	}
}

func (c *compiler) optional(n ast.Node) evaluator {
	if n == nil {
		return constant(nil)
	}
	return c.compile(n)
}

func (c *compiler) slice(n *ast.SliceNode) evaluator {
	base, from, to, pos := c.compile(n.Node), c.optional(n.From), c.optional(n.To), n.Location().From
	return func(m *machine) (any, error) {
		v, err := base(m)
		if err != nil {
			return nil, err
		}
		f, err := from(m)
		if err != nil {
			return nil, err
		}
		t, err := to(m)
		if err != nil {
			return nil, err
		}
		return m.slice(pos, v, f, t)
	}
}

func (c *compiler) list(n *ast.ArrayNode) evaluator {
	parts := make([]evaluator, len(n.Nodes))
	for i, e := range n.Nodes {
		parts[i] = c.compile(e)
	}
	pos := n.Location().From
	return func(m *machine) (any, error) {
		if err := m.charge(pos, 16*len(parts)); err != nil {
			return nil, err
		}
		out := make([]any, len(parts))
		for i, p := range parts {
			v, err := p(m)
			if err != nil {
				return nil, err
			}
			out[i] = v
		}
		return out, nil
	}
}

func (c *compiler) object(n *ast.MapNode) evaluator {
	type pair struct{ key, value evaluator }
	pairs := make([]pair, len(n.Pairs))
	for i, p := range n.Pairs {
		pn := p.(*ast.PairNode)
		pairs[i] = pair{c.compile(pn.Key), c.compile(pn.Value)}
	}
	pos := n.Location().From
	return func(m *machine) (any, error) {
		if err := m.charge(pos, 32*len(pairs)); err != nil {
			return nil, err
		}
		out := make(map[string]any, len(pairs))
		for _, p := range pairs {
			k, err := p.key(m)
			if err != nil {
				return nil, err
			}
			name, ok := k.(string)
			if !ok {
				return nil, m.errorf(pos, "the name of a field is text; this is %s", show(k))
			}
			if out[name], err = p.value(m); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
}

func (c *compiler) pointer(n *ast.PointerNode) evaluator {
	switch n.Name {
	case "":
		return func(m *machine) (any, error) { return m.element, nil }
	case "index":
		return func(m *machine) (any, error) { return m.position, nil }
	case "acc":
		return func(m *machine) (any, error) { return m.total, nil }
	}
	return c.fail(n, "#%s is not known; there are #, #index and #acc", n.Name)
}

func (c *compiler) let(n *ast.VariableDeclaratorNode) evaluator {
	value := c.compile(n.Value)
	c.lets = append(c.lets, n.Name)
	body := c.compile(n.Expr)
	c.lets = c.lets[:len(c.lets)-1]
	slot := len(c.lets)
	return func(m *machine) (any, error) {
		v, err := value(m)
		if err != nil {
			return nil, err
		}
		m.lets = append(m.lets[:slot], v)
		return body(m)
	}
}

func (c *compiler) call(n *ast.CallNode) evaluator {
	id, ok := n.Callee.(*ast.IdentifierNode)
	if !ok {
		return c.fail(n, "only functions by name can be called; a value is piped with | as in item.name | upper()")
	}
	if id.Value == "column" {
		return c.column(n)
	}
	return c.function(n, id.Value, n.Arguments)
}

// column reads every item that a step gave, as column("pieces").
func (c *compiler) column(n *ast.CallNode) evaluator {
	if !c.in.has("column") {
		return c.fail(n, "column(…) can be used only in the steps of a workflow")
	}
	var name *ast.StringNode
	if len(n.Arguments) == 1 {
		name, _ = n.Arguments[0].(*ast.StringNode)
	}
	if name == nil {
		return c.fail(n, "column takes the name of a step in quotes, as column(\"pieces\")")
	}
	pos := name.Location().From
	c.ref([]string{"column", name.Value}, pos)
	return func(m *machine) (any, error) {
		steps, err := m.scope.lookup("column")
		if err != nil {
			return nil, m.wrap(pos, err)
		}
		return m.field(pos, steps, name.Value)
	}
}

func (c *compiler) function(n ast.Node, name string, arguments []ast.Node) evaluator {
	f, ok := library[name]
	if !ok {
		return c.fail(n, "there is no function %s.%s", name, near.Hint(name, c.in.functions()))
	}
	if len(arguments) < f.min || len(arguments) > f.max {
		return c.fail(n, "%s takes %s, and has %d here: %s", name, arity(f.min, f.max), len(arguments), f.Usage)
	}
	c.calls = append(c.calls, name)
	if q, ok := quoted[name]; ok {
		if !c.in.has(name) {
			return c.fail(n, "%s(…) can be used only in the steps of a workflow", name)
		}
		of, ok := arguments[q.at].(*ast.StringNode)
		if !ok {
			return c.fail(arguments[q.at], "%s takes the name of a %s in quotes, as %s", name, q.thing, q.as)
		}
		c.ref([]string{name, of.Value}, of.Location().From)
	}
	args := make([]evaluator, len(arguments))
	for i, a := range arguments {
		args[i] = c.compile(a)
	}
	pos := n.Location().From
	return func(m *machine) (any, error) {
		values := make([]any, len(args))
		read := 0
		for i, a := range args {
			v, err := a(m)
			if err != nil {
				return nil, err
			}
			values[i] = v
			read += breadth(v)
		}
		if err := m.work(pos, read/f.weight+f.base); err != nil {
			return nil, err
		}
		fitted, err := f.fit(m, values)
		if err == errNothing {
			return nil, nil
		}
		if err == nil && f.decides(m, fitted) {
			if err := m.decided(); err != nil {
				return nil, err
			}
		}
		var v any
		if err == nil {
			v, err = f.call(m, fitted)
		}
		if err != nil {
			return nil, m.within(pos, name, err)
		}
		return v, nil
	}
}

func arity(low, high int) string {
	switch {
	case low == high && low == 0:
		return "no value"
	case low == high && low == 1:
		return "one value"
	case low == high:
		return fmt.Sprintf("%d values", low)
	case high >= 64:
		return fmt.Sprintf("%d or more values", low)
	}
	return fmt.Sprintf("%d to %d values", low, high)
}
