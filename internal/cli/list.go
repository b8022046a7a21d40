package cli

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/lists"
	"youngtrellis/internal/core/words"
)

func (a *app) list() *cobra.Command {
	return noun("list", "Small tables that colleagues edit and workflows read",
		a.listAll(), a.listShow(), a.listAdd(), a.listSet(), a.listDrop(), a.listImport(), a.listExport(), a.listColumns(), a.listHistory(), a.listBack(), a.listRemove())
}

type allLists struct {
	Lists []api.WorkspaceList `json:"lists"`
}

func (a *app) listAll() *cobra.Command {
	return &cobra.Command{Use: "all", Aliases: []string{"list"}, Short: "List the lists, and which workflows read them", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		all, err := got[allLists](cl.ListLists(c.Context()))
		if err != nil {
			return err
		}
		return a.show(all, func() {
			if len(all.Lists) == 0 {
				fmt.Fprintln(a.out, "There are no lists yet. Make one with: trellis list add NAME FILE.csv")
				return
			}
			rows := [][]string{}
			for _, l := range all.Lists {
				rows = append(rows, []string{l.Name, l.Title, strconv.Itoa(l.Rows), columnNames(l.Columns), strings.Join(l.UsedBy, ", "), when(l.Changed) + ", " + l.ChangedBy})
			}
			a.grid([]string{"name", "title", "rows", "columns", "read by", "changed"}, rows)
		})
	})}
}

func columnNames(columns []api.ListColumn) string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.Name
	}
	return strings.Join(names, ", ")
}

// mostShown is how many rows are shown unless more are asked for.
const mostShown = 200

func (a *app) listShow() *cobra.Command {
	var find string
	var most int
	c := &cobra.Command{Use: "show NAME", Short: "Show the rows of a list", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		l, err := got[api.WorkspaceList](cl.GetList(c.Context(), args[0]))
		if err != nil {
			return err
		}
		var rows api.ListRows
		for from := 0; from < most; from = len(rows.Rows) {
			limit := min(1000, most-from)
			page, err := got[api.ListRows](cl.ListRows(c.Context(), args[0], &api.ListRowsParams{Find: &find, From: &from, Limit: &limit}))
			if err != nil {
				return err
			}
			rows.Version, rows.Total, rows.Rows = page.Version, page.Total, append(rows.Rows, page.Rows...)
			if len(page.Rows) < limit {
				break
			}
		}
		return a.show(rows, func() {
			switch {
			case rows.Total == 0 && find != "":
				fmt.Fprintf(a.out, "None of the %s of %s holds %q.\n", plural(l.Rows, "row"), l.Title, find)
				return
			case rows.Total == 0:
				fmt.Fprintf(a.out, "%s has no rows yet. Its columns: %s.\nAdd one with: trellis list set %s --add %s=…\n", l.Title, columnNames(l.Columns), l.Name, l.Columns[0].Name)
				return
			}
			heads, lines := []string{}, [][]string{}
			for _, c := range l.Columns {
				heads = append(heads, c.Name)
			}
			for _, r := range rows.Rows {
				lines = append(lines, rowCells(l.Columns, r))
			}
			a.grid(heads, lines)
			if rows.Total > len(rows.Rows) {
				fmt.Fprintf(a.out, "%s of %d. See more with --most %d, or narrow it with --find TEXT.\n", plural(len(rows.Rows), "row"), rows.Total, rows.Total)
			}
		})
	})}
	c.Flags().StringVar(&find, "find", "", "only rows that hold this in some cell")
	c.Flags().IntVar(&most, "most", mostShown, "how many rows to show")
	return c
}

// rowCells are the cells of a row as people read them.
func rowCells(columns []api.ListColumn, r api.ListRow) []string {
	fields, _ := item.DecodeObject(r.Fields)
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = words.Short(lists.Written(fields[c.Name]), 60)
	}
	return out
}

func (a *app) listAdd() *cobra.Command {
	var title, about string
	var columns []string
	c := &cobra.Command{Use: "add NAME [FILE.csv]", Short: "Make a list, of CSV or of columns", Long: "Makes a list. The first line of the CSV names its columns; - is standard input.\nRows are known by what stands in the first column, which is filled in and stands there once.",
		Example: "  trellis list add evening-duty duty.csv\n  trellis list add kilns --column name --column floor:number", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			body := api.AddListJSONRequestBody{Name: args[0], Title: &title, About: &about}
			if len(args) > 1 {
				text, err := a.read(args[1])
				if err != nil {
					return err
				}
				csv := string(text)
				body.Csv = &csv
			}
			if len(columns) > 0 {
				list := []api.ListColumn{}
				for _, s := range columns {
					column, err := column(s)
					if err != nil {
						return err
					}
					list = append(list, column)
				}
				body.Columns = &list
			}
			if body.Csv == nil && body.Columns == nil {
				return usage("a list is made of a CSV file, or of columns: --column short --column phone")
			}
			l, err := got[api.WorkspaceList](cl.AddList(c.Context(), body))
			if err != nil {
				return err
			}
			return a.show(l, func() {
				fmt.Fprintf(a.out, "made %s with %s; columns: %s\nWorkflows read it as list(%q).\n", l.Name, plural(l.Rows, "row"), columnNames(l.Columns), l.Name)
			})
		})}
	c.Flags().StringVar(&title, "title", "", "what it is called in the console")
	c.Flags().StringVar(&about, "about", "", "what it is for")
	c.Flags().StringArrayVar(&columns, "column", nil, "a column: NAME, or NAME:TYPE with text, number or yes_no; again for each")
	return c
}

// became tells what an edit did to a list.
func (a *app) became(out api.ListOutcome) error {
	return a.show(out, func() { fmt.Fprintf(a.out, "%s: %s\n", out.List.Name, out.Sentence) })
}

func (a *app) listRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a list that no workflow reads, with its history", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		if _, err := got[json.RawMessage](cl.RemoveList(c.Context(), args[0])); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "removed %s\n", args[0])
		return nil
	})}
}
