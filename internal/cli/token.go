package cli

import (
	"fmt"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

func (a *app) token() *cobra.Command {
	return noun("token", "API tokens: make, list and end them", a.tokenList(), a.tokenCreate(), a.tokenRevoke())
}

type tokens struct {
	Tokens []api.Token `json:"tokens"`
}

func (a *app) tokenList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List your tokens; as an administrator those of all people", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		list, err := got[tokens](cl.ListTokens(c.Context()))
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := [][]string{}
			for _, t := range list.Tokens {
				used := "never"
				if t.Used != nil {
					used = when(*t.Used)
				}
				rows = append(rows, []string{t.Id.String(), t.Name, t.Of, mayDo(t), when(t.Expires), used})
			}
			a.grid([]string{"id", "name", "of", "may", "good until", "used"}, rows)
		})
	})}
}

// mayDo words what a token may do.
func mayDo(t api.Token) string {
	out := string(t.Role)
	if deref(t.Items) {
		out += ", sees items"
	}
	if deref(t.Makes) {
		out += ", makes tokens"
	}
	return out
}

func (a *app) tokenCreate() *cobra.Command {
	var role string
	var items, makes bool
	c := &cobra.Command{Use: "create NAME", Short: "Make a token, never stronger than you are; its secret is printed once", Example: "  trellis token create reports --role viewer --items", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		want := api.NewToken{Name: args[0], Items: &items, Makes: &makes}
		if role != "" {
			r := api.Role(role)
			want.Role = &r
		}
		made, err := got[api.MadeToken](cl.CreateToken(c.Context(), want))
		if err != nil {
			return err
		}
		return a.show(made, func() {
			fmt.Fprintln(a.out, made.Secret)
			fmt.Fprintf(a.errOut, "%s: %s, good until %s. It is not shown again; send it as Authorization: Bearer.\n", made.Token.Name, mayDo(made.Token), when(made.Token.Expires))
		})
	})}
	oneOf(c, &role, "role", "what it may do, your own role unless given", "viewer", "operator", "builder", "administrator", "owner")
	c.Flags().BoolVar(&items, "items", false, "with --role viewer: it may see what items hold")
	c.Flags().BoolVar(&makes, "makes-tokens", false, "it may make tokens, which end with it")
	return c
}

func (a *app) tokenRevoke() *cobra.Command {
	return &cobra.Command{Use: "revoke ID", Short: "End a token at once, and those that it has made", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		id, err := uuid.Parse(args[0])
		if err != nil {
			return usage("%q is not the id of a token; see: trellis token list", args[0])
		}
		if _, err := got[struct{}](cl.DeleteToken(c.Context(), id)); err != nil {
			return err
		}
		return a.show(map[string]string{"ended": args[0]}, func() { fmt.Fprintln(a.out, "It has ended.") })
	})}
}
