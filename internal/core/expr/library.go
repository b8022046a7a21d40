package expr

import (
	"fmt"
	"slices"
	"strings"
)

// Function describes one function of the library for help and completion.
type Function struct {
	Name    string `json:"name"`
	Group   string `json:"group"`
	Usage   string `json:"usage"`   // truncate(text, length)
	Help    string `json:"help"`    // one line
	Example string `json:"example"` // an expression
	Result  string `json:"result"`  // what the example gives, as JSON
}

type function struct {
	Function
	min, max int
	nothing  bool // takes nothing as its first value, instead of giving it back
	call     func(m *machine, args []any) (any, error)
}

// Functions lists the whole library by group, in the order of the table.
func Functions() []Function {
	out := make([]Function, 0, len(table))
	for _, f := range table {
		out = append(out, f.Function)
	}
	return out
}

// Names lists the names of all functions in alphabetical order.
func Names() []string {
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
		f := &table[i]
		if i := strings.IndexByte(f.Usage, '('); f.Name == "" && i > 0 {
			f.Name = f.Usage[:i]
		}
		if f.call != nil {
			library[f.Name] = f
		}
	}
}

const many = 64

func group(name string, functions ...function) []function {
	for i := range functions {
		functions[i].Group = name
	}
	return functions
}

func fn(usage, help, example, result string, low, high int, call func(m *machine, args []any) (any, error)) function {
	return function{Function: Function{Usage: usage, Help: help, Example: example, Result: result}, min: low, max: high, call: call}
}

// takesNothing marks a function for which nothing has a meaning of its own.
func takesNothing(f function) function {
	f.nothing = true
	return f
}

// withBody is an entry for a function whose body runs for each element; its
// work is done in walks.
func withBody(usage, help, example, result string) function {
	return fn(usage, help, example, result, 2, 3, nil)
}

var table = slices.Concat(textFunctions, numberFunctions, listFunctions, objectFunctions, timeFunctions, encodingFunctions, checkFunctions)

func textArg(args []any, i int) (string, error) {
	if i >= len(args) || args[i] == nil {
		return "", nil
	}
	switch v := args[i].(type) {
	case string:
		return v, nil
	case []any, map[string]any:
		return "", fmt.Errorf("value %d should be text and is %s", i+1, show(v))
	default:
		return Text(v), nil
	}
}

func intArg(args []any, i int, otherwise int64) (int64, error) {
	if i >= len(args) || args[i] == nil {
		return otherwise, nil
	}
	n, ok := args[i].(int64)
	if !ok {
		return 0, fmt.Errorf("value %d should be a whole number and is %s", i+1, show(args[i]))
	}
	return n, nil
}

func listArg(args []any, i int) ([]any, error) {
	if i >= len(args) || args[i] == nil {
		return nil, nil
	}
	l, ok := args[i].([]any)
	if !ok {
		return nil, fmt.Errorf("value %d should be a list and is %s", i+1, show(args[i]))
	}
	return l, nil
}

func objectArg(args []any, i int) (map[string]any, error) {
	if args[i] == nil {
		return nil, nil
	}
	o, ok := args[i].(map[string]any)
	if !ok {
		return nil, fmt.Errorf("value %d should be an object and is %s", i+1, show(args[i]))
	}
	return o, nil
}

// text1 makes a function of one text.
func text1(apply func(string) string) func(*machine, []any) (any, error) {
	return func(m *machine, args []any) (any, error) {
		s, err := textArg(args, 0)
		if err != nil {
			return nil, err
		}
		if err := m.charge(0, 2*len(s)); err != nil {
			return nil, err
		}
		return apply(s), nil
	}
}
