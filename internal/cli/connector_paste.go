package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/item"
)

func (a *app) connectorPaste() *cobra.Command {
	var keep bool
	var body api.KeepPasted
	var connector, title, action, connection, valuesFile string
	c := &cobra.Command{Use: "paste FILE", Short: "Make an http step of a curl command or a raw request; - reads standard input",
		Long: `Make an http step of a curl command or a raw HTTP request, and show the request that it sends.

Nothing is kept until --keep says so, or a name is given. Then the call becomes an action of a connector as well, and its secrets are stored in a connection, which is tried at once. A second call of the same address joins the connector.`,
		Example: `  trellis connector paste call.txt
  trellis connector paste - --connector hall-orders --connection hall < call.txt`, RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			text, err := a.readText(args[0])
			if err != nil {
				return err
			}
			p, err := got[api.Pasted](cl.PasteCall(c.Context(), api.Paste{Text: string(text)}))
			if err != nil {
				return err
			}
			if !keep && connector == "" && title == "" && action == "" && connection == "" {
				return a.show(p, func() { a.pasted(p, nil) })
			}
			body.Text = string(text)
			for to, v := range map[**string]string{&body.Connector: connector, &body.Title: title, &body.Action: action, &body.Connection: connection} {
				if v != "" {
					*to = &v
				}
			}
			values, err := a.pastedValues(p, valuesFile)
			if err != nil {
				return err
			}
			body.Values = &values
			k, err := got[api.KeptPasted](cl.KeepPasted(c.Context(), body))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"pasted": p, "kept": k}, func() { a.pasted(p, &k) })
		})}
	f := c.Flags()
	f.BoolVar(&keep, "keep", false, "keep the call in a connector and its secrets in a connection, under names that are chosen")
	f.StringVar(&connector, "connector", "", "keep it in this connector: one that calls the same address, or a new one")
	f.StringVar(&title, "title", "", "what a new connector is called in words")
	f.StringVar(&action, "action", "", "what the action is called")
	f.StringVar(&connection, "connection", "", "store the secrets in a connection of this name")
	f.StringVar(&valuesFile, "values-file", "", "file with what is to be entered, a JSON object of names and values; - for standard input")
	return c
}

// pastedValues asks for what stood there as a placeholder.
func (a *app) pastedValues(p api.Pasted, file string) (map[string]string, error) {
	values := map[string]string{}
	if file != "" {
		b, err := a.readText(file)
		if err != nil {
			return nil, err
		}
		m, err := item.DecodeObject(b)
		if err != nil {
			return nil, usage("%s is no JSON object of names and values: %v", file, err)
		}
		for k, v := range m {
			values[k], _ = v.(string)
		}
	}
	for _, s := range p.Secrets {
		if s.Asked == nil || values[s.Name] != "" {
			continue
		}
		if _, ok := a.asks(); !ok {
			return nil, usage("%s holds %s: put its value into a file, as {%q: \"…\"}, and name that with --values-file", s.Where, *s.Asked, s.Name)
		}
		v, err := a.secret("The value of "+*s.Asked+", "+s.Where, "")
		if err != nil {
			return nil, err
		}
		values[s.Name] = v
	}
	return values, nil
}

// pasted shows what a call became, first of all the request that goes out. What was
// pasted is not shown again: it holds the secrets.
func (a *app) pasted(p api.Pasted, k *api.KeptPasted) {
	indented := func(s string) {
		for _, line := range strings.Split(strings.TrimRight(s, "\n"), "\n") {
			fmt.Fprintln(a.out, strings.TrimRight("  "+line, " "))
		}
	}
	fmt.Fprintln(a.out, a.paint(bold, "It goes out as"))
	indented(p.Request)
	step := map[string]any{"type": "http"}
	if m, err := item.DecodeObject(p.Settings); err == nil {
		step["settings"] = m
	}
	if k != nil && len(p.Secrets) > 0 {
		step["connection"] = k.Connection.Name
	}
	fmt.Fprintln(a.out, a.paint(bold, "\nAs a step"))
	if b, err := document.EncodeValue(step); err == nil {
		indented(string(b))
	}
	fmt.Fprintln(a.out)
	for _, s := range p.Secrets {
		switch {
		case s.Asked != nil && k == nil:
			fmt.Fprintf(a.out, "to enter: %s in %s\n", *s.Asked, s.Where)
		case s.Asked == nil && !s.Shown:
			fmt.Fprintf(a.out, "secret taken out: %s %s\n", s.Where, s.Hint)
		}
	}
	for _, s := range p.Placeholders {
		fmt.Fprintf(a.out, "to fill in: %s in %s\n", s.Text, s.Where)
	}
	for _, f := range p.Files {
		what := "file"
		if f.Text {
			what = "text of the file"
		}
		fmt.Fprintf(a.out, "%s: %s comes from %s\n", what, f.Name, f.Field)
	}
	for _, n := range p.Notes {
		fmt.Fprintf(a.out, "note: %s\n", n)
	}
	if k == nil {
		where := "a new connector, " + p.Connector
		if deref(p.Joins) {
			where = "the connector " + p.Connector + ", which calls the same address"
		}
		secrets := ""
		if len(p.Secrets) > 0 {
			secrets = ", and its secrets are stored in a connection"
		}
		fmt.Fprintln(a.out)
		fmt.Fprintf(a.out, "Nothing is kept yet. With --keep it becomes the action %s of %s%s; --connector, --action and --connection name them.\n", p.Action, where, secrets)
		return
	}
	verb := "made the connector"
	if k.Joined {
		verb = "joined the connector"
	}
	fmt.Fprintf(a.out, "%s %s, version %d: the call is its action %s\n", verb, k.Connector, k.Version, k.Action)
	verb = "stored the connection"
	if !k.Made {
		verb = "the secret is that of the connection"
	}
	fmt.Fprintf(a.out, "%s %s: %s\n", verb, k.Connection.Name, k.Connection.Words)
	if k.Connection.Guarded != nil {
		a.toAllow(*k.Connection.Guarded)
	}
}
