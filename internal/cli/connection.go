package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

func (a *app) connection() *cobra.Command {
	return noun("connection", "Store accounts and check them", a.connectionList(), a.connectionShow(), a.connectionAdd(), a.connectionMend(), a.connectionSignIn(), a.connectionConfirm(), a.connectionCheck(),
		a.connectionCalls(), a.connectionLimit(), a.connectionGrant(), a.connectionChoices(), a.connectionExport(), a.connectionRemove())
}

func (a *app) connectionList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the connections", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
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
				used := "nothing yet"
				if n := len(k.UsedBy); n > 0 {
					used = plural(n, "workflow")
				}
				rows = append(rows, []string{k.Name, k.ConnectorTitle, short(k.Words, 62), k.Left, used})
			}
			a.grid([]string{"name", "application", "how it does", "plan", "used by"}, rows)
		})
	})}
}

// short cuts a text to at most n characters.
func short(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

func (a *app) connectionShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Everything about a connection but its secrets", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		k, err := got[api.Connection](cl.GetConnection(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.show(k, func() { a.connectionFacts(k) })
	})}
}

func (a *app) connectionFacts(k api.Connection) {
	fmt.Fprintf(a.out, "%s, %s\n%s\n", a.paint(bold, k.Name), k.ConnectorTitle, k.Words)
	a.allowed(k)
	fmt.Fprintln(a.out)
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(a.out, "  %s %s\n", fit(name, 18), value)
		}
	}
	var account map[string]any
	_ = json.Unmarshal(k.Account, &account)
	for _, name := range sortedKeys(account) {
		line(name, fmt.Sprint(account[name]))
	}
	line("signs in by", k.Method)
	line("may be used with", k.Pin)
	if k.Hint != "" {
		line("secret", "ends in "+k.Hint)
	} else {
		line("secret", "kept, never shown")
	}
	if k.Scopes != nil {
		line("scopes", strings.Join(*k.Scopes, ", "))
	}
	if k.TokenExpires != nil {
		line("token good until", when(*k.TokenExpires)+", renewed before")
	}
	line("left of the plan", k.Left)
	if l := k.Limits; l != nil {
		line("limit", limitWords(*l))
	}
	if k.HeldUntil != nil {
		line("held until", when(*k.HeldUntil)+": "+deref(k.HeldWhy))
	}
	if k.Waiting != nil {
		line("runs that wait", fmt.Sprint(*k.Waiting))
	}
	who := "every builder"
	if !k.Everyone {
		who = "administrators"
		for _, g := range k.Grants {
			who += ", " + g.Email
			if g.Actions != nil {
				who += " (" + strings.Join(*g.Actions, ", ") + ")"
			}
		}
	}
	line("builders", who)
	line("used by", strings.Join(k.UsedBy, ", "))
	if k.Checked != nil {
		line("checked", when(*k.Checked))
	}
}

func limitWords(l api.Limits) string {
	var parts []string
	if deref(l.Calls) > 0 {
		parts = append(parts, fmt.Sprintf("%d calls in %g s", *l.Calls, max(deref(l.Seconds), 0)))
	}
	if deref(l.Parallel) > 0 {
		parts = append(parts, fmt.Sprintf("%d at once", *l.Parallel))
	}
	return strings.Join(parts, ", ")
}

// assignments reads name=value words.
func assignments(flag string, words []string) (map[string]string, error) {
	out := map[string]string{}
	for _, p := range words {
		k, v, ok := strings.Cut(p, "=")
		if !ok {
			return nil, usage("--%s is %q; it is written as name=value", flag, p)
		}
		out[k] = v
	}
	return out, nil
}

func (a *app) connectionAdd() *cobra.Command {
	e := &entering{}
	c := &cobra.Command{Use: "add NAME CONNECTOR", Short: "Store an account and check it; secrets come from a file, standard input or a prompt",
		Example: "  trellis connection add tables-2 tables --account address=https://tables.example --secret-file key.txt\n  trellis connection add documents-2 documents --account address=https://documents.example --value client_id=hall --secret-file key.txt", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			account, err := assignments("account", e.account)
			if err != nil {
				return err
			}
			con, err := got[api.Connector](cl.GetConnector(c.Context(), args[1]))
			if err != nil {
				return err
			}
			values, err := a.values(e, con)
			if err != nil {
				return err
			}
			raw, err := json.Marshal(account)
			if err != nil {
				return err
			}
			body := api.NewConnection{Name: args[0], Connector: args[1], Account: raw, Values: &values}
			if e.method != "" {
				body.Method = &e.method
			}
			if e.scopes != nil {
				body.Scopes = &e.scopes
			}
			k, err := got[api.Connection](cl.AddConnection(c.Context(), body))
			if err != nil {
				return err
			}
			return a.checked(k)
		})}
	e.register(c)
	return c
}

func (a *app) connectionMend() *cobra.Command {
	e := &entering{}
	c := &cobra.Command{Use: "mend NAME", Short: "Enter new secrets; runs that waited for the connection go on", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		k, err := got[api.Connection](cl.GetConnection(c.Context(), args[0]))
		if err != nil {
			return err
		}
		con, err := got[api.Connector](cl.GetConnector(c.Context(), k.Connector))
		if err != nil {
			return err
		}
		if e.method == "" {
			e.method = k.Method
		}
		values, err := a.values(e, con)
		if err != nil {
			return err
		}
		body := api.MendConnection{Values: &values, Method: &e.method}
		if e.account != nil {
			account, err := assignments("account", e.account)
			if err != nil {
				return err
			}
			raw, err := json.Marshal(account)
			if err != nil {
				return err
			}
			fields := api.Fields(raw)
			body.Account = &fields
		}
		if e.scopes != nil {
			body.Scopes = &e.scopes
		}
		if k, err = got[api.Connection](cl.MendConnection(c.Context(), args[0], body)); err != nil {
			return err
		}
		return a.checked(k)
	})}
	e.register(c)
	return c
}

// allowed says how an address that is not public is let be reached.
func (a *app) allowed(k api.Connection) {
	if k.Guarded != nil {
		a.toAllow(*k.Guarded)
		fmt.Fprintf(a.out, "Then check again: trellis connection check %s\n", k.Name)
	}
}

func (a *app) toAllow(address string) {
	fmt.Fprintf(a.out, "If that is meant, an administrator allows it: trellis workspace allow %s\n", address)
}

func (a *app) checked(k api.Connection) error {
	err := a.show(k, func() {
		fmt.Fprintf(a.out, "%s: %s", k.Name, k.Words)
		if k.TookMs != nil && k.State == "ok" {
			fmt.Fprintf(a.out, " (%d ms)", *k.TookMs)
		}
		fmt.Fprintln(a.out)
		if k.Left != "" {
			fmt.Fprintln(a.out, k.Left)
		}
		if k.State == "consent" {
			fmt.Fprintf(a.out, "Sign in with: trellis connection sign-in %s\n", k.Name)
		}
		a.allowed(k)
	})
	if err == nil && (k.State == "broken" || k.State == "unchecked") {
		return fmt.Errorf("the connection %s is stored but does not work yet; mend it with: trellis connection mend %s", k.Name, k.Name)
	}
	return err
}

func (a *app) connectionCheck() *cobra.Command {
	return &cobra.Command{Use: "check NAME", Short: "Make the check call and say what it found", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		k, err := got[api.Connection](cl.CheckConnection(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.checked(k)
	})}
}

func (a *app) connectionCalls() *cobra.Command {
	return &cobra.Command{Use: "calls NAME", Short: "The last calls of a connection", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		list, err := got[struct {
			Calls []api.Called `json:"calls"`
		}](cl.ListCalls(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.show(list, func() {
			if len(list.Calls) == 0 {
				fmt.Fprintln(a.out, "Nothing was called yet.")
				return
			}
			rows := [][]string{}
			for _, k := range list.Calls {
				said := ""
				if k.Status > 0 {
					said = fmt.Sprint(k.Status)
				}
				if k.Failure != "" {
					said = strings.TrimSpace(said + " " + short(k.Failure, 50))
				}
				rows = append(rows, []string{when(k.At), k.Method, short(k.Address, 70), said, fmt.Sprintf("%d ms", k.TookMs)})
			}
			a.grid([]string{"at", "method", "address", "answered", "took"}, rows)
		})
	})}
}

func (a *app) connectionLimit() *cobra.Command {
	var calls, parallel int
	var per float64
	var off bool
	c := &cobra.Command{Use: "limit NAME", Short: "Keep to a number of calls, over all machines", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		k, err := got[api.Connection](cl.GetConnection(c.Context(), args[0]))
		if err != nil {
			return err
		}
		body := api.ConnectionSettings{Everyone: k.Everyone, Grants: &k.Grants}
		if !off {
			if calls <= 0 && parallel <= 0 {
				return usage("give --calls or --parallel, or --off to keep to the connector's own limits")
			}
			body.Limits = &api.Limits{Calls: &calls, Seconds: &per, Parallel: &parallel}
		}
		if k, err = got[api.Connection](cl.ShapeConnection(c.Context(), args[0], body)); err != nil {
			return err
		}
		return a.show(k, func() {
			said := "the connector's own limits"
			if k.Limits != nil {
				said = limitWords(*k.Limits)
			}
			fmt.Fprintf(a.out, "%s keeps to %s\n", k.Name, said)
		})
	})}
	c.Flags().IntVar(&calls, "calls", 0, "calls in each period")
	c.Flags().Float64Var(&per, "seconds", 1, "length of the period, in seconds")
	c.Flags().IntVar(&parallel, "parallel", 0, "calls at once")
	c.Flags().BoolVar(&off, "off", false, "keep to the connector's own limits")
	return c
}

func (a *app) connectionGrant() *cobra.Command {
	var actions []string
	var everyone, take bool
	c := &cobra.Command{Use: "grant NAME [EMAIL]", Short: "Say who may build with a connection", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		k, err := got[api.Connection](cl.GetConnection(c.Context(), args[0]))
		if err != nil {
			return err
		}
		if !everyone && len(args) < 2 {
			return usage("name somebody by address of mail, or give --everyone")
		}
		grants := k.Grants
		if len(args) == 2 {
			grants = slices.DeleteFunc(grants, func(g api.Grant) bool { return strings.EqualFold(g.Email, args[1]) })
			if !take {
				g := api.Grant{Email: args[1]}
				if actions != nil {
					g.Actions = &actions
				}
				grants = append(grants, g)
			}
		}
		if k, err = got[api.Connection](cl.ShapeConnection(c.Context(), args[0], api.ConnectionSettings{Everyone: everyone, Limits: k.Limits, Grants: &grants})); err != nil {
			return err
		}
		return a.show(k, func() { a.connectionFacts(k) })
	})}
	c.Flags().StringArrayVar(&actions, "action", nil, "an action that it may be used for; all unless given")
	c.Flags().BoolVar(&everyone, "everyone", false, "every builder may use it")
	c.Flags().BoolVar(&take, "take-away", false, "take the grant away")
	return c
}

func (a *app) connectionChoices() *cobra.Command {
	var input []string
	var search string
	c := &cobra.Command{Use: "choices NAME LIST", Short: "What a field can be, with the names behind ids", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		fields, err := assignments("input", input)
		if err != nil {
			return err
		}
		raw, err := json.Marshal(fields)
		if err != nil {
			return err
		}
		body := api.ListChoicesJSONRequestBody{Input: raw}
		if search != "" {
			body.Search = &search
		}
		list, err := got[api.Choices](cl.ListChoices(c.Context(), args[0], args[1], body))
		if err != nil {
			return err
		}
		return a.show(list, func() {
			if list.WhyEmpty != "" {
				fmt.Fprintln(a.out, list.WhyEmpty)
				return
			}
			rows := [][]string{}
			for _, o := range list.Options {
				rows = append(rows, []string{o.Name, strings.Trim(string(o.Id), `"`)})
			}
			a.grid([]string{"name", "id"}, rows)
		})
	})}
	c.Flags().StringArrayVar(&input, "input", nil, "a field that the list depends on, as workbook=wb_7q2kd0")
	c.Flags().StringVar(&search, "search", "", "words in the name, or an address copied out of a browser")
	return c
}

func (a *app) connectionRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a connection that nothing uses", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		if _, err := got[struct{}](cl.RemoveConnection(c.Context(), args[0])); err != nil {
			return err
		}
		return a.show(map[string]string{"removed": args[0]}, func() { fmt.Fprintf(a.out, "removed %s\n", args[0]) })
	})}
}
