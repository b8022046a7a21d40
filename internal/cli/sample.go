package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
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
	return noun("sample", "Items kept for building and rehearsing", a.sampleList(), a.sampleTake(), a.sampleAdd())
}

func (a *app) sampleList() *cobra.Command {
	return &cobra.Command{Use: "list WORKFLOW", Short: "List samples, and what arrived of late", Args: cobra.ExactArgs(1), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		s, err := got[api.Samples](cl.ListSamples(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.show(s, func() {
			for i, x := range s.Samples {
				fmt.Fprintf(a.out, "%3d  %s  %s\n     %s\n", i+1, when(x.Created), x.Source, x.Fields)
			}
			if len(s.Samples) == 0 {
				fmt.Fprintf(a.out, "No samples yet. Take one with: trellis sample take %s\n", args[0])
			}
			if s.Taking {
				fmt.Fprintln(a.out, "The next call becomes a sample.")
			}
			if len(s.Arrived) > 0 {
				fmt.Fprintln(a.out, "\narrived of late, but started no run")
				for _, d := range s.Arrived {
					fmt.Fprintf(a.out, "     %s  %s  %s\n", when(d.At), fit(d.Verdict, 10), d.Reason)
				}
			}
		})
	})}
}

func (a *app) sampleTake() *cobra.Command {
	return &cobra.Command{Use: "take WORKFLOW", Short: "Let the next real call become a sample instead of a run", Args: cobra.ExactArgs(1), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		if _, err := got[struct{}](cl.TakeSample(c.Context(), args[0])); err != nil {
			return err
		}
		sheet, err := got[api.CallSheet](cl.CallSheet(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.show(sheet, func() {
			fmt.Fprintf(a.out, "Waiting for the next call, for 15 minutes, at\n  %s\nSee it with: trellis sample list %s\n", sheet.Address, args[0])
		})
	})}
}

func (a *app) sampleAdd() *cobra.Command {
	return &cobra.Command{Use: "add WORKFLOW FILE", Short: "Keep items as samples: a JSON list, or one object a line", Args: cobra.ExactArgs(2), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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

func (a *app) functions() *cobra.Command {
	return &cobra.Command{Use: "functions [WORD…]", Short: "The functions of expressions, found by what one wants to do", Example: "  trellis functions shorten\n  trellis functions next business day", Args: cobra.ArbitraryArgs, RunE: func(_ *cobra.Command, args []string) error {
		return a.listFunctions(args)
	}}
}
