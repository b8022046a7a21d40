package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/item"
)

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func (a *app) sample() *cobra.Command {
	return noun("sample", "Items kept for building and rehearsing", a.sampleList(), a.sampleTake(), a.sampleAdd(), a.sampleShow(), a.sampleEdit(), a.sampleExpect(), a.sampleProfile(), a.sampleRemove())
}

func (a *app) sampleList() *cobra.Command {
	return &cobra.Command{Use: "list WORKFLOW", Short: "List samples, and what arrived of late", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		s, err := got[api.Samples](cl.ListSamples(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.show(s, func() {
			for i, x := range s.Samples {
				fmt.Fprintf(a.out, "%3d  %s  %s, %s\n     %s\n", i+1, cmp.Or(x.Label, "without a name"), x.Source, when(x.Created), x.Fields)
				if x.Expected != nil {
					b, _ := json.Marshal(x.Expected)
					fmt.Fprintf(a.out, "     expected %s\n", b)
				}
			}
			if len(s.Samples) == 0 {
				fmt.Fprintf(a.out, "No samples yet. Take one with: trellis sample take %s\n", args[0])
			}
			if s.Taking {
				fmt.Fprintln(a.out, "The next call becomes a sample.")
			}
			if len(s.Arrived) > 0 {
				fmt.Fprintln(a.out, "\narrived of late, but started no run")
				startable := false
				for _, d := range s.Arrived {
					id := ""
					if d.Startable {
						id, startable = d.Id.String(), true
					}
					fmt.Fprintf(a.out, "     %s  %s  %s  %s\n", when(d.At), fit(string(d.Verdict), 10), fit(id, 36), d.Reason)
				}
				if startable {
					fmt.Fprintf(a.out, "Start with one of them: trellis workflow start %s --delivery ID\n", args[0])
				}
			}
		})
	})}
}

func (a *app) sampleTake() *cobra.Command {
	var plain bool
	c := &cobra.Command{Use: "take WORKFLOW", Short: "Let the next real call become a sample; where the workflow is live its run starts as well", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		params := &api.TakeSampleParams{}
		if plain {
			kept := api.TakeSampleParamsPersonalKept
			params.Personal = &kept
		}
		if _, err := got[struct{}](cl.TakeSample(c.Context(), args[0], params)); err != nil {
			return err
		}
		sheet, err := got[api.CallSheet](cl.CallSheet(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.show(sheet, func() {
			fmt.Fprintf(a.out, "Waiting for the next call, for 15 minutes, at\n  %s\nSee it with: trellis sample list %s\n", sheet.Address, args[0])
			if !plain {
				fmt.Fprintln(a.out, "Names, mail addresses, telephone numbers and the like are masked in it, in their form; --as-it-came keeps them.")
			}
		})
	})}
	c.Flags().BoolVar(&plain, "as-it-came", false, "keep names, mail addresses, telephone numbers and the like in the sample")
	return c
}

func (a *app) sampleAdd() *cobra.Command {
	return &cobra.Command{Use: "add WORKFLOW FILE", Short: "Keep items as samples: a JSON list, or one object a line", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		items, err := a.items(args[1])
		if err != nil {
			return err
		}
		for _, f := range items {
			if _, err := got[api.Sample](cl.AddSample(c.Context(), args[0], api.NewSample{Fields: f})); err != nil {
				return err
			}
		}
		return a.show(map[string]int{"kept": len(items)}, func() { fmt.Fprintf(a.out, "kept %s\n", plural(len(items), "sample")) })
	})}
}

// theSample finds a sample by its number in the list, from 1, or by its id.
func theSample(ctx context.Context, cl *api.Client, workflow, which string) (api.Sample, error) {
	s, err := got[api.Samples](cl.ListSamples(ctx, workflow))
	if err != nil {
		return api.Sample{}, err
	}
	for i, x := range s.Samples {
		if which == strconv.Itoa(i+1) || which == x.Id.String() {
			return x, nil
		}
	}
	return api.Sample{}, &coded{exitNotFound, fmt.Errorf("there is no sample %s of %s; it has %s, see trellis sample list %s", which, workflow, plural(len(s.Samples), "sample"), workflow)}
}

func (a *app) sampleShow() *cobra.Command {
	return &cobra.Command{Use: "show WORKFLOW NUMBER", Short: "Show a sample as JSON, as edit takes it", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		x, err := theSample(c.Context(), cl, args[0], args[1])
		if err != nil {
			return err
		}
		return a.show(x, func() {
			var out bytes.Buffer
			if json.Indent(&out, x.Fields, "", "  ") != nil {
				out.Write(x.Fields)
			}
			fmt.Fprintln(a.out, out.String())
		})
	})}
}

func (a *app) sampleEdit() *cobra.Command {
	var set, unset []string
	c := &cobra.Command{Use: "edit WORKFLOW NUMBER [FILE]", Short: "Give a sample other fields",
		Long:    "Gives a sample other fields: some with --set and --unset, or all from a file that holds a JSON object\n(- for standard input). On a terminal, without any of that, an editor opens.",
		Example: "  trellis sample edit counter-calls 1 --set duration_s=90\n  trellis sample show counter-calls 1 > call.json",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			x, err := theSample(c.Context(), cl, args[0], args[1])
			if err != nil {
				return err
			}
			file := ""
			if len(args) == 3 {
				if file = args[2]; len(set)+len(unset) > 0 {
					return usage("give either FILE, with all fields, or --set and --unset, with some")
				}
			}
			fields, err := a.edited(x.Fields, set, unset, file)
			if err != nil {
				return err
			}
			a.changed(x.Fields, fields)
			changed, err := got[api.Sample](cl.ChangeSample(c.Context(), args[0], x.Id, api.NewSample{Fields: api.Fields(fields)}))
			if err != nil {
				return err
			}
			return a.show(changed, func() { fmt.Fprintf(a.out, "changed sample %s of %s\n", args[1], args[0]) })
		})}
	c.Flags().StringArrayVar(&set, "set", nil, "a field and its value, as glaze=\"Celadon 4\"")
	c.Flags().StringArrayVar(&unset, "unset", nil, "a field to take away")
	return c
}

func (a *app) sampleExpect() *cobra.Command {
	return &cobra.Command{
		Use: "expect WORKFLOW NUMBER FILE", Short: "Note what should become of a sample; rehearsals then say whether it did",
		Long:    "Notes how a sample should end (its fate), and fields that it should have then; others do not matter. Of a\nsample that becomes several, one of them must be so. {} takes the note away.",
		Example: "  echo '{\"fate\": \"held_back\"}' | trellis sample expect counter-calls 2 -\n  echo '{\"fields\": {\"price\": 213.75}}' | trellis sample expect glaze-order 1 -",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			x, err := theSample(c.Context(), cl, args[0], args[1])
			if err != nil {
				return err
			}
			text, err := a.read(args[2])
			if err != nil {
				return err
			}
			if _, err := item.DecodeObject(text); err != nil {
				return usage("%s: %v", args[2], err)
			}
			noted, err := got[api.Sample](cl.ExpectOfSample(c.Context(), args[0], x.Id, api.Fields(text)))
			if err != nil {
				return err
			}
			return a.show(noted, func() {
				if noted.Expected == nil {
					fmt.Fprintf(a.out, "nothing is expected of sample %s of %s\n", args[1], args[0])
					return
				}
				fmt.Fprintf(a.out, "noted for sample %s of %s\nSee whether it becomes so: trellis workflow rehearse %s\n", args[1], args[0], args[0])
			})
		}),
	}
}

func (a *app) sampleProfile() *cobra.Command {
	return &cobra.Command{Use: "profile WORKFLOW", Short: "Every field of the samples: how often filled in, types, different values, spread", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		p, err := got[struct {
			Fields []api.Profile `json:"fields"`
		}](cl.ProfileSamples(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.show(p, func() {
			if len(p.Fields) == 0 {
				fmt.Fprintf(a.out, "No samples yet. Keep some with: trellis sample add %s FILE\n", args[0])
				return
			}
			rows := [][]string{}
			for _, f := range p.Fields {
				distinct := strconv.Itoa(f.Distinct)
				if f.Distinct > item.MostDistinct {
					distinct = fmt.Sprintf("over %d", item.MostDistinct)
				}
				rows = append(rows, []string{f.Path, strings.Join(f.Types, " or "), fmt.Sprintf("%d of %d", f.Filled, f.Of), distinct, f.Spread, strings.Join(f.Examples, ", ")})
			}
			a.grid([]string{"field", "type", "filled in", "values", "range", "as"}, rows)
		})
	})}
}

func (a *app) sampleRemove() *cobra.Command {
	return &cobra.Command{Use: "remove WORKFLOW NUMBER", Short: "Remove a sample", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		x, err := theSample(c.Context(), cl, args[0], args[1])
		if err != nil {
			return err
		}
		if _, err := got[struct{}](cl.DeleteSample(c.Context(), args[0], x.Id)); err != nil {
			return err
		}
		return a.show(map[string]string{"removed": x.Id.String()}, func() { fmt.Fprintf(a.out, "removed sample %s of %s\n", args[1], args[0]) })
	})}
}

func (a *app) functions() *cobra.Command {
	return &cobra.Command{Use: "functions [WORD…]", Short: "The functions of expressions, found by what one wants to do", Example: "  trellis functions shorten\n  trellis functions next business day", RunE: func(_ *cobra.Command, args []string) error {
		return a.listFunctions(args)
	}}
}
