package cli

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

func (a *app) runPlan() *cobra.Command {
	var newest bool
	var at []string
	c := &cobra.Command{Use: "plan RUN", Short: "What a resume or retry would take up; nothing is sent", RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
		p, err := a.planned(c.Context(), cl, id, newest, at)
		if err != nil {
			return err
		}
		return a.show(p, func() { a.plan(p) })
	})}
	c.Flags().BoolVar(&newest, "newest", false, "with the live revision instead of the run's own")
	c.Flags().StringSliceVar(&at, "at", nil, "where items go on whose step is gone, as OLD=NEW")
	return c
}

// planned asks for a plan until it is there. On a terminal it says how far it is.
func (a *app) planned(ctx context.Context, cl *api.Client, id uuid.UUID, newest bool, at []string) (api.Plan, error) {
	params := &api.PlanRunParams{Newest: &newest}
	if len(at) > 0 {
		params.At = &at
	}
	for {
		p, err := got[api.Plan](cl.PlanRun(ctx, id, params))
		if err != nil || p.Looked == nil {
			if a.color {
				fmt.Fprint(a.errOut, "\r\x1b[K")
			}
			return p, err
		}
		if a.color {
			fmt.Fprintf(a.errOut, "\r\x1b[Klooking: %s open so far", plural(*p.Looked, "item"))
		}
	}
}

func (a *app) plan(p api.Plan) {
	if p.Open+p.SetAside+p.MayHaveBeenSent == 0 {
		fmt.Fprintln(a.out, "Every item is done.")
		return
	}
	fmt.Fprintf(a.out, "%s to go on with, %d set aside, %d may have been sent; with revision %d\n\n", plural(p.Open, "item"), p.SetAside, p.MayHaveBeenSent, p.Revision)
	for _, s := range p.Steps {
		at := "at " + s.Step
		if s.Into != s.Step && s.Into != "" {
			at = "from " + s.Step + " to " + s.Into
		}
		fmt.Fprintf(a.out, "  %s %s: %s\n", plural(s.Count, "item"), at, s.Sentence)
	}
	for _, list := range []struct {
		title string
		lines *[]string
		color string
	}{{"New in that revision", p.Changes, grey}, {"Lists that were closed", p.Late, yellow}, {"This cannot be done", p.Refused, red}} {
		if list.lines == nil {
			continue
		}
		fmt.Fprintf(a.out, "\n%s\n", list.title)
		for _, l := range *list.lines {
			fmt.Fprintln(a.out, "  "+a.paint(list.color, l))
		}
	}
	fmt.Fprintln(a.out)
	rows := [][]string{}
	for _, i := range p.Items {
		rows = append(rows, []string{"@" + i.Address, i.Label, i.Step, i.Outcome, i.Text})
	}
	a.grid([]string{"item", "label", "before step", "stands", "because"}, rows)
}

// onward makes the verbs that begin a further pass.
func (a *app) onward(use, short string, send func(context.Context, *api.Client, uuid.UUID, api.Onward) (api.Run, error), withItems bool) *cobra.Command {
	var newest, watch bool
	var items []string
	at := map[string]string{}
	c := &cobra.Command{Use: use + " RUN", Short: short, RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
		body := api.Onward{Newest: &newest}
		if len(at) > 0 {
			body.At = &at
		}
		if newest || len(at) > 0 { // it may take a while, and is made before anything is sent
			var moves []string
			for _, old := range sortedKeys(at) {
				moves = append(moves, old+"="+at[old])
			}
			if _, err := a.planned(c.Context(), cl, id, newest, moves); err != nil {
				return err
			}
		}
		if len(items) > 0 {
			for i, given := range items {
				address, err := addressOf(c.Context(), cl, id, given)
				if err != nil {
					return err
				}
				items[i] = address
			}
			body.Items = &items
		}
		r, err := send(c.Context(), cl, id, body)
		if err != nil {
			return err
		}
		if watch {
			return a.watchRun(c.Context(), cl, id)
		}
		return a.show(r, func() {
			fmt.Fprintf(a.out, "pass %d is queued\nFollow it with: trellis run watch %s\n", r.Run.Pass, id)
		})
	})}
	c.Flags().BoolVar(&newest, "newest", false, "go on with the live revision instead of the run's own")
	c.Flags().BoolVar(&watch, "watch", false, "follow the run to its end")
	c.Flags().StringToStringVar(&at, "at", nil, "where items go on whose step is gone, as OLD=NEW")
	if withItems {
		c.Flags().StringSliceVar(&items, "item", nil, "only these items, as row3 or @0-1.7; all that are set aside unless given")
	}
	return c
}

func (a *app) runResume() *cobra.Command {
	return a.onward("resume", "Go on where a failed run stopped", func(ctx context.Context, cl *api.Client, id uuid.UUID, b api.Onward) (api.Run, error) {
		return got[api.Run](cl.ResumeRun(ctx, id, b))
	}, false)
}

func (a *app) runRetry() *cobra.Command {
	return a.onward("retry", "Try items again that were set aside", func(ctx context.Context, cl *api.Client, id uuid.UUID, b api.Onward) (api.Run, error) {
		return got[api.Run](cl.RetryRun(ctx, id, b))
	}, true)
}

// runDismiss lets be what of a run waits for somebody.
func (a *app) runDismiss() *cobra.Command {
	var restore bool
	c := &cobra.Command{Use: "dismiss RUN [ITEM…]", Short: "Let the items of a run be that wait for somebody: all, or those that are named",
		Example: "  trellis run dismiss last --yes\n  trellis run dismiss last row3 row7",
		RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
			if len(args) > 1 {
				list, err := itemRefs(c.Context(), cl, args)
				if err != nil {
					return err
				}
				return a.dismiss(c.Context(), cl, api.Dismissal{Items: &list, Restore: &restore})
			}
			return a.dismiss(c.Context(), cl, api.Dismissal{Where: &api.ItemWhere{Run: &id}, Restore: &restore})
		})}
	c.Flags().BoolVar(&restore, "restore", false, "let dismissed items wait again")
	return c
}
