package cli

import (
	"cmp"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// help prints what a command does, how it is written, examples, and its flags, broken to
// the width of the terminal.
func (a *app) help(c *cobra.Command, w io.Writer) {
	about := c.Long
	if about == "" {
		about = c.Short + "."
	}
	for i, paragraph := range strings.Split(about, "\n\n") {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprint(w, a.wrapped(strings.Join(strings.Fields(paragraph), " "), ""))
	}
	if c.Runnable() && !c.HasSubCommands() {
		fmt.Fprintf(w, "\n%s\n%s", a.paint(bold, "Written as"), a.wrapped(c.UseLine(), "  "))
	}
	if c.HasAvailableSubCommands() {
		fmt.Fprintf(w, "\n%s\n", a.paint(bold, "Commands"))
		wide := 0
		for _, x := range c.Commands() {
			wide = max(wide, len(x.Name()))
		}
		for _, x := range c.Commands() {
			if x.IsAvailableCommand() || x.Name() == "help" {
				a.entry(w, x.Name(), x.Short, wide)
			}
		}
	}
	if c.HasExample() {
		fmt.Fprintf(w, "\n%s\n%s\n", a.paint(bold, "For example"), c.Example)
	}
	a.flags(w, "Flags", c.LocalFlags())
	a.flags(w, "Flags of every command", c.InheritedFlags())
	if c.HasAvailableSubCommands() {
		fmt.Fprintf(w, "\n%s", a.wrapped(fmt.Sprintf("%s COMMAND --help says more about one.", c.CommandPath()), ""))
	}
}

// entry is a name with what it is, in two columns where both have room.
func (a *app) entry(w io.Writer, name, about string, wide int) {
	if room := a.room(); room > 0 && room < wide+30 || width(name) > wide {
		fmt.Fprintf(w, "  %s\n%s", strings.TrimLeft(name, " "), a.wrapped(about, "      "))
		return
	}
	lines := strings.SplitAfter(a.wrapped(about, strings.Repeat(" ", wide+4)), "\n")
	fmt.Fprintf(w, "  %s  %s", fit(name, wide), strings.TrimLeft(lines[0], " "))
	fmt.Fprint(w, strings.Join(lines[1:], ""))
}

func (a *app) flags(w io.Writer, title string, set *pflag.FlagSet) {
	type line struct{ name, about string }
	var list []line
	wide := 0
	set.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		name := "    --" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", --" + f.Name
		}
		value, about := pflag.UnquoteUsage(f)
		if value != "" {
			name += " " + cmp.Or(map[string]string{"string": "TEXT", "int": "NUMBER", "float": "NUMBER", "strings": "TEXT", "stringArray": "TEXT", "word": "WORD", "duration": "DURATION", "stringToString": "OLD=NEW"}[value], strings.ToUpper(value))
		}
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" && f.DefValue != "[]" && f.DefValue != "0s" {
			about += fmt.Sprintf(" (%s unless given)", f.DefValue)
		}
		list = append(list, line{name, about})
		wide = max(wide, len(name))
	})
	if len(list) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s\n", a.paint(bold, title))
	for _, x := range list {
		a.entry(w, x.name, x.about, min(wide, 28))
	}
}
