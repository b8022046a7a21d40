package expr

import (
	"fmt"
	"strings"
)

//go:generate go run ./generate ../../../docs/functions.md

// Reference writes the whole library as a page of Markdown.
func Reference() string {
	var out strings.Builder
	out.WriteString("# Functions of expressions\n\nMade from the table in `internal/core/expr` by `make generate`; every example is run by a test. In the terminal,\n`trellis functions WORD…` finds a function by what one wants to do.\n\n" +
		"A question mark stands after what may be left out, … after what may be there several times. A function gives nothing where its first value is\nnothing, unless nothing has a meaning there. A time without an offset is taken in the zone that a function is given, else in UTC.\n")
	group := ""
	for _, f := range table {
		if f.Group != group {
			group = f.Group
			fmt.Fprintf(&out, "\n## %s%s\n\n| function | gives | what it does | example |\n| --- | --- | --- | --- |\n", strings.ToUpper(group[:1]), group[1:])
		}
		help := f.Help
		if f.Errors != "" {
			help += " An error if " + f.Errors + "."
		}
		fmt.Fprintf(&out, "| %s | %s | %s | %s gives %s |\n", code(signature(f.Function)), kindName(f.Gives), cell(help), code(f.Example), code(f.Result))
	}
	return out.String()
}

// signature is the usage with the types of its parameters.
func signature(f Function) string {
	parts := make([]string, len(f.Parameters))
	for i, p := range f.Parameters {
		parts[i] = p.Name
		switch {
		case p.Several:
			parts[i] += "…"
		case p.Optional:
			parts[i] += "?"
		}
		parts[i] += ": " + kindName(p.Type)
	}
	return f.Name + "(" + strings.Join(parts, ", ") + ")"
}

func kindName(kind string) string {
	switch kind {
	case "whole":
		return "whole number"
	case "yes":
		return "true or false"
	case "body":
		return "an expression"
	}
	return kind
}

func cell(s string) string {
	return strings.NewReplacer("|", "\\|", "\n", " ", "<", "&lt;").Replace(s)
}

// code sets text as code in a cell of a table, where | must be escaped.
func code(s string) string {
	ticks := "`"
	for strings.Contains(s, ticks) {
		ticks += "`"
	}
	return ticks + strings.ReplaceAll(s, "|", "\\|") + ticks
}
