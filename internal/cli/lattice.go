package cli

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/term"

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

// sheet is a band of a lattice in text: its lines, and the columns that are drawn.
type sheet struct {
	title   string // of a band below the first
	columns []api.Column
	shown   []int // of these
	lines   []latticeLine
	open    map[string]string
	more    string // what is not drawn
}

// latticeLine is a row, or several that are alike.
type latticeLine struct {
	api.Row
	alike int // how many more there are like it
}

// visible tells whether a column can be seen: the nests around it are open, in the
// case in which it stands.
func (s *sheet) visible(c api.Column) bool {
	if c.Within == nil {
		return true
	}
	of := s.named(*c.Within)
	if of == nil || !s.visible(*of) {
		return false
	}
	into, open := s.open[of.Name]
	loop := of.Nest != nil && *of.Nest == api.Loop && deref(c.Case) != "fallback"
	return open && (loop || into == deref(c.Case))
}

func (s *sheet) named(name string) *api.Column {
	if i := slices.IndexFunc(s.columns, func(c api.Column) bool { return c.Name == name }); i >= 0 {
		return &s.columns[i]
	}
	return nil
}

// within tells whether a column stands in another, at whatever depth.
func (s *sheet) within(c api.Column, of string) bool {
	for c.Within != nil {
		if *c.Within == of {
			return true
		}
		up := s.named(*c.Within)
		if up == nil {
			return false
		}
		c = *up
	}
	return false
}

// choose finds the columns from one place to another that are drawn: an open
// branch or loop gives way to what stands in it.
func (s *sheet) choose(from, to int) {
	for i, c := range s.columns {
		opened := c.Nest != nil && *c.Nest != api.Fallback && slices.ContainsFunc(s.columns, func(x api.Column) bool { return deref(x.Within) == c.Name && s.visible(x) })
		if i >= from && i <= to && s.visible(c) && !opened {
			s.shown = append(s.shown, i)
		}
	}
}

// cell is what a row shows at a column: of a closed nest in which it ended, that.
func (s *sheet) cell(r api.Row, i int) api.Cell {
	if i >= len(r.Cells) {
		return api.Cell{Fate: "not_reached"}
	}
	c, of := r.Cells[i], s.columns[i]
	if of.Nest == nil || s.open[of.Name] != "" {
		return c
	}
	for j := len(s.columns) - 1; j > i; j-- {
		if j < len(r.Cells) && r.Cells[j].Fate != "not_reached" && s.within(s.columns[j], of.Name) {
			if c.Fate == "not_reached" || !goesOn(r.Cells[j].Fate) && r.Cells[j].Fate != "joined" {
				return r.Cells[j]
			}
			break
		}
	}
	return c
}

func goesOn(f api.Fate) bool { return stem(f) != " " }

// owner is the address of the item that a row shows at a column: before a step
// that gave several, that of which they came.
func (s *sheet) owner(r api.Row, i int) string {
	parts := strings.Split(r.Address, "-")
	kept := parts[:1]
	for _, p := range parts[1:] {
		number, _, _ := strings.Cut(p, ".")
		number, _, _ = strings.Cut(number, "_")
		at := slices.IndexFunc(s.columns, func(c api.Column) bool { return c.Number != nil && strconv.Itoa(*c.Number) == number })
		if at < 0 || at > i {
			break
		}
		kept = append(kept, p)
	}
	return strings.Join(kept, "-")
}

// shares tells whether two lines show the same item at a column, of which theirs
// came.
func (s *sheet) shares(a, b, i int) bool {
	if b >= len(s.lines) {
		return false
	}
	x, y := s.lines[a].Row, s.lines[b].Row
	owner := s.owner(x, i)
	return owner != x.Address && owner == s.owner(y, i)
}

// sheetsOf parts rows that are all at hand into bands.
func sheetsOf(columns []api.Column, rows []api.Row) []*sheet {
	var out []*sheet
	byBand := map[int]*sheet{}
	for _, r := range rows {
		band := -1
		if head, _, _ := strings.Cut(r.Address, "-"); strings.HasPrefix(head, "g") {
			number, _, _ := strings.Cut(head[1:], ".")
			number, _, _ = strings.Cut(number, "_")
			band = slices.IndexFunc(columns, func(c api.Column) bool { return c.Number != nil && strconv.Itoa(*c.Number) == number })
			if number == "0" {
				band = len(columns)
			}
		}
		s := byBand[band]
		if s == nil {
			s = &sheet{columns: columns, title: bandTitle(columns, band)}
			byBand[band], out = s, append(out, s)
		}
		r.Row = len(s.lines) + 1
		s.lines = append(s.lines, latticeLine{Row: r})
	}
	for _, s := range out {
		s.choose(s.reach())
	}
	return out
}

func bandTitle(columns []api.Column, band int) string {
	switch {
	case band < 0:
		return ""
	case band >= len(columns):
		return "what was done as the run failed"
	}
	return "what came of “" + columns[band].Sentence + "”"
}

// reach is from which column to which any row came.
func (s *sheet) reach() (from, to int) {
	from = len(s.columns)
	for _, l := range s.lines {
		for i, c := range l.Cells {
			if c.Fate != "not_reached" {
				from, to = min(from, i), max(to, i)
			}
		}
	}
	return from, to
}

// thin is how wide a column is that is folded to its marks.
const thin = 3

// widths fits the columns into the room that there is: where it does not do, those
// that only compute are folded to their marks first, then others from the right.
func (s *sheet) widths(label, room int) []int {
	out := make([]int, len(s.shown))
	for k, i := range s.shown {
		c := s.columns[i]
		out[k] = min(max(16, width(c.Name)+2), 30)
		for _, l := range s.lines {
			out[k] = min(max(out[k], width(cellWords(s.cell(l.Row, i)))+5), 34)
		}
	}
	sum := func() int {
		n := label + 8
		for _, w := range out {
			n += w
		}
		return n
	}
	for pass, also := range []bool{false, true, true} {
		for k := len(out) - 1; (k > 0 || k == 0 && pass == 2) && room > 0 && sum() > room; k-- {
			c := s.columns[s.shown[k]]
			computes := c.Kind != "read" && c.Kind != "write" && c.Nest == nil && c.SetAside+c.Stopped+c.MayHaveBeenSent == 0
			if out[k] > thin && (computes || also) {
				out[k] = thin
			}
		}
	}
	return out
}

// room is how wide what is written to is; 0: as wide as one likes.
func (a *app) room() int {
	if f, ok := a.raw.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil {
			return w
		}
	}
	w, _ := strconv.Atoi(os.Getenv("COLUMNS"))
	return w
}

// lattice draws rows by steps with stems, band by band: each item is a line that
// grows to the right as far as the item came.
func (a *app) lattice(columns []api.Column, rows []api.Row, most int) {
	if len(rows) == 0 {
		fmt.Fprintln(a.out, "  no rows yet")
		return
	}
	more := max(0, len(rows)-most)
	a.sheets(sheetsOf(columns, rows[:len(rows)-more]))
	if more > 0 {
		fmt.Fprintf(a.out, "       and %s more; see -o json, or --fate\n", plural(more, "row"))
	}
}

// sheets draws bands one below the other, and explains their marks.
func (a *app) sheets(list []*sheet) {
	seen := map[api.Fate]bool{}
	for i, s := range list {
		if i > 0 {
			fmt.Fprintln(a.out, "\n       "+a.paint(grey, "below: "+s.title))
		}
		a.sheet(s, seen)
	}
	var legend []string
	for _, x := range words.Fates {
		if f := api.Fate(x.Name); seen[f] && x.Mark != " " {
			legend = append(legend, a.paint(fateColor(f), x.Mark)+" "+x.Words)
		}
	}
	fmt.Fprintln(a.out, "\n       "+strings.Join(legend, "   "))
}

func (a *app) sheet(s *sheet, seen map[api.Fate]bool) {
	label := 4
	for _, l := range s.lines {
		label = min(max(label, width(s.labelOf(l))), 26)
	}
	room := a.room()
	if least := label + 8 + thin*len(s.shown); room > 0 && least > room {
		label = max(8, label-(least-room))
	}
	if most := max(4, (room-label-8)/thin); room > 0 && len(s.shown) > most {
		for part := range slices.Chunk(s.shown, most) {
			piece := *s
			if piece.shown = part; part[len(part)-1] != s.shown[len(s.shown)-1] {
				piece.more = ""
			}
			a.sheet(&piece, seen)
		}
		return
	}
	widths := s.widths(label, room)
	head, sub := strings.Repeat(" ", label+8), strings.Repeat(" ", label+8)
	for k, i := range s.shown {
		c := s.columns[i]
		name, figures := c.Name, fmt.Sprintf("%s %d → %d", c.Kind, c.In, c.Out)
		if widths[k] == thin {
			name, figures = deref(c.Line), ""
		}
		head += fit(name, widths[k]-1) + " "
		sub += fit(figures, widths[k]-1) + " "
	}
	fmt.Fprintln(a.out, a.paint(bold, strings.TrimRight(head, " ")))
	fmt.Fprintln(a.out, a.paint(grey, strings.TrimRight(sub, " ")))
	for n, l := range s.lines {
		number := strconv.Itoa(l.Row.Row)
		if l.alike > 0 {
			number = "+" + words.Number(l.alike+1)
		}
		line := fmt.Sprintf("%5s  %s ", number, fit(s.labelOf(l), label))
		for k := range s.shown {
			line += a.latticeCell(s, n, k, widths[k], seen)
		}
		fmt.Fprintln(a.out, strings.TrimRight(line, " "))
	}
	if s.more != "" {
		fmt.Fprintln(a.out, "       "+a.paint(grey, s.more))
	}
}

func (s *sheet) labelOf(l latticeLine) string {
	if l.alike > 0 {
		return fmt.Sprintf("%s alike", words.Number(l.alike+1))
	}
	return l.Label
}

// latticeCell draws what a line shows at a column: a mark and its words, what
// several lines share only once, with a fork to each of them.
func (a *app) latticeCell(s *sheet, n, k, wide int, seen map[api.Fate]bool) string {
	r, i := s.lines[n].Row, s.shown[k]
	c := s.cell(r, i)
	if c.Fate == "not_reached" {
		if s.passesBy(r, k) {
			return a.paint(green, strings.Repeat("─", wide))
		}
		return strings.Repeat(" ", wide)
	}
	seen[c.Fate] = true
	on := k+1 < len(s.shown) && goesOn(c.Fate) && s.further(r, k)
	if n > 0 && s.shares(n-1, n, i) {
		if !on {
			return strings.Repeat(" ", wide)
		}
		fork := "├"
		if !s.shares(n, n+1, i) {
			fork = "└"
		}
		return strings.Repeat(" ", wide-2) + a.paint(green, fork+"─")
	}
	divides := on && s.shares(n, n+1, i)
	if wide == thin {
		rest := "  "
		if on {
			rest = "──"
		}
		if divides {
			rest = "┬─"
		}
		return a.paint(fateColor(c.Fate), mark(c.Fate)) + a.paint(green, rest)
	}
	text := a.paint(fateColor(c.Fate), mark(c.Fate)) + a.paint(green, stem(c.Fate)) + a.cellText(c, wide-3, on)
	if divides {
		return a.forked(c, wide)
	}
	return text
}

// forked is a cell whose stem divides at its end.
func (a *app) forked(c api.Cell, wide int) string {
	return a.paint(fateColor(c.Fate), mark(c.Fate)) + a.paint(green, stem(c.Fate)) + a.cellText(c, wide-5, true) + a.paint(green, "┬─")
}

// passesBy tells whether an item goes on past a column to which it did not come.
func (s *sheet) passesBy(r api.Row, k int) bool {
	before := false
	for _, i := range s.shown[:k] {
		before = before || goesOn(s.cell(r, i).Fate)
	}
	return before && s.further(r, k)
}

// further tells whether an item comes to any column behind one.
func (s *sheet) further(r api.Row, k int) bool {
	return slices.ContainsFunc(s.shown[k+1:], func(i int) bool { return s.cell(r, i).Fate != "not_reached" })
}

func stem(f api.Fate) string {
	switch f {
	case "passed", "read", "written", "prepared", "went_on", "fell_back", "off":
		return "─"
	}
	return " "
}

// cellWords is what a cell says; ≈ before what was made from a sample answer.
func cellWords(c api.Cell) string {
	if deref(c.Simulated) {
		return strings.TrimRight("≈ "+c.Text, " ")
	}
	return c.Text
}

func (a *app) cellText(c api.Cell, n int, goesOn bool) string {
	text := cellWords(c)
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
