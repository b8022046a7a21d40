package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/triggers"
)

// begun says what a run by hand starts with.
type begun struct {
	items  string   // file
	set    []string // NAME=VALUE
	sample string   // number or id

	delivery string // id of one that arrived
}

func (a *app) workflowStart() *cobra.Command {
	var with begun
	var watch, anyway bool
	var first int
	c := &cobra.Command{
		Use: "start NAME", Short: "Start a run by hand",
		Long:    "Starts a run of the live revision. What it asks for is given with --set, as a sample with --sample,\nor in a file with --items; on a terminal it is asked for, field by field.",
		Example: "  trellis workflow start kiln-list\n  trellis workflow start glaze-lab --set glaze=\"Celadon 4\" --set cone=9 --watch\n  trellis workflow start memo-once --sample 1",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			most, err := firstItems(c, first)
			if err != nil {
				return err
			}
			items, err := a.begins(c.Context(), cl, args[0], with)
			if err != nil {
				return err
			}
			body := api.Items{Items: items, First: most}
			if with.delivery != "" {
				id, err := uuid.Parse(with.delivery)
				if err != nil {
					return usage("--delivery %q is no id of a call that arrived; trellis sample list %s has them", with.delivery, args[0])
				}
				body.Delivery = &id
			}
			if anyway {
				body.WhilePaused = &anyway
			}
			s, err := got[api.Started](cl.StartWorkflow(c.Context(), args[0], body))
			if err != nil {
				return err
			}
			if watch && s.Runs == 1 {
				return a.watchRun(c.Context(), cl, s.Run)
			}
			return a.show(s, func() { a.started(s, args[0]) })
		}),
	}
	c.Flags().StringVar(&with.items, "items", "", "file with the run's items: a JSON list, or one object a line; - for standard input")
	c.Flags().StringArrayVar(&with.set, "set", nil, "a field and its value, as glaze=\"Celadon 4\"")
	c.Flags().StringVar(&with.sample, "sample", "", "start with a sample: its number in the list, or its id")
	firstFlag(c, &first, "it")
	c.Flags().BoolVar(&anyway, "while-paused", false, "start it although it is paused, which it stays")
	c.Flags().BoolVar(&watch, "watch", false, "follow the run to its end")
	c.Flags().StringVar(&with.delivery, "delivery", "", "start with a call that arrived and started nothing: its id in sample list")
	for _, other := range []string{"set", "sample", "delivery"} {
		c.MarkFlagsMutuallyExclusive("items", other)
	}
	c.MarkFlagsMutuallyExclusive("delivery", "set")
	c.MarkFlagsMutuallyExclusive("delivery", "sample")
	return c
}

// started tells what a start by hand has started.
func (a *app) started(s api.Started, workflow string) {
	switch {
	case s.Runs == 0:
		fmt.Fprintf(a.out, "nothing was started: the key has started run %s already\n", s.Run)
	case s.Runs == 1:
		fmt.Fprintf(a.out, "started run %s\nFollow it with: trellis run watch %s\n", s.Run, s.Run)
	default:
		fmt.Fprintf(a.out, "started %s, the first is %s\nSee them with: trellis run list --workflow %s\n", plural(s.Runs, "run"), s.Run, workflow)
	}
	if n := deref(s.Known); n > 0 && s.Runs > 0 {
		fmt.Fprintf(a.out, "%s left out, known by key: a run has started with as much already\n", plural(n, "item"))
	}
}

// begins gives the items that a run starts with; nil for none.
func (a *app) begins(ctx context.Context, cl *api.Client, name string, with begun) (*[]api.Fields, error) {
	if with.delivery != "" {
		return nil, nil
	}
	if with.items != "" {
		list, err := a.items(with.items)
		return &list, err
	}
	asks, err := got[api.Starting](cl.StartingWorkflow(ctx, name))
	if err != nil {
		return nil, err
	}
	list, err := asked(asks.Fields)
	if err != nil {
		return nil, err
	}
	fields := map[string]any{}
	if with.sample != "" {
		x, err := theSample(ctx, cl, name, with.sample)
		if err != nil {
			return nil, err
		}
		if fields, err = item.DecodeObject(x.Fields); err != nil {
			return nil, err
		}
	}
	for _, s := range with.set {
		field, typed, ok := strings.Cut(s, "=")
		if !ok || field == "" {
			return nil, usage("--set %q is not NAME=VALUE", s)
		}
		if fields[field], err = typedValue(list, field, typed); err != nil {
			return nil, usage("%v", err)
		}
	}
	if len(fields) == 0 {
		if err := a.askFields(list, fields, name); err != nil {
			return nil, err
		}
	}
	if len(fields) == 0 {
		return nil, nil
	}
	b, err := item.Encode(fields)
	return &[]api.Fields{api.Fields(b)}, err
}

func asked(fields []api.Property) ([]form.Property, error) {
	var out []form.Property
	for _, f := range fields {
		schema, err := item.DecodeObject(f.Schema)
		if err != nil {
			return nil, err
		}
		out = append(out, form.Property{Name: f.Name, Required: f.Required, Schema: schema})
	}
	return out, nil
}

// typedValue reads what was typed for a field: as the field wants it, or, for one
// that is not asked for, as JSON if it can be read as such, else as text.
func typedValue(asks []form.Property, name, typed string) (any, error) {
	for _, p := range asks {
		if p.Name == name {
			return triggers.Value(p, typed)
		}
	}
	if json.Valid([]byte(typed)) {
		return item.Decode([]byte(typed))
	}
	return typed, nil
}

// askFields asks for the fields on a terminal, each until it can be read. Where
// nobody can be asked it says how to give those that are required.
func (a *app) askFields(asks []form.Property, into map[string]any, workflow string) error {
	f, ok := a.asks()
	if !ok {
		var lacks, example []string
		for _, p := range asks {
			if p.Required && p.Schema["default"] == nil {
				lacks, example = append(lacks, called(p)), append(example, fmt.Sprintf("--set %s=…", p.Name))
			}
		}
		if len(lacks) == 0 {
			return nil
		}
		return usage("%s asks for %s: give it with %s, with --sample NUMBER, or with --items FILE", workflow, strings.Join(lacks, ", "), strings.Join(example, " "))
	}
	in := bufio.NewReader(f)
	for _, p := range asks {
		for {
			fmt.Fprint(a.errOut, prompt(p))
			line, err := in.ReadString('\n')
			typed := strings.TrimRight(line, "\r\n")
			if err != nil && (!errors.Is(err, io.EOF) || typed == "") {
				return usage("%s was not given", called(p))
			}
			if typed == "" && (!p.Required || p.Schema["default"] != nil) {
				break
			}
			v, err := answered(p, typed)
			if err == nil {
				into[p.Name] = v
				break
			}
			fmt.Fprintln(a.errOut, "  "+err.Error())
		}
	}
	return nil
}

// answered reads and checks what was typed for one field.
func answered(p form.Property, typed string) (any, error) {
	if typed == "" {
		return nil, fmt.Errorf("%s is required", called(p))
	}
	v, err := triggers.Value(p, typed)
	if err != nil {
		return nil, err
	}
	return v, triggers.Fits(p, v)
}

// prompt is a question for one field: its title, what it can be, what counts if
// nothing is typed.
func prompt(p form.Property) string {
	text := called(p)
	var notes []string
	if list, ok := p.Schema["enum"].([]any); ok {
		can := make([]string, len(list))
		for i, v := range list {
			can[i] = fmt.Sprint(v)
		}
		notes = append(notes, strings.Join(can, ", "))
	}
	if p.Schema["type"] == "boolean" {
		notes = append(notes, "yes or no")
	}
	if preset := p.Schema["default"]; preset != nil {
		notes = append(notes, fmt.Sprintf("%v unless said otherwise", preset))
	} else if !p.Required {
		notes = append(notes, "if wished")
	}
	if len(notes) > 0 {
		text += " (" + strings.Join(notes, "; ") + ")"
	}
	return text + ": "
}

func called(p form.Property) string {
	if title, ok := p.Schema["title"].(string); ok && title != "" {
		return title
	}
	return p.Name
}
