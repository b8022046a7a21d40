package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"youngtrellis/internal/core/near"
)

// argument is one that a command takes, as its Use says: NAME, [NAME], NAME….
type argument struct {
	name     string
	optional bool
	several  bool
	group    int // those of one pair of brackets come together or not at all
}

// argumentsOf reads what a command takes of its Use. It is the only place where that is
// written, so that the help, the checks, their words and the completion say the same.
func argumentsOf(use string) (out []argument) {
	depth, group := false, 0
	for _, w := range strings.Fields(use)[1:] {
		if strings.HasPrefix(w, "[") {
			depth = true
			group++
		}
		x := argument{optional: depth}
		if depth {
			x.group = group
			depth = !strings.HasSuffix(w, "]")
		}
		w = strings.Trim(w, "[]")
		x.name, x.several = strings.CutSuffix(w, "…")
		out = append(out, x)
	}
	return out
}

// takes checks the arguments of a command.
func takes(c *cobra.Command, args []string) error {
	list := argumentsOf(c.Use)
	written := "It is written as: " + c.CommandPath() + strings.TrimPrefix(c.Use, c.Name())
	for i, x := range list {
		if i >= len(args) {
			begun := slices.ContainsFunc(list[:i], func(y argument) bool { return y.group == x.group }) && i > 0 && len(args) >= i && x.group > 0
			if x.optional && !begun {
				return nil
			}
			return usage("%s is missing. %s", x.name, written)
		}
		if args[i] == "" {
			return usage("%s is empty. %s", x.name, written)
		}
		if x.several {
			return nil
		}
	}
	if len(args) > len(list) {
		if len(list) == 0 {
			return usage("%q is one too many: %s takes nothing behind it", args[0], c.CommandPath())
		}
		return usage("%q is one too many. %s", args[len(list)], written)
	}
	return nil
}

// wrongFlag says what is wrong with a flag, and what there is instead.
func wrongFlag(c *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	var without *pflag.ValueRequiredError
	var value *pflag.InvalidValueError
	switch {
	case errors.As(err, &unknown):
		name := "--" + unknown.GetSpecifiedName()
		if unknown.GetSpecifiedShortnames() != "" {
			return usage("there is no flag -%s here; see %s --help", unknown.GetSpecifiedName(), c.CommandPath())
		}
		var known []string
		c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, "--"+f.Name) })
		return usage("there is no flag %s here.%s See %s --help", name, near.Hint(name, known), c.CommandPath())
	case errors.As(err, &without):
		return usage("--%s needs a value: %s", without.GetFlag().Name, without.GetFlag().Usage)
	case errors.As(err, &value):
		f := value.GetFlag()
		what := map[string]string{"int": "no whole number", "int64": "no whole number", "bool": "neither true nor false", "duration": "no duration; it is written as 30s, 5m or 1h30m", "float64": "no number"}[f.Value.Type()]
		if what == "" {
			return usage("--%s is %q; %s", f.Name, value.GetValue(), strings.TrimSuffix(value.Unwrap().Error(), "."))
		}
		return usage("--%s is %q, which is %s", f.Name, value.GetValue(), what)
	}
	return usage("%s. See %s --help", err, c.CommandPath())
}

var (
	lackedFlags = regexp.MustCompile(`^required flag\(s\) (.*) not set$`)
	apartFlags  = regexp.MustCompile(`were all set$|^if any flags in the group`)
	inBrackets  = regexp.MustCompile(`\[([^\]]*)\]`)
)

// ofFlags words what the library says of flags that are missing or exclude each other.
func ofFlags(err error) error {
	said := err.Error()
	if m := lackedFlags.FindStringSubmatch(said); m != nil {
		return usage("--%s is missing", strings.ReplaceAll(strings.ReplaceAll(m[1], `"`, ""), ", ", " and --"))
	}
	if all := inBrackets.FindAllStringSubmatch(said, -1); apartFlags.MatchString(said) && len(all) > 0 {
		return usage("--%s cannot stand together", strings.ReplaceAll(all[len(all)-1][1], " ", " and --"))
	}
	return err
}

// unknownVerb says that a command is none, and which one was probably meant.
func unknownVerb(c *cobra.Command, word string) error {
	var known []string
	for _, x := range c.Commands() {
		if x.IsAvailableCommand() {
			known = append(known, x.Name())
		}
	}
	hint := near.Hint(word, known)
	if c.HasParent() {
		return usage("%q is not something that can be done with a %s.%s See %s --help", word, c.Name(), hint, c.CommandPath())
	}
	return usage("%q is no command.%s See trellis --help", word, hint)
}

// helpCommand is that of the library, but for a word that it does not know.
func helpCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{Use: "help [COMMAND…]", Short: "Help about any command", RunE: func(_ *cobra.Command, args []string) error {
		c, rest, err := root.Find(args)
		if c == nil || err != nil || len(rest) > 0 {
			if c == nil || err != nil {
				c, rest = root, args
			}
			return unknownVerb(c, rest[0])
		}
		return c.Help()
	}}
}

// arranged makes what all commands have in common.
func (a *app) arranged(root *cobra.Command) {
	root.SetFlagErrorFunc(wrongFlag)
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { a.help(c, a.raw) })
	root.SetHelpCommand(helpCommand(root))
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	var each func(*cobra.Command)
	each = func(c *cobra.Command) {
		for _, x := range c.Commands() {
			each(x)
		}
		exampled(c)
		c.DisableFlagsInUseLine = true
		switch {
		case c.HasSubCommands():
			c.Args = cobra.ArbitraryArgs
			c.RunE = func(c *cobra.Command, args []string) error {
				if len(args) > 0 {
					return unknownVerb(c, args[0])
				}
				return c.Help()
			}
			c.Run = nil
		case c.Name() != "help" && (!c.HasParent() || c.Parent().Name() != "completion"):
			c.Args = takes
			a.completed(c)
		}
	}
	each(root)
}

// read reads a file, or standard input.
func (a *app) read(path string) ([]byte, error) {
	if path == "-" {
		return readAll(a.in)
	}
	b, err := os.ReadFile(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, usage("there is no file %s; - reads standard input", path)
	case errors.Is(err, os.ErrPermission):
		return nil, usage("the file %s may not be read", path)
	case err != nil:
		if s, statErr := os.Stat(path); statErr == nil && s.IsDir() {
			return nil, usage("%s is a folder, not a file", path)
		}
		return nil, fmt.Errorf("%s cannot be read: %w", path, errors.Unwrap(err))
	}
	return b, nil
}

func readAll(r io.Reader) ([]byte, error) {
	b, err := io.ReadAll(r)
	if err != nil {
		return nil, fmt.Errorf("standard input cannot be read: %w", err)
	}
	return b, nil
}

// readText reads a file that holds text. What is no UTF-8 would go to the service with
// other signs in its place.
func (a *app) readText(path string) ([]byte, error) {
	b, err := a.read(path)
	if err != nil || utf8.Valid(b) {
		return b, err
	}
	good := len(b) - len(bytes.TrimLeftFunc(b, func(r rune) bool { return r != utf8.RuneError }))
	before := b[:good]
	line := bytes.Count(before, []byte("\n"))
	column := utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:])
	return nil, usage("%s is not valid UTF-8 at line %d, column %d; save it as UTF-8", path, line+1, column+1)
}
