package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/lists"
)

// column reads NAME, NAME:TYPE or NAME:TYPE=WAS.
func column(s string) (api.ListColumn, error) {
	s, was, renamed := strings.Cut(s, "=")
	name, kind, typed := strings.Cut(s, ":")
	out := api.ListColumn{Name: name, Type: "text"}
	if renamed {
		out.Was = &was
	}
	if typed {
		out.Type = api.ListColumnType(kind)
		if !slices.Contains(lists.Types, lists.Type(kind)) {
			return out, usage("a column holds text, number or yes_no; %q is none of them", kind)
		}
	}
	return out, nil
}

func (a *app) listColumns() *cobra.Command {
	return &cobra.Command{Use: "columns NAME [COLUMN…]", Short: "Show the columns of a list, or set them", Long: "Without columns it shows them. Else these are all columns from then on: NAME, NAME:TYPE\nwith text, number or yes_no, or NAME:TYPE=WAS for one that was called WAS before.\nA column that is not named is taken out with its cells; list back brings them back.",
		Example: "  trellis list columns duty\n  trellis list columns duty short name phone on_duty:yes_no floor:number", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			l, err := got[api.WorkspaceList](cl.GetList(c.Context(), args[0]))
			if err != nil {
				return err
			}
			var gone []string
			before := l.Version
			if len(args) > 1 {
				if l, gone, err = a.reshape(c.Context(), cl, l, args[1:]); err != nil {
					return err
				}
			}
			return a.show(l.Columns, func() {
				rows := [][]string{}
				for i, c := range l.Columns {
					note := ""
					if i == 0 {
						note = "rows are known by it"
					}
					rows = append(rows, []string{c.Name, string(c.Type), deref(c.Title), note})
				}
				a.grid([]string{"name", "holds", "title", ""}, rows)
				if len(gone) > 0 {
					fmt.Fprintf(a.out, "Taken out with their cells: %s. They come back with: trellis list back %s %d\n", strings.Join(gone, ", "), l.Name, before)
				}
			})
		})}
}

// reshape gives a list other columns, and tells which are gone.
func (a *app) reshape(ctx context.Context, cl *api.Client, l api.WorkspaceList, wish []string) (after api.WorkspaceList, gone []string, err error) {
	list, kept := []api.ListColumn{}, map[string]bool{}
	for _, s := range wish {
		next, err := column(s)
		if err != nil {
			return l, nil, err
		}
		of := next.Name
		if next.Was != nil {
			of = *next.Was
		}
		for _, c := range l.Columns { // its title, and its type unless another is said
			if c.Name == of {
				next.Title = c.Title
				if !strings.Contains(s, ":") {
					next.Type = c.Type
				}
			}
		}
		list = append(list, next)
		kept[of] = true
	}
	for _, c := range l.Columns {
		if !kept[c.Name] {
			gone = append(gone, c.Name)
		}
	}
	match := fmt.Sprintf("%q", strconv.Itoa(l.Version))
	out, err := got[api.ListOutcome](cl.ChangeList(ctx, l.Name, &api.ChangeListParams{IfMatch: &match}, api.ChangeListJSONRequestBody{Columns: &list}))
	return out.List, gone, err
}
