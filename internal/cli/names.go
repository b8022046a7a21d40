package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/steps"
)

// named is something that a command can be told, with what it is.
type named struct{ name, about string }

// lister finds what can stand in one place; before are the arguments ahead of it.
type lister func(ctx context.Context, cl *api.Client, before []string) ([]named, error)

// kind is what an argument or a flag names, and where all of them are found.
type kind struct {
	what string
	list lister
}

var (
	knownWorkflows = kind{"workflow", func(ctx context.Context, cl *api.Client, _ []string) (out []named, err error) {
		params := &api.ListWorkflowsParams{}
		for page := 0; page < 20; page++ { // of thousands the first are enough
			list, err := got[api.WorkflowPage](cl.ListWorkflows(ctx, params))
			if err != nil {
				return nil, err
			}
			for _, w := range list.Workflows {
				out = append(out, named{w.Name, w.Title})
			}
			if params.After = list.Next; list.Next == nil {
				break
			}
		}
		return out, nil
	}}
	knownConnections = kind{"connection", func(ctx context.Context, cl *api.Client, _ []string) (out []named, err error) {
		list, err := got[struct{ Connections []api.Connection }](cl.ListConnections(ctx))
		for _, k := range list.Connections {
			out = append(out, named{k.Name, k.ConnectorTitle + ", " + k.Words})
		}
		return out, err
	}}
	knownConnectors = kind{"connector", func(ctx context.Context, cl *api.Client, _ []string) (out []named, err error) {
		list, err := got[struct{ Connectors []api.Connector }](cl.ListConnectors(ctx))
		for _, k := range list.Connectors {
			out = append(out, named{k.Name, k.Title})
		}
		return out, err
	}}
	knownActions = kind{"action", func(ctx context.Context, cl *api.Client, _ []string) (out []named, err error) {
		list, err := got[struct{ Connectors []api.Connector }](cl.ListConnectors(ctx))
		for _, k := range list.Connectors {
			for _, x := range k.Actions {
				out = append(out, named{k.Name + "." + x.Name, x.Title})
			}
		}
		for _, name := range steps.Types() { // those that need no connector
			if k, ok := steps.Find(name); ok && k.Connects {
				out = append(out, named{name, k.Title})
			}
		}
		return out, err
	}}
	knownLists = kind{"list", func(ctx context.Context, cl *api.Client, _ []string) (out []named, err error) {
		all, err := got[struct{ Lists []api.WorkspaceList }](cl.ListLists(ctx))
		for _, l := range all.Lists {
			out = append(out, named{l.Name, fmt.Sprintf("%s, %s", l.Title, plural(l.Rows, "row"))})
		}
		return out, err
	}}
	knownRuns = kind{"run", func(ctx context.Context, cl *api.Client, _ []string) (out []named, err error) {
		most := 50
		page, err := got[api.RunPage](cl.ListRuns(ctx, &api.ListRunsParams{Limit: &most}))
		for _, r := range page.Runs {
			out = append(out, named{r.Id.String(), strings.TrimSpace(fmt.Sprintf("%s, %s, %s %s", r.Workflow, r.State, when(r.Accepted), r.Label))})
		}
		return out, err
	}}
	knownSamples = kind{"sample", func(ctx context.Context, cl *api.Client, before []string) (out []named, err error) {
		if len(before) == 0 {
			return nil, nil
		}
		all, err := got[api.Samples](cl.ListSamples(ctx, before[0]))
		for i, x := range all.Samples {
			out = append(out, named{strconv.Itoa(i + 1), x.Label})
		}
		return out, err
	}}
	knownSteps = kind{"step", func(ctx context.Context, cl *api.Client, before []string) (out []named, err error) {
		if len(before) == 0 {
			return nil, nil
		}
		id, err := runID(ctx, cl, before[0])
		if err != nil {
			return nil, err
		}
		run, err := got[api.Run](cl.GetRun(ctx, id))
		for _, c := range run.Columns {
			out = append(out, named{c.Name, c.Sentence})
		}
		return out, err
	}}
	knownTokens = kind{"token", func(ctx context.Context, cl *api.Client, _ []string) (out []named, err error) {
		all, err := got[struct{ Tokens []api.Token }](cl.ListTokens(ctx))
		for _, k := range all.Tokens {
			out = append(out, named{k.Id.String(), k.Name + ", " + string(k.Role)})
		}
		return out, err
	}}
	knownMendings = kind{"mending", func(ctx context.Context, cl *api.Client, _ []string) (out []named, err error) {
		all, err := got[api.Mendings](cl.ListMendings(ctx))
		for _, m := range all.Mendings {
			out = append(out, named{m.Id.String(), string(m.What) + ", " + string(m.State)})
		}
		return out, err
	}}
)

// byArgument tells what the word of a Use names: one that says NAME names what the noun
// of the command is.
var byArgument = map[string]kind{"WORKFLOW": knownWorkflows, "RUN": knownRuns, "CONNECTION": knownConnections, "CONNECTOR": knownConnectors, "ACTION": knownActions, "NUMBER": knownSamples, "STEP": knownSteps}

var byNoun = map[string]kind{"workflow": knownWorkflows, "connection": knownConnections, "connector": knownConnectors, "list": knownLists, "trigger": knownWorkflows, "token": knownTokens, "item": knownMendings}

var byFlag = map[string]kind{"workflow": knownWorkflows, "connection": knownConnections, "connector": knownConnectors}

// isNew are the commands whose NAME is none that is there.
var isNew = map[string]bool{"connection add": true, "list add": true, "token create": true, "workflow import": true}

// kindOf tells what the i-th argument of a command names.
func kindOf(c *cobra.Command, i int) (kind, bool) {
	list := argumentsOf(c.Use)
	if len(list) == 0 {
		return kind{}, false
	}
	if i >= len(list) {
		if i = len(list) - 1; !list[i].several {
			return kind{}, false
		}
	}
	if k, ok := byArgument[list[i].name]; ok {
		return k, true
	}
	noun := c.Parent().Name()
	if (list[i].name == "NAME" || list[i].name == "ID") && !isNew[noun+" "+c.Name()] {
		k, ok := byNoun[noun]
		return k, ok
	}
	return kind{}, false
}

// completed lets the shell complete names and the values of flags.
func (a *app) completed(c *cobra.Command) {
	asks := func(k kind, before []string, typed string) ([]string, cobra.ShellCompDirective) {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		cl, err := a.client()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		list, err := k.list(ctx, cl, before)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, n := range list {
			if strings.HasPrefix(n.name, typed) {
				out = append(out, n.name+"\t"+n.about)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
	c.ValidArgsFunction = func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		if k, ok := kindOf(c, len(args)); ok {
			return asks(k, args, typed)
		}
		list := argumentsOf(c.Use)
		if i := min(len(args), len(list)-1); i >= 0 && strings.HasPrefix(list[i].name, "FILE") && (i == len(args) || list[i].several) {
			return nil, cobra.ShellCompDirectiveDefault
		}
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for name, k := range byFlag {
		if c.Flags().Lookup(name) != nil {
			_ = c.RegisterFlagCompletionFunc(name, func(_ *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
				return asks(k, nil, typed)
			})
		}
	}
}

// unknownName says which of the names that a command was given is none, where the service
// found something of them not to be there, and which was probably meant.
func (a *app) unknownName(c *cobra.Command, cl *api.Client, args []string, err error) error {
	var said *coded
	if !errors.As(err, &said) || said.code != exitNotFound || !strings.Contains(err.Error(), "nothing with this name") && !strings.Contains(err.Error(), "has no step") {
		return err // what it says already tells which
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(c.Context()), 3*time.Second)
	defer cancel()
	type given struct {
		kind
		before []string
		arg    string
	}
	var all []given
	for i, arg := range args {
		if k, ok := kindOf(c, i); ok {
			all = append(all, given{k, args[:i], arg})
		}
	}
	for name, k := range byFlag {
		if f := c.Flags().Lookup(name); f != nil && f.Changed {
			all = append(all, given{k, nil, f.Value.String()})
		}
	}
	for _, k := range all {
		arg := k.arg
		list, failed := k.list(ctx, cl, k.before)
		if failed != nil {
			return err
		}
		var names []string
		there := false
		for _, n := range list {
			names = append(names, n.name)
			there = there || n.name == arg
		}
		switch {
		case there, k.what == "run", k.what == "mending": // older ones are not listed
			continue
		case len(names) == 0:
			return &coded{exitNotFound, fmt.Errorf("there is no %s %s; there are none yet", k.what, arg)}
		case k.what == "sample":
			return &coded{exitNotFound, fmt.Errorf("there is no sample %s; %s has %s", arg, args[0], plural(len(names), "sample"))}
		}
		hint := near.Hint(arg, names)
		if hint == "" && len(names) <= 12 {
			hint = " There are " + strings.Join(names, ", ") + "."
		} else if hint == "" {
			hint = fmt.Sprintf(" trellis %s list shows them.", k.what)
		}
		return &coded{exitNotFound, fmt.Errorf("there is no %s %s.%s", k.what, arg, hint)}
	}
	return err
}
