package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
)

func (a *app) connector() *cobra.Command {
	return noun("connector", "What can be connected, and what each can do", a.connectorList(), a.connectorShow(), a.connectorCheck(), a.connectorAdd(), a.connectorImport(), a.connectorPaste(), a.connectorTry(), a.connectorSchema(), a.connectorRemove())
}

func (a *app) connectorList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the connectors", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		list, err := got[struct {
			Connectors []api.Connector `json:"connectors"`
		}](cl.ListConnectors(c.Context()))
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := [][]string{}
			for _, k := range list.Connectors {
				var ways []string
				for _, w := range k.SignIn {
					ways = append(ways, w.Name)
				}
				rows = append(rows, []string{k.Name, short(k.About, 58), strings.Join(ways, ", "), plural(len(k.Actions), "action")})
			}
			a.grid([]string{"name", "what it is", "signs in by", "offers"}, rows)
		})
	})}
}

func (a *app) connectorShow() *cobra.Command {
	var text bool
	c := &cobra.Command{Use: "show NAME", Short: "How to connect an application, and its actions", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		k, err := got[api.Connector](cl.GetConnector(c.Context(), args[0]))
		if err != nil {
			return err
		}
		if text {
			fmt.Fprint(a.raw, deref(k.Document))
			return nil
		}
		return a.show(k, func() { a.connectorFacts(k) })
	})}
	c.Flags().BoolVar(&text, "document", false, "print the connector document")
	return c
}

func (a *app) connectorFacts(k api.Connector) {
	fmt.Fprintf(a.out, "%s, version %d\n%s\n", a.paint(bold, k.Title), k.Version, k.About)
	if k.Limits != nil {
		fmt.Fprintln(a.out, "It takes "+*k.Limits+".")
	}
	fmt.Fprintln(a.out, a.paint(bold, "\nTo connect"))
	for _, p := range k.Account {
		var s struct{ Title, Description string }
		_ = json.Unmarshal(p.Schema, &s)
		fmt.Fprintf(a.out, "  --account %s=…   %s\n", p.Name, sentences(s.Title, s.Description))
	}
	for _, w := range k.SignIn {
		var asked []string
		for _, f := range w.Secrets {
			asked = append(asked, f.Title)
		}
		fmt.Fprintf(a.out, "  --method %s   %s\n", w.Name, sentences(w.Title, w.Help))
		if len(asked) > 0 {
			fmt.Fprintf(a.out, "      asks for %s\n", strings.Join(asked, ", "))
		}
		if w.Redirect != nil {
			fmt.Fprintf(a.out, "      redirect address to register: %s, or http://127.0.0.1 with any port for the command line\n", *w.Redirect)
		}
		if w.Scopes != nil {
			for _, s := range *w.Scopes {
				fmt.Fprintf(a.out, "      scope %s: %s\n", s.Name, s.Title)
			}
		}
	}
	fmt.Fprintln(a.out, a.paint(bold, "\nActions"))
	for _, x := range k.Actions {
		fmt.Fprintf(a.out, "  %s  %s\n", a.paint(bold, k.Name+"."+x.Name), x.Title)
		facts := []string{x.Effect + "s"}
		if x.List {
			facts = append(facts, "gives a list")
		}
		if x.TakesAWhile != nil {
			facts = append(facts, "takes a while")
		}
		if x.Units != nil {
			facts = append(facts, *x.Units)
		}
		if x.Effect == "write" {
			facts = append(facts, map[string]string{"safe": "may be repeated", "keyed": "a repeat is known by its key", "unsafe": "would happen twice if repeated"}[x.Repeat])
		}
		if x.Proof != nil {
			facts = append(facts, "proof: "+strings.Join(*x.Proof, ", "))
		}
		fmt.Fprintf(a.out, "      %s\n", a.paint(grey, strings.Join(facts, "; ")))
		for _, f := range x.Fields {
			var s struct{ Title, Description, Choices string }
			_ = json.Unmarshal(f.Schema, &s)
			need := ""
			if f.Required {
				need = ", required"
			}
			if s.Choices != "" {
				need += ", picked from " + s.Choices
			}
			fmt.Fprintf(a.out, "      %s %s\n", fit(f.Name, 12), sentences(s.Title+need, s.Description))
		}
	}
	for _, t := range k.Triggers {
		fmt.Fprintf(a.out, "  trigger %s  %s (%s)\n", t.Name, t.Sentence, t.Kind)
	}
}

// sentences puts what something is called and what is said of it behind each other.
func sentences(title, more string) string {
	if more == "" {
		return title
	}
	return title + ". " + more
}

// connectorCheck reads a document without any service.
func (a *app) connectorCheck() *cobra.Command {
	return &cobra.Command{Use: "check FILE…", Short: "Find everything wrong with connector documents", RunE: func(_ *cobra.Command, args []string) error {
		wrong := 0
		found := map[string][]document.Problem{}
		for _, path := range args {
			text, err := a.readText(path)
			if err != nil {
				return err
			}
			_, problems := connector.Examine(text)
			found[path] = problems
			for _, p := range problems {
				if p.Severity == document.SeverityError {
					wrong++
				}
			}
		}
		err := a.show(found, func() {
			for _, path := range args {
				if len(found[path]) == 0 {
					fmt.Fprintf(a.out, "%s: nothing wrong\n", path)
				}
				for _, p := range found[path] {
					fmt.Fprintf(a.out, "%s:%d:%d: %s: %s %s\n", path, p.Line, p.Column, p.Severity, p.Message, p.Cure)
				}
			}
		})
		if err == nil && wrong > 0 {
			return fmt.Errorf("%s to mend", plural(wrong, "error"))
		}
		return err
	}}
}

func (a *app) connectorAdd() *cobra.Command {
	return &cobra.Command{Use: "add FILE", Short: "Add a connector to the workspace, or a new version of one", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		text, err := a.readText(args[0])
		if err != nil {
			return err
		}
		before, err := got[struct {
			Changes *[]api.ConnectorChange `json:"changes"`
		}](cl.CheckConnector(c.Context(), api.ConnectorDocument{Document: string(text)}))
		if err != nil {
			return err
		}
		k, err := got[api.Connector](cl.AddConnector(c.Context(), api.ConnectorDocument{Document: string(text)}))
		if err != nil {
			return err
		}
		return a.show(k, func() {
			if before.Changes != nil {
				a.connectorChanges("What it does otherwise than the version before", *before.Changes)
			}
			fmt.Fprintf(a.out, "added %s, version %d, with %s\nConnect it with: trellis connection add NAME %s\n", k.Name, k.Version, plural(len(k.Actions), "action"), k.Name)
		})
	})}
}

// does says how many actions do something.
func does(n int, verb string) string {
	if n == 1 {
		return "1 action that " + verb + "s"
	}
	return fmt.Sprintf("%d actions that %s", n, verb)
}

// connectorChanges prints what a version does otherwise, and whom that concerns.
func (a *app) connectorChanges(title string, list []api.ConnectorChange) {
	fmt.Fprintln(a.out, "\n"+a.paint(bold, title))
	if len(list) == 0 {
		fmt.Fprintln(a.out, "  It does the same.")
	}
	for _, c := range list {
		line := c.Says
		if c.Action != nil && !strings.Contains(line, *c.Action) {
			line = *c.Action + ": " + line
		}
		if len(c.Workflows) > 0 {
			line += " Used by " + strings.Join(c.Workflows, ", ") + "."
		}
		color := ""
		if c.Breaks && len(c.Workflows) > 0 {
			color = yellow
		}
		if color != "" {
			line = a.paint(color, line)
		}
		fmt.Fprintln(a.out, "  "+line)
	}
	fmt.Fprintln(a.out, "What is live keeps the version that it was made with, until it goes live anew.")
}

func (a *app) connectorImport() *cobra.Command {
	var name, address, to string
	c := &cobra.Command{Use: "import FILE", Short: "Make a connector of an OpenAPI 3 document, to look at before it is added", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		text, err := a.readText(args[0])
		if err != nil {
			return err
		}
		body := api.ImportConnector{Document: string(text)}
		if name != "" {
			body.Name = &name
		}
		if address != "" {
			body.Address = &address
		}
		k, err := got[api.Imported](cl.ImportConnector(c.Context(), body))
		if err != nil {
			return err
		}
		if to != "" {
			if err := os.WriteFile(to, []byte(k.Document), 0o644); err != nil {
				return err
			}
		}
		return a.show(k, func() {
			fmt.Fprintf(a.out, "%s, %s: %s and %s; signs in by %s\n", a.paint(bold, k.Name), k.Title, does(deref(k.Reads), "read"), does(deref(k.Writes), "write"), strings.Join(k.SignIn, ", "))
			for _, s := range k.Servers {
				fmt.Fprintf(a.out, "  calls, and the secret with them, would go to %s\n", s)
			}
			if k.TokenServers != nil {
				for _, s := range *k.TokenServers {
					fmt.Fprintf(a.out, "  the client secret would go to %s\n", s)
				}
			}
			if len(k.LeftOut) > 0 {
				fmt.Fprintln(a.out, a.paint(bold, "\nLeft out"))
			}
			for _, l := range k.LeftOut {
				fmt.Fprintf(a.out, "  %s: %s\n", l.What, l.Why)
			}
			if k.Replaces != nil {
				a.connectorChanges(fmt.Sprintf("%s, version %d, is there already", k.Name, *k.Replaces), deref(k.Changes))
			}
			if to == "" {
				fmt.Fprintf(a.out, "\nNothing was added. Write the document with --to %s.yaml, look at it, then: trellis connector add %s.yaml\n", k.Name, k.Name)
			} else {
				fmt.Fprintf(a.out, "\nWritten to %s. Look at it, then: trellis connector add %s\n", to, to)
			}
		})
	})}
	c.Flags().StringVar(&name, "name", "", "name of the connector; from the title unless given")
	c.Flags().StringVar(&address, "address", "", "where the document was found; a server that is only a path is there")
	c.Flags().StringVar(&to, "to", "", "file to write the connector document to")
	return c
}

func (a *app) connectorSchema() *cobra.Command {
	return &cobra.Command{Use: "schema", Short: "The JSON Schema of connector documents, for editors", RunE: func(*cobra.Command, []string) error {
		e := json.NewEncoder(a.raw)
		e.SetIndent("", "  ")
		return e.Encode(connector.DocumentSchema())
	}}
}

func (a *app) connectorRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a connector that was added here and that nothing uses", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		if _, err := got[struct{}](cl.RemoveConnector(c.Context(), args[0])); err != nil {
			return err
		}
		return a.show(map[string]string{"removed": args[0]}, func() { fmt.Fprintf(a.out, "removed %s\n", args[0]) })
	})}
}
