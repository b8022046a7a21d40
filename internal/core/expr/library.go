package expr

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Function describes one function of the library for help and completion.
type Function struct {
	Name       string      `json:"name"`
	Group      string      `json:"group"`
	Usage      string      `json:"usage"` // truncate(text, length)
	Parameters []Parameter `json:"parameters"`
	Gives      string      `json:"gives"`   // the type of what it gives
	Help       string      `json:"help"`    // one line
	Errors     string      `json:"errors"`  // when it is an error, beside values of other types; "" for never
	Example    string      `json:"example"` // an expression
	Result     string      `json:"result"`  // what the example gives, as JSON
	Words      string      `json:"words"`   // by which people look for it, beside those of its help
}

// Parameter is one value that a function takes.
type Parameter struct {
	Name     string `json:"name"`
	Type     string `json:"type"`
	Optional bool   `json:"optional"`
	Several  bool   `json:"several"` // as many as one likes
}

type function struct {
	Function
	min, max int
	nothing  bool // takes nothing as its first value, instead of giving it back
	weight   int  // how many bytes it reads in one step
	base     int  // steps that a call takes, whatever it reads
	makers   []maker
	zoned    int     // the place of the zone in which a time without an offset is taken; 0 for that of the scope
	clocks   bool    // it takes times or zones
	others   decider // whether others decide what a call gives; nil for never
	call     func(m *machine, a args) (any, error)
}

// Functions lists the whole library by group, in the order of the table.
func Functions() []Function {
	out := make([]Function, 0, len(table))
	for _, f := range table {
		out = append(out, f.Function)
	}
	return out
}

// FunctionNames lists the names of all functions in alphabetical order.
func FunctionNames() []string {
	names := make([]string, 0, len(table))
	for _, f := range table {
		names = append(names, f.Name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

var library = map[string]*function{}

func init() {
	for i := range table {
		if f := &table[i]; f.call != nil {
			library[f.Name] = f
		}
	}
}

var table = slices.Concat(textFunctions, patternFunctions, pageFunctions, addressFunctions, numberFunctions, listFunctions, objectFunctions, timeFunctions, workFunctions, encodingFunctions, quotingFunctions, checkFunctions)

const (
	many    = 64
	reading = 256 // bytes that plain work on text reads in one step
)

func group(name string, functions ...function) []function {
	for i := range functions {
		functions[i].Group = name
	}
	return functions
}

// An option says more of a function.
type option func(*function)

// takesNothing marks a function for which nothing has a meaning of its own.
func takesNothing(f *function) { f.nothing = true }

// fails says when a function is an error.
func fails(when string) option { return func(f *function) { f.Errors = when } }

// found gives further words by which people look for a function.
func found(words string) option { return func(f *function) { f.Words = words } }

// costs says how many bytes a function reads in one step, where it is slower
// than others.
func costs(bytes int) option { return func(f *function) { f.weight = bytes } }

// takes says how many steps a call takes at least, where it is more than one: a
// step is about half a microsecond.
func takes(steps int) option { return func(f *function) { f.base = steps } }

// fn describes a function by its signature, as "left(text: text, n: whole) text".
// A question mark after a parameter's name says that it may be left out, dots
// that there may be several of it.
func fn(signature, help, example, result string, call func(m *machine, a args) (any, error), options ...option) function {
	f := function{Function: Function{Help: help, Example: example, Result: result}, weight: reading, base: 1, call: call}
	open, end := strings.IndexByte(signature, '('), strings.LastIndexByte(signature, ')')
	f.Name, f.Gives = signature[:open], strings.TrimSpace(signature[end+1:])
	var shown []string
	for _, p := range strings.Split(signature[open+1:end], ", ") {
		name, kind, ok := strings.Cut(p, ": ")
		if !ok {
			continue
		}
		q := Parameter{Type: kind}
		q.Name, q.Optional = strings.CutSuffix(name, "?")
		q.Name, q.Several = strings.CutSuffix(q.Name, "…")
		f.Parameters, f.makers = append(f.Parameters, q), append(f.makers, kinds[kind])
		shown = append(shown, name)
		f.clocks = f.clocks || q.Type == "time" || q.Type == "zone"
		if q.Type == "zone" && q.Optional {
			f.zoned = f.max
		}
		if f.max++; q.Several {
			f.max = many
		}
		if !q.Optional {
			f.min++
		}
	}
	f.Usage = f.Name + "(" + strings.Join(shown, ", ") + ")"
	for _, o := range options {
		o(&f)
	}
	return f
}

// withBody is an entry for a function whose body runs for each element; its
// work is done in walks.
func withBody(signature, help, example, result string, options ...option) function {
	return fn(signature, help, example, result, nil, options...)
}

// args are the values of one call, each of the type that the table says, or nil
// where it may be left out.
type args []any

func (a args) text(i int) string {
	if i < len(a) {
		s, _ := a[i].(string)
		return s
	}
	return ""
}

func (a args) whole(i int, otherwise int64) int64 {
	if i < len(a) && a[i] != nil {
		return a[i].(int64)
	}
	return otherwise
}

func (a args) list(i int) []any {
	if i < len(a) {
		l, _ := a[i].([]any)
		return l
	}
	return nil
}

func (a args) object(i int) map[string]any {
	if i < len(a) {
		o, _ := a[i].(map[string]any)
		return o
	}
	return nil
}

func (a args) time(i int) time.Time { return a[i].(time.Time) }

func (a args) duration(i int) time.Duration { return a[i].(time.Duration) }

// has tells whether a value that may be left out is there.
func (a args) has(i int) bool { return i < len(a) && a[i] != nil }

// zone is the zone given, or that of the scope.
func (a args) zone(m *machine, i int) *time.Location {
	if a.has(i) {
		return a[i].(*time.Location)
	}
	return m.scope.zone()
}

// maker makes a value of a type, or tells that it cannot.
type maker func(m *machine, v any) (any, bool, error)

// kinds are the types of parameters.
var kinds = map[string]maker{
	"any": func(_ *machine, v any) (any, bool, error) { return v, true, nil },
	"text": func(_ *machine, v any) (any, bool, error) {
		switch v := v.(type) {
		case string:
			return v, true, nil
		case []any, map[string]any:
			return nil, false, nil
		}
		return Text(v), true, nil
	},
	"whole": func(_ *machine, v any) (any, bool, error) {
		if f, ok := v.(float64); ok && isWhole(f) {
			return int64(f), true, nil
		}
		n, ok := v.(int64)
		return n, ok, nil
	},
	"number": func(_ *machine, v any) (any, bool, error) { return v, isNumber(v), nil },
	"yes": func(_ *machine, v any) (any, bool, error) {
		b, ok := v.(bool)
		return b, ok, nil
	},
	"list": func(_ *machine, v any) (any, bool, error) {
		l, ok := v.([]any)
		return l, ok, nil
	},
	"object": func(_ *machine, v any) (any, bool, error) {
		o, ok := v.(map[string]any)
		return o, ok, nil
	},
	"time": func(m *machine, v any) (any, bool, error) {
		if _, ok := v.(bool); ok {
			return nil, false, nil
		}
		t, err := m.time(v, m.scope.zone())
		return t, err == nil, err
	},
	"duration": func(_ *machine, v any) (any, bool, error) {
		switch v := v.(type) {
		case time.Duration:
			return v, true, nil
		case string:
			d, err := ParseDuration(v)
			return d, true, err
		}
		return nil, false, nil
	},
	"zone": func(_ *machine, v any) (any, bool, error) {
		name, ok := v.(string)
		if !ok {
			return nil, false, nil
		}
		zone, err := Zone(name)
		return zone, true, err
	},
}

// kindWords name the types of parameters to people.
var kindWords = map[string]string{
	"any": "anything", "text": "text", "whole": "a whole number", "number": "a number", "yes": "true or false", "list": "a list",
	"object": "an object", "time": "a time", "duration": "a duration", "zone": "a zone",
}

// empties are what nothing is taken for, where it is not the first value.
var empties = map[string]any{"text": "", "list": []any{}, "object": map[string]any{}}

var errNothing = fmt.Errorf("nothing")

// fit makes the values of a call those that the table says. It gives errNothing
// where the call gives nothing, since it was given nothing.
func (f *function) fit(m *machine, values []any) (args, error) {
	zone := m.scope.zone()
	if f.zoned > 0 && f.zoned < len(values) && values[f.zoned] != nil {
		z, ok, err := kinds["zone"](m, values[f.zoned])
		if !ok || err != nil {
			return nil, fmt.Errorf("%s is not a zone; zones are written as Europe/Lisbon", show(values[f.zoned]))
		}
		zone = z.(*time.Location)
	}
	for i, v := range values {
		at := min(i, len(f.Parameters)-1)
		p := &f.Parameters[at]
		if s, ok := v.(string); ok && p.Type == "time" {
			t, err := ParseTime(s, zone)
			if err != nil {
				return nil, err
			}
			v = t
		}
		if v == nil {
			switch {
			case i == 0 && !f.nothing:
				return nil, errNothing
			case p.Optional || p.Type == "any" || p.Several:
				continue
			case i == 0:
				values[i] = empties[p.Type]
				continue
			}
			empty, ok := empties[p.Type]
			if !ok {
				return nil, errNothing
			}
			values[i] = empty
			continue
		}
		fitted, ok, err := f.makers[at](m, v)
		if err != nil {
			return nil, err
		}
		if !ok {
			return nil, fmt.Errorf("%s should be %s and is %s%s", p.Name, kindWords[p.Type], show(v), cure(p.Type, v))
		}
		values[i] = fitted
	}
	return values, nil
}

// cure says how a value becomes one of the type wanted.
func cure(kind string, v any) string {
	switch s, isText := v.(string); {
	case (kind == "number" || kind == "whole") && isText && looksNumeric(s):
		return "; turn text into a number with number(…)"
	case kind == "whole" && isNumber(v):
		return "; make it whole with round(…), floor(…) or ceil(…)"
	case kind == "list" && isText:
		return "; split(…) makes a list of text"
	case kind == "text":
		if _, list := v.([]any); list {
			return "; join(…) makes one text of a list, json(…) writes any value as text"
		}
		return "; json(…) writes any value as text, .NAME takes a field of it"
	}
	return ""
}

// breadth is how much a call reads of a value at its surface.
func breadth(v any) int {
	switch v := v.(type) {
	case string:
		return len(v)
	case []any:
		return 16 * len(v)
	case map[string]any:
		return 32 * len(v)
	}
	return 0
}

// text1 makes a function of one text.
func text1(apply func(string) string) func(*machine, args) (any, error) {
	return func(m *machine, a args) (any, error) {
		s := a.text(0)
		if err := m.charge(0, 2*len(s)); err != nil {
			return nil, err
		}
		return apply(s), nil
	}
}
