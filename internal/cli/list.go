package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/item"
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
	return &cobra.Command{Use: "all", Aliases: []string{"list"}, Short: "List the lists, and which workflows read them", Args: cobra.NoArgs, RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
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
	c := &cobra.Command{Use: "show NAME", Short: "Show the rows of a list", Args: cobra.ExactArgs(1), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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
		out[i] = cellText(fields[c.Name])
	}
	return out
}

func cellText(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return words.Short(v, 60)
	case bool:
		if v {
			return "yes"
		}
		return "no"
	}
	b, err := item.Encode(v)
	if err != nil {
		return ""
	}
	return string(b)
}

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
		if kinds := []string{"text", "number", "yes_no"}; !slices.Contains(kinds, kind) {
			return out, usage("a column holds text, number or yes_no; %q is none of them", kind)
		}
	}
	return out, nil
}

func (a *app) listAdd() *cobra.Command {
	var title, about string
	var columns []string
	c := &cobra.Command{Use: "add NAME [FILE.csv]", Short: "Make a list, of CSV or of columns", Long: "Makes a list. The first line of the CSV names its columns; - is standard input.\nRows are known by what stands in the first column, which is filled in and stands there once.",
		Example: "  trellis list add duty duty.csv\n  trellis list add duty --column short --column phone --column floor:number", Args: cobra.RangeArgs(1, 2), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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

func (a *app) listSet() *cobra.Command {
	var add bool
	c := &cobra.Command{Use: "set NAME ROW COLUMN=VALUE…", Short: "Change cells of a row, or add one with --add", Long: "Changes cells of the row that is known by ROW; an empty value empties the cell.\nWith --add there is no ROW: a new row is made of the cells.",
		Example: "  trellis list set duty wren phone=+4477009001\n  trellis list set duty --add short=elm phone=+4477009002", Args: cobra.MinimumNArgs(2), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			edit, cells := api.ListEdit{}, args[1:]
			if !add {
				edit.Key, cells = &args[1], args[2:]
				if len(cells) == 0 {
					return usage("say what to change, as: trellis list set %s %s COLUMN=VALUE; or add a row with --add", args[0], args[1])
				}
			}
			fields := map[string]any{}
			for _, s := range cells {
				name, value, ok := strings.Cut(s, "=")
				if !ok {
					return usage("%q is no cell; write COLUMN=VALUE", s)
				}
				fields[name] = value
			}
			b, err := json.Marshal(fields)
			if err != nil {
				return err
			}
			edit.Fields = (*json.RawMessage)(&b)
			out, err := got[api.ListOutcome](cl.EditList(c.Context(), args[0], nil, api.EditListJSONRequestBody{Edits: []api.ListEdit{edit}}))
			if err != nil {
				return err
			}
			return a.became(out)
		})}
	c.Flags().BoolVar(&add, "add", false, "add a row of these cells")
	return c
}

func (a *app) listDrop() *cobra.Command {
	return &cobra.Command{Use: "drop NAME ROW…", Short: "Remove rows, by what they are known by", Args: cobra.MinimumNArgs(2), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		gone := true
		edits := []api.ListEdit{}
		for _, key := range args[1:] {
			edits = append(edits, api.ListEdit{Key: &key, Remove: &gone})
		}
		out, err := got[api.ListOutcome](cl.EditList(c.Context(), args[0], nil, api.EditListJSONRequestBody{Edits: edits}))
		if err != nil {
			return err
		}
		return a.became(out)
	})}
}

func (a *app) listImport() *cobra.Command {
	var replace, try bool
	c := &cobra.Command{Use: "import NAME FILE.csv", Short: "Take rows in from CSV", Long: "Takes rows in from CSV, whose first line names columns of the list; - is standard input.\nRows of the same key are changed and others added; none is removed, unless with --replace.", Args: cobra.ExactArgs(2), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		text, err := a.read(args[1])
		if err != nil {
			return err
		}
		how := api.Merge
		if replace {
			how = api.Replace
		}
		out, err := got[api.ListOutcome](cl.ImportList(c.Context(), args[0], nil, api.ImportListJSONRequestBody{Csv: string(text), How: &how, Try: &try}))
		if err != nil {
			return err
		}
		if try {
			return a.show(out, func() { fmt.Fprintf(a.out, "It would be: %s Nothing was changed.\n", out.Sentence) })
		}
		return a.became(out)
	})}
	c.Flags().BoolVar(&replace, "replace", false, "what comes in is all that stands then")
	c.Flags().BoolVar(&try, "try", false, "only say what it would change")
	return c
}

func (a *app) listExport() *cobra.Command {
	return &cobra.Command{Use: "export NAME [FILE.csv]", Short: "Write a list as CSV", Args: cobra.RangeArgs(1, 2), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		text, err := gotText(cl.ExportList(c.Context(), args[0]))
		if err != nil {
			return err
		}
		if len(args) < 2 || args[1] == "-" {
			_, err := a.out.Write(text)
			return err
		}
		if err := os.WriteFile(args[1], text, 0o600); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "wrote %s\n", args[1])
		return nil
	})}
}

// gotText reads an answer that is no JSON.
func gotText(res *http.Response, err error) ([]byte, error) {
	if err != nil || res.StatusCode >= 300 {
		_, err := got[json.RawMessage](res, err)
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(res.Body)
}

func (a *app) listColumns() *cobra.Command {
	return &cobra.Command{Use: "columns NAME [COLUMN…]", Short: "Show the columns of a list, or set them", Long: "Without columns it shows them. Else these are all columns from then on: NAME, NAME:TYPE\nwith text, number or yes_no, or NAME:TYPE=WAS for one that was called WAS before.\nA column that is not named is taken out with its cells; list back brings them back.",
		Example: "  trellis list columns duty short phone floor:number\n  trellis list columns duty short mobile:text=phone", Args: cobra.MinimumNArgs(1), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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

type listChanges struct {
	Changes []api.ListChange `json:"changes"`
}

func (a *app) listHistory() *cobra.Command {
	var most int
	c := &cobra.Command{Use: "history NAME [CHANGE]", Short: "Who changed a list and when, or what one change did", Args: cobra.RangeArgs(1, 2), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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
	return &cobra.Command{Use: "back NAME CHANGE", Short: "Put a list back as it was after a change", Args: cobra.ExactArgs(2), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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

func (a *app) listRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a list that no workflow reads, with its history", Args: cobra.ExactArgs(1), RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		if _, err := got[json.RawMessage](cl.RemoveList(c.Context(), args[0])); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "removed %s\n", args[0])
		return nil
	})}
}
