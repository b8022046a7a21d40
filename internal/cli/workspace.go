package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

func (a *app) workspace() *cobra.Command {
	return noun("workspace", "What holds for the whole workspace", a.workspaceShow(), a.workspaceAllow(true), a.workspaceAllow(false), a.workspaceAllowances())
}

func (a *app) workspaceAllowances() *cobra.Command {
	return &cobra.Command{Use: "allowances", Short: "Addresses that are not public and may be reached all the same", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		list, err := got[addresses](cl.ListAllowances(c.Context()))
		if err != nil {
			return err
		}
		return a.show(list, func() {
			for _, x := range list.Addresses {
				fmt.Fprintln(a.out, x)
			}
			if len(list.Addresses) == 0 {
				fmt.Fprintln(a.out, "Only public addresses are reached.")
			}
		})
	})}
}

type addresses struct {
	Addresses []string `json:"addresses"`
}

func (a *app) workspaceAllow(add bool) *cobra.Command {
	use, about := "allow HOST:PORT…", "Let addresses be reached although they are not public"
	if !add {
		use, about = "disallow HOST:PORT…", "Take that back"
	}
	return &cobra.Command{Use: use, Short: about, RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		list, err := got[addresses](cl.ListAllowances(c.Context()))
		if err != nil {
			return err
		}
		kept := []string{}
		for _, x := range list.Addresses {
			drop := false
			for _, y := range args {
				drop = drop || x == y
			}
			if !drop {
				kept = append(kept, x)
			}
		}
		if add {
			kept = append(kept, args...)
		}
		if list, err = got[addresses](cl.SetAllowances(c.Context(), api.SetAllowancesJSONRequestBody{Addresses: kept})); err != nil {
			return err
		}
		return a.show(list, func() { fmt.Fprintln(a.out, strings.Join(list.Addresses, "\n")) })
	})}
}

func (a *app) workspaceShow() *cobra.Command {
	return &cobra.Command{Use: "show", Short: "Which workspace this is, who you are in it, and what is in it", Example: "  trellis workspace show", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		me, err := got[api.Me](cl.Me(c.Context()))
		if err != nil {
			return err
		}
		s, err := a.settings()
		if err != nil {
			return err
		}
		list, err := got[addresses](cl.ListAllowances(c.Context()))
		if err != nil {
			return err
		}
		out := map[string]any{"workspace": me.Workspace, "address": s.Address, "me": me, "allowances": list.Addresses}
		counts := []string{}
		for _, k := range []kind{knownWorkflows, knownConnections, knownLists} {
			names, err := k.list(c.Context(), cl, nil)
			if err != nil {
				return err
			}
			out[k.what+"s"] = len(names)
			counts = append(counts, plural(len(names), k.what))
		}
		return a.show(out, func() {
			fmt.Fprintf(a.out, "%s at %s\n", a.paint(bold, me.Workspace), s.Address)
			fmt.Fprintf(a.out, "You are %s, %s.\n", me.Name, me.Role)
			fmt.Fprintf(a.out, "It has %s and %s.\n", strings.Join(counts[:len(counts)-1], ", "), counts[len(counts)-1])
			if len(list.Addresses) == 0 {
				fmt.Fprintln(a.out, "Only public addresses are reached.")
			} else {
				fmt.Fprintf(a.out, "Beside public addresses %s may be reached; see trellis workspace allowances.\n", plural(len(list.Addresses), "other"))
			}
		})
	})}
}
