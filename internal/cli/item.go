package cli

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/words"
)

func (a *app) item() *cobra.Command {
	return noun("item", "Mend items that were set aside, or that may have been sent", a.itemList(), a.itemShow(), a.itemEdit(), a.itemRetry(), a.itemDismiss(), a.itemConfirm(), a.itemWatch(), a.itemCancel())
}

// meant are the items that a command is about: single ones, or all that flags
// narrow.
type meant struct {
	run, workflow, step, kind, like string
}

func (m *meant) flags(c *cobra.Command) {
	c.Flags().StringVar(&m.run, "run", "", "only items of this run")
	c.Flags().StringVar(&m.workflow, "workflow", "", "only items of this workflow")
	c.Flags().StringVar(&m.step, "step", "", "only items that stand at this step")
	oneOf(c, &m.kind, "kind", "only items that ended so", "set_aside", "may_have_been_sent")
	c.Flags().StringVar(&m.like, "like", "", "only items that came to an error like this one; numbers and names in it count for nothing")
}

func (m *meant) some() bool { return *m != (meant{}) }

func (m *meant) where(ctx context.Context, cl *api.Client) (*api.ItemWhere, error) {
	out := &api.ItemWhere{}
	if m.run != "" {
		id, err := runID(ctx, cl, m.run)
		if err != nil {
			return nil, err
		}
		out.Run = &id
	}
	text := func(to **string, s string) {
		if s != "" {
			*to = &s
		}
	}
	text(&out.Workflow, m.workflow)
	text(&out.Step, m.step)
	text(&out.Alike, words.Alike(m.like))
	if m.kind != "" {
		k := api.ItemKind(m.kind)
		out.Kind = &k
	}
	return out, nil
}

// itemRefs reads RUN ITEM ITEM …
func itemRefs(ctx context.Context, cl *api.Client, args []string) ([]api.ItemRef, error) {
	run, err := runID(ctx, cl, args[0])
	if err != nil {
		return nil, err
	}
	if len(args) < 2 {
		return nil, usage("say which items of the run: their rows, as row3, or their addresses, as @0-1.7")
	}
	var out []api.ItemRef
	for _, x := range args[1:] {
		address, err := addressOf(ctx, cl, run, x)
		if err != nil {
			return nil, err
		}
		out = append(out, api.ItemRef{Run: run, Address: address})
	}
	return out, nil
}

func (a *app) itemList() *cobra.Command {
	var m meant
	var limit int
	var after string
	c := &cobra.Command{Use: "list", Short: "List what waits for somebody, by what it came to", Long: "Lists what waits for somebody, grouped by workflow, step and error.\nNarrowed by a flag it lists the items themselves, newest first.", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		if !m.some() {
			return a.itemGroups(c.Context(), cl)
		}
		w, err := m.where(c.Context(), cl)
		if err != nil {
			return err
		}
		params := &api.ListItemsParams{Run: w.Run, Workflow: w.Workflow, Step: w.Step, Kind: w.Kind, Alike: w.Alike, Limit: &limit}
		if after != "" {
			params.After = &after
		}
		page, err := got[api.ItemPage](cl.ListItems(c.Context(), params))
		if err != nil {
			return err
		}
		return a.show(page, func() {
			if len(page.Items) == 0 {
				fmt.Fprintln(a.out, "No such item waits for anybody.")
				return
			}
			rows := [][]string{}
			for _, x := range page.Items {
				rows = append(rows, []string{x.Run.String(), "@" + x.Address, x.Label, x.Step, kindWords(x.Kind, x.Busy), when(x.Since), x.Why})
			}
			a.grid([]string{"run", "item", "label", "step", "stands", "since", "because"}, rows)
			if page.Next != nil {
				fmt.Fprintf(a.out, "%d of %s; the next ones: --after %s\n", len(page.Items), plural(page.Total, "item"), *page.Next)
			}
			fmt.Fprintf(a.out, "all about one: trellis item show %s @%s\n", page.Items[0].Run, page.Items[0].Address)
		})
	})}
	m.flags(c)
	c.Flags().IntVar(&limit, "limit", 50, "how many, at most 200")
	c.Flags().StringVar(&after, "after", "", "go on behind a page")
	return c
}

func kindWords(k api.ItemKind, busy bool) string {
	text := words.FateOf(string(k)).Words
	if busy {
		text += ", being tried again"
	}
	return text
}

func (a *app) itemGroups(ctx context.Context, cl *api.Client) error {
	page, err := got[api.ItemGroups](cl.ListItemGroups(ctx, &api.ListItemGroupsParams{}))
	if err != nil {
		return err
	}
	return a.show(page, func() {
		if len(page.Groups) == 0 {
			fmt.Fprintln(a.out, "Nothing waits for anybody.")
			return
		}
		rows := [][]string{}
		for _, g := range page.Groups {
			rows = append(rows, []string{words.Number(g.Items), g.Workflow, g.Step, words.FateOf(string(g.Kind)).Words, plural(g.Runs, "run"), when(g.Last), g.Why})
		}
		a.grid([]string{"items", "workflow", "step", "stand", "in", "newest", "because, for one"}, rows)
		g := page.Groups[0]
		fmt.Fprintf(a.out, "the items of the first: trellis item list --workflow %s --step %s\n", g.Workflow, g.Step)
	})
}

func (a *app) itemShow() *cobra.Command {
	return &cobra.Command{Use: "show RUN ITEM", Short: "Everything about one item where it stands", RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
		x, o, err := a.standing(c.Context(), cl, id, args[1])
		if err != nil {
			return err
		}
		return a.show(map[string]any{"item": x, "cell": o}, func() {
			a.opened(o)
			fmt.Fprintf(a.out, "\nIt is %s since %s.\n", kindWords(x.Kind, x.Busy), when(x.Since))
			at := fmt.Sprintf("%s @%s", id, x.Address)
			if x.Kind == api.ItemKindMayHaveBeenSent {
				fmt.Fprintf(a.out, "Look at the other side first. Then: trellis item confirm %s --was-done, or --send-again\n", at)
				return
			}
			fmt.Fprintf(a.out, "Try it again: trellis item retry %s\nWith other fields: trellis item edit %s --set NAME=VALUE\nLet it be: trellis item dismiss %s\n", at, at, at)
		})
	})}
}

// standing finds a waiting item and opens it where it stands.
func (a *app) standing(ctx context.Context, cl *api.Client, id uuid.UUID, given string) (x api.WaitingItem, o api.OpenedCell, err error) {
	address, err := addressOf(ctx, cl, id, given)
	if err != nil {
		return x, o, err
	}
	var after *string
	for {
		limit := 200
		page, err := got[api.ItemPage](cl.ListItems(ctx, &api.ListItemsParams{Run: &id, Limit: &limit, After: after}))
		if err != nil {
			return x, o, err
		}
		for _, x = range page.Items {
			if x.Address == address {
				o, err = got[api.OpenedCell](cl.OpenCell(ctx, id, address, x.Step))
				return x, o, err
			}
		}
		if after = page.Next; after == nil {
			return x, o, &coded{exitNotFound, fmt.Errorf("the item %s of this run waits for nobody; trellis item list --run %s shows those that do", address, id)}
		}
	}
}
