package cli

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"youngtrellis/internal/core/words"
)

// least is the width that a column keeps before a table is folded into records.
const least = 10

// grid prints aligned columns without frames. Where there is no room for all of them,
// the widest are broken into lines, and where that is not enough each row becomes a
// record: its first cell, and beneath it what the others are called and hold.
func (a *app) grid(heads []string, rows [][]string) {
	widths := make([]int, len(heads))
	for i, h := range heads {
		widths[i] = width(h)
		for _, r := range rows {
			widths[i] = max(widths[i], width(r[i]))
		}
	}
	if all, _ := narrowed(widths, a.room()); !slices.Equal(all, widths) { // what holds nothing takes no room then
		for i := len(heads) - 1; i > 0; i-- {
			if !slices.ContainsFunc(rows, func(r []string) bool { return r[i] != "" }) {
				heads, widths = slices.Delete(slices.Clone(heads), i, i+1), slices.Delete(widths, i, i+1)
				rows = slices.Clone(rows)
				for n, r := range rows {
					rows[n] = slices.Delete(slices.Clone(r), i, i+1)
				}
			}
		}
	}
	narrow, ok := narrowed(widths, a.room())
	if !ok {
		a.records(heads, rows)
		return
	}
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	t.SetStyle(table.StyleLight)
	t.Style().Options = table.Options{}
	t.Style().Box.PaddingLeft, t.Style().Box.PaddingRight = "", "  "
	head, configs := table.Row{}, []table.ColumnConfig{}
	for i, h := range heads {
		head = append(head, strings.ToUpper(h))
		if narrow[i] < widths[i] {
			configs = append(configs, table.ColumnConfig{Number: i + 1, WidthMax: narrow[i], WidthMaxEnforcer: text.WrapSoft})
		}
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(head)
	for _, r := range rows {
		line := table.Row{}
		for _, c := range r {
			line = append(line, words.Visible(c))
		}
		t.AppendRow(line)
	}
	t.SuppressTrailingSpaces()
	t.Render()
}

// narrowed makes the widest columns narrower until all have room; it cannot where each
// has the least already. No room is asked for where it is 0.
func narrowed(widths []int, room int) ([]int, bool) {
	out := slices.Clone(widths)
	over := 2 * (len(out) - 1)
	for _, w := range out {
		over += w
	}
	for over -= room; room > 0 && over > 0; over-- {
		widest := 0
		for i, w := range out {
			if w > out[widest] {
				widest = i
			}
		}
		if out[widest] <= least {
			return nil, false
		}
		out[widest]--
	}
	return out, true
}

// records prints each row as lines of its own.
func (a *app) records(heads []string, rows [][]string) {
	wide := 0
	for _, h := range heads[1:] {
		wide = max(wide, width(h))
	}
	for _, r := range rows {
		fmt.Fprintln(a.out, a.paint(bold, words.Visible(r[0])))
		for i, c := range r[1:] {
			if c == "" {
				continue
			}
			lines := strings.Split(text.WrapSoft(words.Visible(c), max(least, a.room()-wide-4)), "\n")
			for n, line := range lines {
				head := ""
				if n == 0 {
					head = heads[i+1]
				}
				fmt.Fprintln(a.out, strings.TrimRight("  "+a.paint(grey, fit(head, wide))+"  "+strings.TrimRight(line, " "), " "))
			}
		}
	}
}

// wrapped breaks a text into lines of the terminal, each with what stands before it.
func (a *app) wrapped(s, before string) string {
	room := a.room()
	if room == 0 {
		room = 100
	}
	var out strings.Builder
	for _, paragraph := range strings.Split(s, "\n") {
		for _, line := range strings.Split(text.WrapSoft(paragraph, max(20, min(room, 100)-width(before))), "\n") {
			out.WriteString(strings.TrimRight(before+strings.TrimRight(line, " "), " ") + "\n")
		}
	}
	return out.String()
}

// Colours of the terminal.
const (
	green  = "32"
	red    = "31"
	yellow = "33"
	grey   = "90"
	bold   = "1"
)

func (a *app) paint(code, s string) string {
	if !a.color || s == "" {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

// seen writes for people: what would move or hide text is visible, colours are only
// those of paint, and a line that is longer than the terminal is broken between words.
type seen struct {
	io.Writer
	room int // 0: as long as one likes
	rest string
}

var painted = regexp.MustCompile(`\x1b\[(?:0|1|3[123]|90)m`)

// Write implements io.Writer.
func (s *seen) Write(p []byte) (int, error) {
	said := s.rest + string(p)
	end := strings.LastIndexByte(said, '\n') + 1
	said, s.rest = said[:end], said[end:]
	return len(p), s.print(said)
}

// flush writes what came without an end of its line.
func (s *seen) flush() error {
	said := s.rest
	s.rest = ""
	return s.print(said)
}

func (s *seen) print(said string) error {
	from := 0
	var out strings.Builder
	for _, at := range painted.FindAllStringIndex(said, -1) {
		out.WriteString(words.Visible(said[from:at[0]]))
		out.WriteString(said[at[0]:at[1]])
		from = at[1]
	}
	out.WriteString(words.Visible(said[from:]))
	_, err := io.WriteString(s.Writer, folded(out.String(), s.room))
	return err
}

var runsOfSigns = regexp.MustCompile(` +|[^ ]+`)

// folded breaks lines that are too long, and goes on a little further in than they began.
// Nothing else of them changes: a word that is longer than the terminal stays whole, as
// does every blank that stands within a line.
func folded(s string, room int) string {
	if room < 2*least {
		return s
	}
	wide := text.StringWidthWithoutEscSequences
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		if wide(line) <= room {
			continue
		}
		in := min(len(line)-len(strings.TrimLeft(line, " "))+2, room/2)
		var out strings.Builder
		at, blanks := 0, ""
		for _, run := range runsOfSigns.FindAllString(line, -1) {
			if run[0] == ' ' {
				blanks = run
				continue
			}
			if n := wide(run); at > in && at+len(blanks)+n > room && n <= room-in {
				out.WriteString("\n" + strings.Repeat(" ", in))
				at = in
			} else {
				out.WriteString(blanks)
				at += len(blanks)
			}
			out.WriteString(run)
			at, blanks = at+wide(run), ""
		}
		lines[i] = out.String()
	}
	return strings.Join(lines, "\n")
}

// width is how many columns of the terminal a text takes.
func width(s string) int { return text.StringWidthWithoutEscSequences(words.Visible(s)) }

// fit makes a text as wide as n columns.
func fit(s string, n int) string {
	if s = words.Visible(s); width(s) <= n {
		return s + strings.Repeat(" ", n-width(s))
	}
	for k := n; k > 1; k-- {
		if t := words.Short(s, k); width(t) <= n {
			return t + strings.Repeat(" ", n-width(t))
		}
	}
	return strings.Repeat("…", min(n, 1)) + strings.Repeat(" ", max(0, n-1))
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func when(t time.Time) string { return whenSeen(t.Local(), time.Now()) }

// whenSeen leaves out what is the same as now: the year, and of today the day.
func whenSeen(t, now time.Time) string {
	switch {
	case t.Year() != now.Year():
		return t.Format("2 Jan 2006")
	case t.YearDay() != now.YearDay():
		return t.Format("2 Jan 15:04")
	}
	return t.Format("15:04:05")
}

func deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}
