package cli

import (
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/workflow"
)

func (a *app) workflowRevisions() *cobra.Command {
	var document bool
	c := &cobra.Command{Use: "revisions NAME [REVISION]", Short: "List the revisions that were live, newest first, or show one",
		Example: "  trellis workflow revisions counter-calls\n  trellis workflow revisions counter-calls 1 --document",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			list, err := got[struct {
				Revisions []api.Revision `json:"revisions"`
			}](cl.ListRevisions(c.Context(), args[0]))
			if err != nil {
				return err
			}
			if len(args) == 2 {
				r, err := revision(list.Revisions, args)
				if err != nil {
					return err
				}
				if document {
					fmt.Fprint(a.raw, r.Document)
					return nil
				}
				return a.show(r, func() {
					fmt.Fprintf(a.out, "%s\n\n%s", revisionWords(r), r.Document)
				})
			}
			return a.show(list, func() {
				if len(list.Revisions) == 0 {
					fmt.Fprintf(a.out, "%s was never live. Put it live with: trellis workflow live %s\n", args[0], args[0])
					return
				}
				rows := [][]string{}
				for _, r := range list.Revisions {
					state := ""
					if r.Live {
						state = "live"
					}
					rows = append(rows, []string{strconv.Itoa(r.Number), state, when(r.Made), r.MadeBy})
				}
				a.grid([]string{"revision", "state", "made", "by"}, rows)
				fmt.Fprintf(a.out, "\nBack to an earlier one: trellis workflow live %s --revision NUMBER\n", args[0])
			})
		})}
	c.Flags().BoolVar(&document, "document", false, "print its document alone")
	return c
}

func revisionWords(r api.Revision) string {
	s := fmt.Sprintf("Revision %d, made %s by %s", r.Number, when(r.Made), r.MadeBy)
	if r.Live {
		s += ", live"
	}
	return s
}

func revision(list []api.Revision, args []string) (api.Revision, error) {
	n, err := strconv.Atoi(args[1])
	if err != nil {
		return api.Revision{}, usage("REVISION is %q, which is no whole number", args[1])
	}
	for _, r := range list {
		if r.Number == n {
			return r, nil
		}
	}
	return api.Revision{}, &coded{exitNotFound, fmt.Errorf("there is no revision %d of %s; it has %s", n, args[0], plural(len(list), "revision"))}
}

func (a *app) workflowDelete() *cobra.Command {
	return &cobra.Command{Use: "delete NAME", Short: "Remove a workflow with its revisions, samples and runs; that is final", Example: "  trellis workflow delete counter-calls-trial --yes", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		w, err := got[api.Workflow](cl.GetWorkflow(c.Context(), args[0]))
		if err != nil {
			return err
		}
		question := fmt.Sprintf("Remove %s, “%s”, with its revisions, samples and all of its runs?", w.Name, w.Title)
		if err := a.agrees(question); err != nil {
			return err
		}
		if _, err := got[struct{}](cl.DeleteWorkflow(c.Context(), args[0])); err != nil {
			return err
		}
		return a.show(map[string]string{"removed": args[0]}, func() { fmt.Fprintf(a.out, "removed %s\n", args[0]) })
	})}
}

func (a *app) workflowExport() *cobra.Command {
	var number int
	c := &cobra.Command{Use: "export NAME [FILE]", Short: "Write the document of a workflow to a file; it names connections and carries none of them",
		Example: "  trellis workflow export counter-calls counter-calls.yaml\n  trellis workflow export counter-calls --revision 1 > before.yaml",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			w, err := got[api.Workflow](cl.GetWorkflow(c.Context(), args[0]))
			if err != nil {
				return err
			}
			text, what := w.Document, fmt.Sprintf("draft version %d", w.Version)
			if number != 0 {
				list, err := got[struct {
					Revisions []api.Revision `json:"revisions"`
				}](cl.ListRevisions(c.Context(), args[0]))
				if err != nil {
					return err
				}
				r, err := revision(list.Revisions, []string{args[0], strconv.Itoa(number)})
				if err != nil {
					return err
				}
				text, what = r.Document, fmt.Sprintf("revision %d", number)
			}
			if len(args) == 1 || args[1] == "-" {
				fmt.Fprint(a.raw, text)
				return nil
			}
			if _, err := os.Stat(args[1]); err == nil {
				if err := a.agrees(args[1] + " is there already. Write over it?"); err != nil {
					return err
				}
			}
			if err := os.WriteFile(args[1], []byte(text), 0o644); err != nil {
				return err
			}
			return a.show(map[string]string{"workflow": w.Name, "file": args[1]}, func() { fmt.Fprintf(a.out, "wrote %s of %s to %s\n", what, w.Name, args[1]) })
		})}
	c.Flags().IntVar(&number, "revision", 0, "a revision in place of the draft")
	return c
}

func (a *app) workflowImport() *cobra.Command {
	var name string
	c := &cobra.Command{Use: "import FILE", Short: "Make a new workflow of a document (- for standard input); one that is there is not changed",
		Example: "  trellis workflow import counter-calls.yaml --name counter-calls-trial",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			text, err := a.readText(args[0])
			if err != nil {
				return err
			}
			if name != "" {
				if text, err = workflow.Renamed(text, name); err != nil {
					return usage("%s: %v", args[0], err)
				}
			}
			w, err := got[api.Workflow](cl.CreateWorkflow(c.Context(), api.Document{Document: string(text)}))
			if err != nil {
				return err
			}
			return a.show(w, func() {
				fmt.Fprintf(a.out, "made %s, draft version %d\n", w.Name, w.Version)
				a.findings(w.Problems)
			})
		})}
	c.Flags().StringVar(&name, "name", "", "what it is called here, in place of the document's name")
	return c
}

func (a *app) workflowOpen() *cobra.Command {
	return &cobra.Command{Use: "open NAME", Short: "Open a workflow in the console; prints its address where there is no browser", Example: "  trellis workflow open counter-calls", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		w, err := got[api.Workflow](cl.GetWorkflow(c.Context(), args[0]))
		if err != nil {
			return err
		}
		s, err := a.settings()
		if err != nil {
			return err
		}
		address := strings.TrimSuffix(s.Address, "/") + "/workflows/" + w.Name
		if _, ok := a.asks(); ok && a.output == "table" {
			for _, program := range []string{"xdg-open", "open"} {
				if path, err := exec.LookPath(program); err == nil && exec.CommandContext(c.Context(), path, address).Start() == nil {
					break
				}
			}
		}
		return a.show(map[string]string{"address": address}, func() { fmt.Fprintln(a.out, address) })
	})}
}
