package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

func (a *app) workflow() *cobra.Command {
	return noun("workflow", "Build, check and run workflows",
		a.workflowList(), a.workflowShow(), a.workflowCheck(), a.workflowApply(), a.workflowDiff(), a.workflowRehearse(), a.workflowLive(), a.workflowPause(), a.workflowUnpause(), a.workflowStart(), a.workflowAddress(), a.workflowCall(), a.workflowRevisions(), a.workflowExport(), a.workflowImport(), a.workflowOpen(), a.workflowDelete(), a.workflowSchema())
}

func (a *app) workflowList() *cobra.Command {
	return a.listOfWorkflows("List the workflows", []string{"name", "title", "state", "starts", "last run"}, func(w api.WorkflowSummary) []string {
		state, last := string(w.State), ""
		if w.Live != nil && w.State == "live" {
			state = fmt.Sprintf("live, revision %d", *w.Live)
		}
		if w.Last != nil {
			last = fmt.Sprintf("%s, %s", w.Last.State, when(w.Last.Accepted))
		}
		return []string{w.Name, w.Title, state, w.Trigger, last}
	})
}

// listOfWorkflows is a command that lists them with these columns.
func (a *app) listOfWorkflows(short string, heads []string, row func(api.WorkflowSummary) []string) *cobra.Command {
	return &cobra.Command{Use: "list", Short: short, RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		limit := 200
		page, err := got[api.WorkflowPage](cl.ListWorkflows(c.Context(), &api.ListWorkflowsParams{Limit: &limit}))
		if err != nil {
			return err
		}
		return a.show(page, func() {
			if len(page.Workflows) == 0 {
				fmt.Fprintln(a.out, "There are no workflows yet. Make one with: trellis workflow apply FILE")
				return
			}
			rows := [][]string{}
			for _, w := range page.Workflows {
				rows = append(rows, row(w))
			}
			a.grid(heads, rows)
		})
	})}
}

func (a *app) workflowShow() *cobra.Command {
	var text bool
	c := &cobra.Command{Use: "show NAME", Short: "Print a workflow as sentences, or as its document", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		w, err := got[api.Workflow](cl.GetWorkflow(c.Context(), args[0]))
		if err != nil {
			return err
		}
		if text {
			fmt.Fprint(a.raw, w.Document)
			return nil
		}
		return a.show(w, func() { a.outline(w) })
	})}
	c.Flags().BoolVar(&text, "document", false, "print the document itself")
	return c
}

func (a *app) outline(w api.Workflow) {
	state := string(w.State)
	if w.Live != nil {
		state = fmt.Sprintf("%s, revision %d", w.State, *w.Live)
		if w.Changed > 0 {
			state += fmt.Sprintf(", the draft differs in %s", plural(w.Changed, "place"))
		}
	}
	fmt.Fprintf(a.out, "%s  %s\n", a.paint(bold, w.Title), a.paint(grey, state))
	if w.About != nil {
		fmt.Fprintln(a.out, a.paint(grey, *w.About))
	}
	fmt.Fprintf(a.out, "\n     %s.\n", w.Trigger)
	for _, s := range deref(w.LimitSentences) {
		fmt.Fprintf(a.out, "     %s.\n", s)
	}
	for _, l := range w.Lines {
		head, rest, _ := strings.Cut(l.Sentence, " ")
		indent := strings.Repeat("   ", deref(l.Depth))
		line := fmt.Sprintf("%s%3s  %s %s.", indent, deref(l.Number), a.paint(green, head), rest)
		if l.Number == nil { // a case
			line = fmt.Sprintf("%s     %s:", indent, l.Sentence)
		}
		if deref(l.Off) {
			line += a.paint(grey, " (off)")
		}
		if l.Connection != nil {
			line += a.paint(grey, "  via "+*l.Connection)
		}
		fmt.Fprintln(a.out, line)
		if l.Note != nil {
			fmt.Fprintln(a.out, a.paint(grey, indent+"     "+*l.Note))
		}
	}
	if len(w.Problems) > 0 {
		fmt.Fprintln(a.out)
		a.findings(w.Problems)
	}
}

func (a *app) findings(list []api.Finding) (errs int) {
	for _, f := range list {
		color := yellow
		if f.Severity == "error" {
			color = red
			errs++
		}
		fmt.Fprintf(a.out, "%s %d:%d  %s", a.paint(color, string(f.Severity)), f.Line, f.Column, f.Message)
		if f.Cure != nil {
			fmt.Fprintf(a.out, " %s", *f.Cure)
		}
		fmt.Fprintln(a.out)
	}
	return errs
}

func (a *app) workflowCheck() *cobra.Command {
	return &cobra.Command{Use: "check FILE", Short: "Check a document (- for standard input)", RunE: func(c *cobra.Command, args []string) error {
		text, err := a.readText(args[0])
		if err != nil {
			return err
		}
		cl, err := a.client()
		if err != nil {
			return err
		}
		found, err := got[api.Checked](cl.CheckDocument(c.Context(), api.Document{Document: string(text)}))
		if err != nil {
			return err
		}
		errs := 0
		for _, f := range found.Problems {
			if f.Severity == "error" {
				errs++
			}
		}
		err = a.show(found, func() {
			if len(found.Problems) == 0 {
				fmt.Fprintf(a.out, "%s: nothing to mend\n", args[0])
				return
			}
			a.findings(found.Problems)
		})
		if err == nil && errs > 0 {
			err = fmt.Errorf("%s: %s", args[0], plural(errs, "error"))
		}
		return err
	}}
}

func (a *app) workflowApply() *cobra.Command {
	var live bool
	c := &cobra.Command{Use: "apply FILE", Short: "Make the document the draft of its workflow (- for standard input)", RunE: func(c *cobra.Command, args []string) error {
		text, err := a.readText(args[0])
		if err != nil {
			return err
		}
		cl, err := a.client()
		if err != nil {
			return err
		}
		w, did, err := a.apply(c, cl, string(text))
		if err != nil {
			return err
		}
		if live {
			if w, err = got[api.Workflow](cl.GoLive(c.Context(), w.Name, &api.GoLiveParams{})); err != nil {
				return err
			}
		}
		return a.show(w, func() {
			fmt.Fprintf(a.out, "%s %s, draft version %d", did, w.Name, w.Version)
			if live {
				fmt.Fprintf(a.out, ", live as revision %d", deref(w.Live))
			}
			fmt.Fprintln(a.out)
			a.findings(w.Problems)
		})
	}}
	c.Flags().BoolVar(&live, "live", false, "put it live as well")
	return c
}

// apply makes or replaces the draft that a text describes.
func (a *app) apply(c *cobra.Command, cl *api.Client, text string) (w api.Workflow, did string, err error) {
	parsed, _, problems := workflow.Read([]byte(text))
	if parsed == nil || parsed.Name == "" {
		msg := "this is not a workflow document"
		for _, p := range problems {
			msg += "\n  " + p.Error()
		}
		return w, "", usage("%s", msg)
	}
	if before, err := got[api.Workflow](cl.GetWorkflow(c.Context(), parsed.Name)); err == nil && before.Document == text {
		return before, "nothing is new in", nil
	}
	w, err = got[api.Workflow](cl.SaveDraft(c.Context(), parsed.Name, &api.SaveDraftParams{}, api.Document{Document: text}))
	var co *coded
	if errors.As(err, &co) && co.code == exitNotFound {
		w, err = got[api.Workflow](cl.CreateWorkflow(c.Context(), api.Document{Document: text}))
		return w, "made", err
	}
	return w, "changed", err
}

func (a *app) workflowDiff() *cobra.Command {
	var revision int
	c := &cobra.Command{Use: "diff NAME", Short: "What the draft changes, in sentences", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		params := &api.DiffWorkflowParams{}
		if revision > 0 {
			params.Revision = &revision
		}
		d, err := got[api.Diff](cl.DiffWorkflow(c.Context(), args[0], params))
		if err != nil {
			return err
		}
		return a.show(d, func() {
			if len(d.Changes) == 0 {
				fmt.Fprintln(a.out, "The draft is the same.")
			}
			for _, x := range d.Changes {
				fmt.Fprintln(a.out, x.Sentence)
			}
		})
	})}
	c.Flags().IntVar(&revision, "revision", 0, "compare with this revision instead of the live one")
	return c
}

func (a *app) workflowRehearse() *cobra.Command {
	var to, items string
	var requests bool
	c := &cobra.Command{Use: "rehearse NAME", Short: "Run the draft on samples with nothing leaving the building", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		body := api.Rehearse{}
		if to != "" {
			body.To = &to
		}
		if items != "" {
			list, err := a.items(items)
			if err != nil {
				return err
			}
			body.Items = &list
		}
		r, err := got[api.Rehearsal](cl.Rehearse(c.Context(), args[0], body))
		if err != nil {
			return err
		}
		if err := a.show(r, func() {
			a.lattice(r.Columns, r.Rows, 60)
			fmt.Fprintf(a.out, "\nNothing was sent. %s only prepared.\n", wasWere(r.Prepared, "write"))
			if slices.ContainsFunc(r.Rows, func(row api.Row) bool {
				return slices.ContainsFunc(row.Cells, func(c api.Cell) bool { return deref(c.Simulated) })
			}) {
				fmt.Fprintln(a.out, a.paint(grey, "≈ was made from a sample answer; the real one will differ."))
			}
			if r.Message != nil && r.State != "failed" {
				fmt.Fprintln(a.out, a.paint(red, *r.Message))
			}
			if requests {
				a.prepared(r)
			} else if r.Prepared > 0 {
				fmt.Fprintln(a.out, a.paint(grey, "See them with --requests."))
			}
			a.asExpected(r)
		}); err != nil {
			return err
		}
		for _, e := range deref(r.Expected) {
			if len(e.Differs) > 0 {
				return &coded{exitFailed, errors.New("not every sample became what is expected of it")}
			}
		}
		if r.State == "failed" {
			return fmt.Errorf("the rehearsal failed: %s", cmp.Or(deref(r.Message), "its cells say why"))
		}
		return nil
	})}
	c.Flags().StringVar(&to, "to", "", "the last step to rehearse")
	c.Flags().StringVar(&items, "items", "", "file with items to use instead of the samples: a JSON list, or one object a line")
	c.Flags().BoolVar(&requests, "requests", false, "print the requests that would go out")
	return c
}

// asExpected says which samples became what is expected of them.
func (a *app) asExpected(r api.Rehearsal) {
	for _, e := range deref(r.Expected) {
		name := fmt.Sprintf("sample %d", e.Sample)
		if e.Label != nil {
			name += ", " + *e.Label
		}
		if len(e.Differs) == 0 {
			fmt.Fprintln(a.out, a.paint(green, name+": as expected"))
			continue
		}
		fmt.Fprintln(a.out, a.paint(red, name+": "+strings.Join(e.Differs, "; ")))
	}
}

func wasWere(n int, word string) string {
	if n == 1 {
		return "1 " + word + " was"
	}
	return fmt.Sprintf("%d %ss were", n, word)
}

func (a *app) prepared(r api.Rehearsal) {
	for _, row := range r.Rows {
		for i, cell := range row.Cells {
			if cell.Sent != nil && deref(cell.Sent.Prepared) {
				fmt.Fprintf(a.out, "\nrow %d, %s\n  %s %s\n  %s\n", row.Row, r.Columns[i].Name, cell.Sent.Method, cell.Sent.Url, deref(cell.Sent.Body))
			}
		}
	}
}

// items reads a JSON list of objects, or one object a line.
func (a *app) items(path string) ([]api.Fields, error) {
	text, err := a.readText(path)
	if err != nil {
		return nil, err
	}
	trimmed := strings.TrimSpace(string(text))
	if strings.HasPrefix(trimmed, "[") {
		var list []json.RawMessage
		if err := json.Unmarshal([]byte(trimmed), &list); err != nil {
			return nil, usage("%s: %v", path, err)
		}
		return list, nil
	}
	var out []api.Fields
	sc := bufio.NewScanner(strings.NewReader(trimmed))
	sc.Buffer(nil, item.MaxBytes)
	for n := 1; sc.Scan(); n++ {
		line := strings.TrimSpace(sc.Text())
		if line == "" {
			continue
		}
		if _, err := item.DecodeObject([]byte(line)); err != nil {
			return nil, usage("%s, line %d: %v", path, n, err)
		}
		out = append(out, api.Fields(line))
	}
	return out, sc.Err()
}

func (a *app) workflowSchema() *cobra.Command {
	return &cobra.Command{Use: "schema", Short: "The JSON Schema of workflow documents with the connectors of the workspace, for editors", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		text, err := got[json.RawMessage](cl.WorkflowSchema(c.Context()))
		if err != nil {
			return err
		}
		var out bytes.Buffer
		if err := json.Indent(&out, text, "", "  "); err != nil {
			return err
		}
		out.WriteByte('\n')
		_, err = out.WriteTo(a.raw)
		return err
	})}
}
