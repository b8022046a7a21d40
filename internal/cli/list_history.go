package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

type listChanges struct {
	Changes []api.ListChange `json:"changes"`
}

func (a *app) listHistory() *cobra.Command {
	var most int
	c := &cobra.Command{Use: "history NAME [CHANGE]", Short: "Who changed a list and when, or what one change did", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		if len(args) > 1 {
			n, err := strconv.Atoi(args[1])
			if err != nil {
				return usage("%q is no number of a change; see trellis list history %s", args[1], args[0])
			}
			return a.oneChange(c, cl, args[0], n)
		}
		all, err := got[listChanges](cl.ListChanges(c.Context(), args[0], &api.ListChangesParams{Limit: &most}))
		if err != nil {
			return err
		}
		return a.show(all, func() {
			rows := [][]string{}
			for _, x := range all.Changes {
				rows = append(rows, []string{strconv.Itoa(x.Version), when(x.At), x.ChangedBy, x.What})
			}
			a.grid([]string{"change", "when", "who", "what"}, rows)
		})
	})}
	c.Flags().IntVar(&most, "most", 50, "how many changes to show, at most 200")
	return c
}

func (a *app) oneChange(c *cobra.Command, cl *api.Client, name string, n int) error {
	x, err := got[api.ListChanged](cl.GetListChange(c.Context(), name, n))
	if err != nil {
		return err
	}
	return a.show(x, func() {
		rows := [][]string{}
		add := func(mark, code string, r api.ListRow) {
			cells := rowCells(x.Columns, r)
			if cells[0] == "" {
				cells[0] = r.Key // the columns had other names
			}
			line := []string{a.paint(code, mark)}
			for _, cell := range cells {
				line = append(line, a.paint(code, cell))
			}
			rows = append(rows, line)
		}
		for _, r := range x.Added {
			add("added", green, r)
		}
		for _, r := range x.Changed {
			add("was", grey, r.Before)
			add("is", yellow, r.After)
		}
		for _, r := range x.Removed {
			add("removed", red, r)
		}
		if len(rows) == 0 {
			fmt.Fprintln(a.out, "It changed no row.")
			return
		}
		heads := []string{""}
		for _, c := range x.Columns {
			heads = append(heads, c.Name)
		}
		a.grid(heads, rows)
		fmt.Fprintf(a.out, "As it was after it again: trellis list back %s %d\n", name, n)
	})
}

func (a *app) listBack() *cobra.Command {
	return &cobra.Command{Use: "back NAME CHANGE", Short: "Put a list back as it was after a change", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		n, err := strconv.Atoi(args[1])
		if err != nil {
			return usage("%q is no number of a change; see trellis list history %s", args[1], args[0])
		}
		out, err := got[api.ListOutcome](cl.PutListBack(c.Context(), args[0], n))
		if err != nil {
			return err
		}
		return a.became(out)
	})}
}
