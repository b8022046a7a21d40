package cli

import (
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"youngtrellis/internal/core/words"
)

// grid prints aligned columns without frames.
func (a *app) grid(heads []string, rows [][]string) {
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	t.SetStyle(table.StyleLight)
	t.Style().Options = table.Options{}
	t.Style().Box.PaddingLeft, t.Style().Box.PaddingRight = "", "  "
	head := table.Row{}
	for _, h := range heads {
		head = append(head, strings.ToUpper(h))
	}
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

// seen writes for people: what would move or hide text is visible, and colours
// are only those of paint.
type seen struct{ io.Writer }

var painted = regexp.MustCompile(`\x1b\[(?:0|1|3[123]|90)m`)

// Write implements io.Writer.
func (s seen) Write(p []byte) (int, error) {
	said, from := string(p), 0
	var out strings.Builder
	for _, at := range painted.FindAllStringIndex(said, -1) {
		out.WriteString(words.Visible(said[from:at[0]]))
		out.WriteString(said[at[0]:at[1]])
		from = at[1]
	}
	out.WriteString(words.Visible(said[from:]))
	_, err := io.WriteString(s.Writer, out.String())
	return len(p), err
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
