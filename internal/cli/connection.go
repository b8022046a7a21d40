package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

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

func (a *app) connection() *cobra.Command {
	return noun("connection", "Store accounts and check them", a.connectionList(), a.connectionAdd(), a.connectionCheck(), a.connectionRemove())
}

func (a *app) connectionList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the connections", Args: cobra.NoArgs, RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		list, err := got[struct {
			Connections []api.Connection `json:"connections"`
		}](cl.ListConnections(c.Context()))
		if err != nil {
			return err
		}
		return a.show(list, func() {
			if len(list.Connections) == 0 {
				fmt.Fprintln(a.out, "There are no connections yet. Add one with: trellis connection add NAME CONNECTOR")
				return
			}
			rows := [][]string{}
			for _, k := range list.Connections {
				rows = append(rows, []string{k.Name, k.ConnectorTitle, state(k), k.Said, strings.Join(k.UsedBy, ", ")})
			}
			a.grid([]string{"name", "application", "state", "said", "used by"}, rows)
		})
	})}
}

func state(k api.Connection) string {
	switch k.State {
	case "ok":
		return "works"
	case "broken":
		return "does not work"
	}
	return "not checked"
}

func (a *app) connectionAdd() *cobra.Command {
	var params []string
	var file, method string
	c := &cobra.Command{Use: "add NAME CONNECTOR", Short: "Store an account and check it; the secret comes from a file, standard input or a prompt", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		account := map[string]string{}
		for _, p := range params {
			k, v, ok := strings.Cut(p, "=")
			if !ok {
				return usage("--account is %q; it is written as name=value", p)
			}
			account[k] = v
		}
		cl, err := a.client()
		if err != nil {
			return err
		}
		secret, err := a.secret("The secret", file)
		if err != nil {
			return err
		}
		raw, err := json.Marshal(account)
		if err != nil {
			return err
		}
		body := api.NewConnection{Name: args[0], Connector: args[1], Account: raw, Secret: &secret}
		if method != "" {
			body.Method = &method
		}
		k, err := got[api.Connection](cl.AddConnection(c.Context(), body))
		if err != nil {
			return err
		}
		return a.checked(k)
	}}
	c.Flags().StringArrayVar(&params, "account", nil, "a parameter of the account, as address=https://tables.example")
	c.Flags().StringVar(&file, "secret-file", "", "file that holds the secret; - for standard input")
	c.Flags().StringVar(&method, "method", "", "sign-in method, where there are several")
	return c
}

func (a *app) checked(k api.Connection) error {
	err := a.show(k, func() {
		fmt.Fprintf(a.out, "%s %s: %s", k.Name, state(k), k.Said)
		if k.TookMs != nil {
			fmt.Fprintf(a.out, " (%d ms)", *k.TookMs)
		}
		fmt.Fprintln(a.out)
	})
	if err == nil && k.State == "broken" {
		return fmt.Errorf("the connection %s is stored but does not work; mend it under Connections", k.Name)
	}
	return err
}

func (a *app) connectionCheck() *cobra.Command {
	return &cobra.Command{Use: "check NAME", Short: "Make the check call and say what it found", Args: cobra.ExactArgs(1), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		k, err := got[api.Connection](cl.CheckConnection(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.checked(k)
	})}
}

func (a *app) connectionRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a connection that nothing uses", Args: cobra.ExactArgs(1), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		if _, err := got[struct{}](cl.RemoveConnection(c.Context(), args[0])); err != nil {
			return err
		}
		return a.show(map[string]string{"removed": args[0]}, func() { fmt.Fprintf(a.out, "removed %s\n", args[0]) })
	})}
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
	return &cobra.Command{Use: "functions [WORD]", Short: "The functions of expressions, with examples", Args: cobra.MaximumNArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		return a.listFunctions(args)
	}}
}
