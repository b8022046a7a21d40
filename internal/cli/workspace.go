package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

func (a *app) workspace() *cobra.Command {
	return noun("workspace", "What holds for the whole workspace", a.workspaceAllow(true), a.workspaceAllow(false), a.workspaceAllowances())
}

func (a *app) workspaceAllowances() *cobra.Command {
	return &cobra.Command{Use: "allowances", Short: "Addresses that are not public and may be reached all the same", Args: cobra.NoArgs, RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
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
	return &cobra.Command{Use: use, Short: about, Args: cobra.MinimumNArgs(1), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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
