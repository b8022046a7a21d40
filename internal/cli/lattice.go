package cli

import (
	"fmt"
	"strings"

	api "youngtrellis/api/client"
)

// Marks of the fates on a stem, as in the console.
var marks = map[api.Fate]string{
	"passed": "●", "read": "○", "written": "■", "prepared": "□", "held_back": "┃", "gave_nothing": "▯",
	"set_aside": "▲", "stopped": "✕", "may_have_been_sent": "?", "waiting": "◌", "off": " ", "not_reached": " ",
}

var fateWords = map[api.Fate]string{
	"passed": "passed", "read": "read outside", "written": "written outside", "prepared": "prepared, not sent", "held_back": "held back", "gave_nothing": "gave nothing",
	"set_aside": "set aside", "stopped": "stopped the run", "may_have_been_sent": "may have been sent", "waiting": "waiting", "off": "switched off", "not_reached": "not reached",
}

var legendOrder = []api.Fate{"passed", "read", "written", "prepared", "held_back", "gave_nothing", "set_aside", "stopped", "may_have_been_sent", "waiting"}

func (a *app) fateColor(f api.Fate) string {
	switch f {
	case "set_aside", "stopped":
		return red
	case "may_have_been_sent", "waiting":
		return yellow
	case "held_back", "gave_nothing":
		return grey
	}
	return green
}

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
				break
			}
			seen[c.Fate] = true
			goesOn := i+1 < len(r.Cells) && r.Cells[i+1].Fate != "not_reached"
			line += a.paint(a.fateColor(c.Fate), marks[c.Fate]) + a.paint(green, stem(c.Fate)) + a.cellText(c, widths[i]-3, goesOn)
		}
		fmt.Fprintln(a.out, strings.TrimRight(line, " "))
	}
	if len(rows) > most {
		fmt.Fprintf(a.out, "       and %s more; see -o json, or --fate\n", plural(len(rows)-most, "row"))
	}
	var legend []string
	for _, f := range legendOrder {
		if seen[f] {
			legend = append(legend, a.paint(a.fateColor(f), marks[f])+" "+fateWords[f])
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
