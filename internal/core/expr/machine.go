package expr

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"
)

// Bounds of one evaluation. Each reached is an error of that evaluation only.
const (
	MaxSteps  = 2_000_000 // function calls and rounds of bodies
	MaxMemory = 32 << 20  // bytes of text and lists made
)

// Scope is what an expression can see.
type Scope struct {
	Item  map[string]any
	Names map[string]any // the other names: values, Lazy or Fields
	Place Place          // instead of Names and Seed, where it is set
	Now   time.Time      // what now() gives
	Zone  *time.Location // for dates without a zone; UTC if nil
	Seed  string         // from which uuid() is made

	// Context ends an evaluation for which nobody waits any more; its error is then
	// that of the context. Nil for none.
	Context context.Context

	// Signer makes codes with the secrets of connections; nil where there is none.
	Signer Signer

	// Lists reads the lists of the workspace; nil where there is none.
	Lists Lists

	// Others remembers what others had a part in; nil where nothing is kept.
	Others Others
}

// Place finds names only when they are read, so that a scope costs nothing to
// make.
type Place interface {
	// Lookup finds a name: a value or Fields. The error says why it cannot be used.
	Lookup(name string) (any, error)
	// Seed is what uuid() is made from.
	Seed() string
}

func (s *Scope) seed() string {
	if s.Place != nil {
		return s.Place.Seed()
	}
	return s.Seed
}

// Signer makes authentication codes (HMAC-SHA-256, RFC 2104) with the secret of a
// connection, which nobody sees.
type Signer interface {
	// Sign gives the code of a text. An *Away says that it is no fault of the item.
	Sign(connection, text string) ([]byte, error)
}

// Lists reads the small tables that colleagues edit.
type Lists interface {
	// List gives the rows as they stand, an object each, which nobody changes. An
	// *Away says that it is no fault of the item.
	List(name string) ([]any, error)
}

// Away says that something of ours is away: the evaluation ends, and says nothing
// of the item.
type Away struct{ Err error }

func (a *Away) Error() string { return a.Err.Error() }
func (a *Away) Unwrap() error { return a.Err }

// brokenBy is the error with which an evaluation ends that something of ours kept
// from its end; nil for others.
func brokenBy(err error) error {
	var away *Away
	if errors.As(err, &away) {
		return away.Err
	}
	return nil
}

// Lazy is a name in scope that is worked out when it is first read.
type Lazy func() (any, error)

// Fields is an object in scope whose fields are found one by one, as steps.
type Fields interface {
	Field(name string) (any, error)
}

func (s *Scope) lookup(name string) (any, error) {
	if s.Place != nil {
		return s.Place.Lookup(name)
	}
	v, ok := s.Names[name]
	if !ok {
		return nil, fmt.Errorf("%s cannot be used here", name)
	}
	if lazy, ok := v.(Lazy); ok {
		return lazy()
	}
	return v, nil
}

func (s *Scope) zone() *time.Location {
	if s.Zone == nil {
		return time.UTC
	}
	return s.Zone
}

// Error says what went wrong in an expression, and where.
type Error struct {
	Source  string
	Pos     int // offset in characters
	Message string
}

func (e *Error) Error() string {
	return fmt.Sprintf("%s (character %d of %s)", e.Message, e.Pos+1, quote(e.Source))
}

func quote(s string) string {
	return "“" + shortly(s) + "”"
}

type machine struct {
	source   string
	scope    *Scope
	lets     []any
	element  any
	position any
	total    any
	steps    int
	memory   int
	uuids    int
	met      bool      // others decide something of it
	recalled *Decision // what it is known to give
	broken   error     // why that could not be found out
	patterns map[string]*regexp.Regexp
}

// Eval works out the expression's value. Times and durations come back as
// text, so that the result is always a JSON value.
func (p *Program) Eval(s *Scope) (any, error) {
	if p.simple != nil {
		if v, ok := p.simple.eval(s.Item); ok {
			return v, nil
		}
	}
	return p.settled(s)
}

var tooMuch = fmt.Sprintf("the expression makes more than %d MiB of text and lists", MaxMemory>>20)

// Machines are kept for the next evaluation, so that reading a field costs no
// allocation.
var machines = sync.Pool{New: func() any { return new(machine) }}

// settled works out the expression's value, as text where it is a time, and
// remembers it where others had a part in it.
func (p *Program) settled(s *Scope) (any, error) {
	v, met, err := run(p.Source, p.root, s)
	if left := MaxMemory; err == nil && !weigh(v, &left) {
		err = &Error{Source: p.Source, Message: tooMuch}
	}
	if err == nil {
		v = settle(v)
	}
	if !met {
		return v, err
	}
	d := Decision{Value: v}
	if err != nil {
		if !errors.As(err, &d.Wrong) { // nobody waits any more
			return nil, err
		}
		d.Value = nil
	}
	s.Others.Record(p.Source, d)
	return v, err
}

// run evaluates. It tells whether others had a part in what comes out, and
// nobody has remembered it yet.
func run(source string, root evaluator, s *Scope) (v any, met bool, err error) {
	m := machines.Get().(*machine)
	*m = machine{source: source, scope: s, lets: m.lets[:0]}
	v, err = root(m)
	switch met = m.met && m.recalled == nil; {
	case m.broken != nil:
		v, met, err = nil, false, m.broken
	case m.recalled != nil:
		if v, err = m.recalled.Value, nil; m.recalled.Wrong != nil {
			err = m.recalled.Wrong
		}
	}
	clear(m.lets)
	*m = machine{lets: m.lets}
	machines.Put(m)
	if err != nil {
		v = nil
	}
	return v, met, err
}

// Holds evaluates the expression as a condition. Nothing counts as false.
func (p *Program) Holds(s *Scope) (bool, error) {
	if p.simple != nil && p.simple.op != "" {
		if holds, ok := p.simple.holds(s.Item[p.simple.field]); ok {
			return holds, nil
		}
	}
	v, err := p.settled(s)
	if err != nil {
		return false, err
	}
	if ok, isBool := v.(bool); isBool || v == nil {
		return ok, nil
	}
	return false, &Error{Source: p.Source, Message: fmt.Sprintf("a condition is true or false; this is %s", show(v))}
}

func (m *machine) errorf(pos int, format string, args ...any) error {
	return &Error{Source: m.source, Pos: pos, Message: fmt.Sprintf(format, args...)}
}

func (m *machine) wrap(pos int, err error) error {
	if m.left(err) {
		return err
	}
	var e *Error
	if errors.As(err, &e) {
		return e
	}
	return &Error{Source: m.source, Pos: pos, Message: err.Error()}
}

// within puts an error of a function where the function is called.
func (m *machine) within(pos int, name string, err error) error {
	if m.left(err) {
		return err
	}
	var e *Error
	if errors.As(err, &e) && e.Message != "" {
		return &Error{Source: m.source, Pos: pos, Message: name + ": " + e.Message}
	}
	return &Error{Source: m.source, Pos: pos, Message: name + ": " + strings.ReplaceAll(err.Error(), "\n", "; ")}
}

// left tells whether an error says that nobody waits any more.
func (m *machine) left(err error) bool {
	return m.scope != nil && m.scope.Context != nil && m.scope.Context.Err() != nil && errors.Is(err, m.scope.Context.Err())
}

func (m *machine) step(pos int) error { return m.work(pos, 1) }

// looks is after how many steps an evaluation looks whether anybody still waits
// for it.
const looks = 1 << 12

// work is called before as many steps are taken: those of functions that read
// much count by the bytes that they read, so that what an evaluation may cost is
// the same on every machine.
func (m *machine) work(pos, n int) error {
	before := m.steps
	if m.steps += n; m.steps > MaxSteps || n < 0 {
		return m.errorf(pos, "the expression takes more than %d steps; what it reads is too large for what it does", MaxSteps)
	}
	if ctx := m.scope.Context; ctx != nil && before/looks != m.steps/looks {
		return ctx.Err()
	}
	return nil
}

// reads is called before the characters of a text are counted.
func (m *machine) reads(pos int, s string) error {
	if !settled(s) {
		if err := m.decided(); err != nil {
			return err
		}
	}
	return m.work(pos, len(s)/reading)
}

// charge is called before n bytes are made.
func (m *machine) charge(pos, n int) error {
	if m.memory += n; m.memory > MaxMemory || n < 0 {
		return m.errorf(pos, "%s", tooMuch)
	}
	return nil
}

func (m *machine) truth(pos int, v any) (bool, error) {
	switch v := v.(type) {
	case bool:
		return v, nil
	case nil:
		return false, nil
	}
	return false, m.errorf(pos, "a condition is true or false; this is %s", show(v))
}

func (m *machine) field(pos int, v any, name string) (any, error) {
	switch v := v.(type) {
	case nil:
		return nil, nil
	case map[string]any:
		return v[name], nil
	case Fields:
		f, err := v.Field(name)
		if err != nil {
			return nil, m.wrap(pos, err)
		}
		return f, nil
	case []any:
		return nil, m.errorf(pos, "this is a list of %d, which has no field %s; take one with [0].%s, or all with map(…, .%s)", len(v), name, name, name)
	}
	return nil, m.errorf(pos, "%s has no field %s", show(v), name)
}

func (m *machine) index(pos int, v any, i int64) (any, error) {
	switch v := v.(type) {
	case nil:
		return nil, nil
	case []any:
		if i < 0 {
			i += int64(len(v))
		}
		if i < 0 || i >= int64(len(v)) {
			return nil, nil
		}
		return v[i], nil
	case string:
		if err := m.reads(pos, v); err != nil {
			return nil, err
		}
		n := int64(characters(v))
		if i < 0 {
			i += n
		}
		if i < 0 || i >= n {
			return nil, nil
		}
		return cut(v, int(i), int(i)+1), nil
	}
	return nil, m.errorf(pos, "%s is not a list", show(v))
}

func (m *machine) slice(pos int, v, from, to any) (any, error) {
	bound := func(b any, length, other int) (int, error) {
		switch b := b.(type) {
		case nil:
			return other, nil
		case int64:
			if b < 0 {
				b += int64(length)
			}
			return int(max(0, min(b, int64(length)))), nil
		}
		return 0, m.errorf(pos, "a place in a list or text is a whole number; this is %s", show(b))
	}
	bounds := func(length int) (int, int, error) {
		f, err := bound(from, length, 0)
		if err != nil {
			return 0, 0, err
		}
		t, err := bound(to, length, length)
		return f, max(f, t), err
	}
	switch v := v.(type) {
	case nil:
		return nil, nil
	case []any:
		f, t, err := bounds(len(v))
		if err != nil {
			return nil, err
		}
		return v[f:t:t], nil
	case string:
		if err := m.reads(pos, v); err != nil {
			return nil, err
		}
		f, t, err := bounds(characters(v))
		if err != nil {
			return nil, err
		}
		return cut(v, f, t), nil
	}
	return nil, m.errorf(pos, "%s is neither a list nor text", show(v))
}

// written is called before a value is written out, compared or walked through.
func (m *machine) written(pos int, v any) error {
	before := max(0, MaxMemory-m.memory)
	left := before
	if !weigh(v, &left) {
		return m.charge(pos, MaxMemory+1)
	}
	if err := m.work(pos, (before-left)/reading); err != nil {
		return err
	}
	return m.charge(pos, before-left)
}
