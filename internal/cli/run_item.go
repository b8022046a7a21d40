package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

func (a *app) runItem() *cobra.Command {
	return &cobra.Command{Use: "item RUN ITEM STEP", Short: "Everything about one item at one step",
		Long: "Everything about one item at one step.\n\nITEM is a row as run show draws it, as row3, or STEP:row3 below a step that makes one of many; or the\nitem's address, as @0-1.7 (item list).\nSTEP is the step's name, or - for the trigger.", RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
			address, err := addressOf(c.Context(), cl, id, args[1])
			if err != nil {
				return err
			}
			o, err := got[api.OpenedCell](cl.OpenCell(c.Context(), id, address, args[2]))
			if err != nil {
				return err
			}
			return a.show(o, func() { a.opened(o) })
		})}
}

// addressOf is the address of an item that is given by its row, as row3, 3 or, below
// a step that made one of many, STEP:row3. Rows are numbered from 1 wherever they are
// seen; an address, which counts from 0, has an @ before it.
func addressOf(ctx context.Context, cl *api.Client, run uuid.UUID, given string) (string, error) {
	if address, ok := strings.CutPrefix(given, "@"); ok {
		return address, nil
	}
	band, text, named := strings.Cut(given, ":")
	if !named {
		band, text = "-", given
	}
	text, ok := strings.CutPrefix(text, "row")
	n, err := strconv.Atoi(text)
	if err != nil && !ok && !named {
		return given, nil // an address as the API has it
	}
	if err != nil || n < 1 {
		return "", usage("%q is no row: rows are numbered from 1, as in row3; an address is written @0-1.7", given)
	}
	from, count := n-1, 1
	l, err := got[api.Lattice](cl.GetLattice(ctx, run, &api.GetLatticeParams{Band: &band, From: &from, Count: &count}))
	if err != nil {
		return "", err
	}
	if len(l.Rows) == 0 {
		return "", &coded{exitNotFound, fmt.Errorf("the run has no row %d: it has %s", n, plural(l.Matching, "row"))}
	}
	return l.Rows[0].Address, nil
}

func (a *app) opened(o api.OpenedCell) {
	about := o.Sentence
	if o.Cell.Text != "" {
		about += ": " + o.Cell.Text
	}
	fmt.Fprintf(a.out, "%s  %s\n%s\n", a.paint(bold, o.Label), a.paint(fateColor(o.Cell.Fate), fateWords(o.Cell.Fate)), about)
	if n := deref(o.MadeOf); n > 0 {
		members := deref(o.Members)
		text := "@" + strings.Join(members[:min(len(members), 12)], ", @")
		if n > 12 {
			text += fmt.Sprintf(" and %d more", n-12)
		}
		fmt.Fprintf(a.out, "made of %s: %s\n", plural(n, "item"), text)
	}
	if o.EditedBy != nil {
		fmt.Fprintf(a.out, "its fields were changed by %s, %s\n", *o.EditedBy, when(*o.EditedAt))
	}
	if string(o.Before) != "{}" {
		a.fields("as it came", o.Before)
	}
	if o.After != nil {
		a.fields("as it went on", *o.After)
	}
	if o.Sent != nil {
		fmt.Fprintf(a.out, "\n%s %s  %s\n", o.Sent.Method, o.Sent.Url, statusWord(o.Sent.Status))
		if o.Sent.Body != nil {
			fmt.Fprintln(a.out, "  "+*o.Sent.Body)
		}
	}
	if f := o.Failure; f != nil {
		fmt.Fprintf(a.out, "\n%s\n", a.paint(red, f.Message))
		fmt.Fprintln(a.out, triedWords(deref(f.Tried), deref(f.OverMs), deref(f.Class), deref(f.Status)))
	}
	fmt.Fprintln(a.out, "\nits way")
	for i, w := range o.Way {
		fmt.Fprintf(a.out, "%3d  %s %s  %s\n", i+1, a.paint(fateColor(w.Fate), mark(w.Fate)), w.Sentence, a.paint(grey, w.Text))
	}
}

// triedWords says how often a call was made, and why no more often.
func triedWords(tried int, overMs int64, class string, status int) string {
	switch {
	case tried > 1:
		return fmt.Sprintf("tried %d times over %.1f s", tried, float64(overMs)/1000)
	case class == string(call.InDoubt):
		return "tried once: it may have had its effect, and a repeat would be a second one"
	case tried == 1 && status >= 400 && status < 500 && status != http.StatusTooManyRequests && status != http.StatusRequestTimeout:
		return "tried once: a refusal of this kind is not worth repeating"
	case tried == 1:
		return "tried once"
	}
	return "not tried"
}

func statusWord(s *int) string {
	if s == nil {
		return "not sent"
	}
	return fmt.Sprint(*s)
}

func (a *app) fields(title string, raw json.RawMessage) {
	var m map[string]json.RawMessage
	if json.Unmarshal(raw, &m) != nil {
		return
	}
	fmt.Fprintln(a.out, "\n"+title)
	rows := [][]string{}
	for _, k := range sortedKeys(m) {
		value := string(m[k])
		if v, err := item.Decode(m[k]); err == nil { // without the escapes of what came over the wire
			if b, err := item.Plain(v); err == nil {
				value = string(b)
			}
		}
		rows = append(rows, []string{"  " + k, value})
	}
	for _, r := range rows {
		fmt.Fprintf(a.out, "%s %s\n", fit(r[0], 18), fit(r[1], min(width(r[1]), 200)))
	}
}
