package cli

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

func (a *app) connectorTry() *cobra.Command {
	var input, connection string
	var send bool
	c := &cobra.Command{Use: "try ACTION", Short: "Show the request of an action, or send it once with --send", Example: `  trellis connector try tables.rows --input '{"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}' --send`, RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		raw := []byte(input)
		if strings.HasPrefix(input, "@") {
			var err error
			if raw, err = a.readText(input[1:]); err != nil {
				return err
			}
		}
		if !json.Valid(raw) {
			return usage("--input is not JSON; it is written as '{\"name\": \"value\"}', or @FILE")
		}
		body := api.Try{Action: args[0], Input: raw, Send: &send}
		if connection != "" {
			body.Connection = &connection
		}
		t, err := got[api.Tried](cl.TryAction(c.Context(), body))
		if err != nil {
			return err
		}
		if err := a.show(t, func() { a.tried(t) }); err != nil {
			return err
		}
		if t.Why != nil {
			return fmt.Errorf("the call failed: %s", *t.Why)
		}
		return nil
	})}
	c.Flags().StringVar(&input, "input", "{}", "the action's fields as JSON, or @FILE")
	c.Flags().StringVar(&connection, "connection", "", "the connection to use; not needed where the application has one only")
	c.Flags().BoolVar(&send, "send", false, "send it for real")
	return c
}

func (a *app) tried(t api.Tried) {
	fmt.Fprintf(a.out, "%s %s\n", t.Sent.Method, t.Sent.Url)
	if t.Sent.Body != nil && *t.Sent.Body != "" {
		fmt.Fprintf(a.out, "%s\n", *t.Sent.Body)
	}
	if t.Sent.Prepared != nil {
		fmt.Fprintln(a.out, a.paint(grey, "\nNothing was sent. Send it once with --send."))
		return
	}
	if t.Sent.Guarded != nil {
		a.toAllow(*t.Sent.Guarded)
	}
	if t.Status == nil {
		return // why is told by the error
	}
	fmt.Fprintf(a.out, "\nanswered %d in %d ms, %s, %d bytes\n", deref(t.Status), deref(t.TookMs), deref(t.Type), deref(t.Bytes))
	if t.Units != nil {
		fmt.Fprintf(a.out, "billed %g\n", *t.Units)
	}
	if t.Left != nil {
		fmt.Fprintln(a.out, *t.Left)
	}
	if t.Link != nil {
		fmt.Fprintln(a.out, *t.Link)
	}
	print := func(raw []byte) {
		var v any
		if json.Unmarshal(raw, &v) == nil {
			raw, _ = json.MarshalIndent(v, "", "  ")
		}
		fmt.Fprintln(a.out, string(raw))
	}
	if t.Items != nil {
		fmt.Fprintf(a.out, "%s\n", plural(len(*t.Items), "item"))
		for i, x := range *t.Items {
			if i == 10 {
				fmt.Fprintf(a.out, "… and %d more\n", len(*t.Items)-10)
				break
			}
			fmt.Fprintf(a.out, "%3d  %s\n", i+1, short(string(x), 200))
		}
		return
	}
	if t.Output != nil {
		print(*t.Output)
	}
}
