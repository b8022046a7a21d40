package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/item"
)

// connectionExport writes what a connection is without its secrets, as it can be made
// again elsewhere.
func (a *app) connectionExport() *cobra.Command {
	return &cobra.Command{Use: "export NAME", Short: "Print what a connection is, without its secrets, and how to make it elsewhere", Example: "  trellis connection export tables > tables.yaml", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		k, err := got[api.Connection](cl.GetConnection(c.Context(), args[0]))
		if err != nil {
			return err
		}
		account, err := item.DecodeObject(k.Account)
		if err != nil {
			return err
		}
		out := map[string]any{"name": k.Name, "connector": k.Connector, "method": k.Method}
		if len(account) > 0 {
			out["account"] = account
		}
		if k.Limits != nil {
			limits := map[string]any{}
			if k.Limits.Calls != nil {
				limits["calls"], limits["seconds"] = *k.Limits.Calls, deref(k.Limits.Seconds)
			}
			if k.Limits.Parallel != nil {
				limits["parallel"] = *k.Limits.Parallel
			}
			out["limits"] = limits
		}
		return a.show(out, func() {
			line := fmt.Sprintf("trellis connection add %s %s --method %s", k.Name, k.Connector, k.Method)
			for _, name := range sortedKeys(account) {
				line += fmt.Sprintf(" --account %s=%v", name, account[name])
			}
			b, err := document.EncodeValue(out)
			if err == nil {
				fmt.Fprintf(a.out, "# Its secrets are kept by the service and go with nothing. To make it elsewhere:\n# %s\n%s", line, b)
			}
		})
	})}
}
