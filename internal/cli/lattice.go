package cli

import (
	"fmt"
	"strings"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/words"
)

// fateColor is that of a fate's tone; what went well is green.
func fateColor(f api.Fate) string {
	switch words.FateOf(string(f)).Tone {
	case "rust":
		return red
	case "amber":
		return yellow
	case "plain":
		return grey
	}
	return green
}

func mark(f api.Fate) string { return words.FateOf(string(f)).Mark }

func fateWords(f api.Fate) string { return words.FateOf(string(f)).Words }

// lattice draws rows by steps with stems: each item is a line that grows to
// the right as far as the item came.
func (a *app) lattice(columns []api.Column, rows []api.Row, most int) {
	if len(rows) == 0 {
		fmt.Fprintln(a.out, "  no rows yet")
		return
	}
	label := 4
	for _, r := range rows {
		label = min(max(label, width(r.Label)), 26)
	}
	widths := make([]int, len(columns))
	for i, c := range columns {
		widths[i] = min(max(16, width(c.Name)+2), 30)
		for _, r := range rows {
			if i < len(r.Cells) {
				widths[i] = min(max(widths[i], width(r.Cells[i].Text)+5), 34)
			}
		}
	}
	head, sub := strings.Repeat(" ", label+8), strings.Repeat(" ", label+8)
	for i, c := range columns {
		head += fit(c.Name, widths[i])
		sub += fit(fmt.Sprintf("%s %d → %d", c.Kind, c.In, c.Out), widths[i])
	}
	fmt.Fprintln(a.out, a.paint(bold, strings.TrimRight(head, " ")))
	fmt.Fprintln(a.out, a.paint(grey, strings.TrimRight(sub, " ")))
	seen := map[api.Fate]bool{}
	for _, r := range rows[:min(most, len(rows))] {
		line := fmt.Sprintf("%5d  %s ", r.Row, fit(r.Label, label))
		for i, c := range r.Cells {
			if c.Fate == "not_reached" {
				line += strings.Repeat(" ", widths[i])
				continue
			}
			seen[c.Fate] = true
			goesOn := i+1 < len(r.Cells) && r.Cells[i+1].Fate != "not_reached"
			line += a.paint(fateColor(c.Fate), mark(c.Fate)) + a.paint(green, stem(c.Fate)) + a.cellText(c, widths[i]-3, goesOn)
		}
		fmt.Fprintln(a.out, strings.TrimRight(line, " "))
	}
	if len(rows) > most {
		fmt.Fprintf(a.out, "       and %s more; see -o json, or --fate\n", plural(len(rows)-most, "row"))
	}
	var legend []string
	for _, x := range words.Fates {
		if f := api.Fate(x.Name); seen[f] && x.Mark != " " {
			legend = append(legend, a.paint(fateColor(f), x.Mark)+" "+x.Words)
		}
	}
	fmt.Fprintln(a.out, "\n       "+strings.Join(legend, "   "))
}

func stem(f api.Fate) string {
	switch f {
	case "passed", "read", "written", "prepared":
		return "─"
	}
	return " "
}

func (a *app) cellText(c api.Cell, n int, goesOn bool) string {
	text := c.Text
	if text != "" {
		text = " " + text + " "
	}
	text = strings.TrimRight(fit(text, n+1), " ")
	rest := " "
	if goesOn {
		rest = "─"
	}
	pad := n + 1 - width(text)
	if pad > 0 && text != "" && goesOn {
		text, pad = text+" ", pad-1
	}
	fill := a.paint(green, strings.Repeat(rest, max(0, pad)))
	if rest == " " {
		fill = strings.Repeat(" ", max(0, pad))
	}
	if c.Fate == "set_aside" || c.Fate == "stopped" {
		return a.paint(red, text) + fill
	}
	return text + fill
}
