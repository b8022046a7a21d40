package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

func (a *app) listSet() *cobra.Command {
	var add bool
	c := &cobra.Command{Use: "set NAME ROW COLUMN=VALUE…", Short: "Change cells of a row, or add one with --add", Long: "Changes cells of the row that is known by ROW; an empty value empties the cell.\nWith --add there is no ROW: a new row is made of the cells.",
		Example: "  trellis list set duty wren phone=+441632960119\n  trellis list set duty --add short=elm name=\"Elm Quernlane\" phone=+441632960120", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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
	return &cobra.Command{Use: "drop NAME ROW…", Short: "Remove rows, by what they are known by", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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
	c := &cobra.Command{Use: "import NAME FILE.csv", Short: "Take rows in from CSV", Long: "Takes rows in from CSV, whose first line names columns of the list; - is standard input.\nRows of the same key are changed and others added; none is removed, unless with --replace.", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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
	return &cobra.Command{Use: "export NAME [FILE.csv]", Short: "Write a list as CSV", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
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
