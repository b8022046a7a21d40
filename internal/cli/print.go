package cli

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
	"youngtrellis/internal/core/words"

	"github.com/jedib0t/go-pretty/v6/table"
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

func width(s string) int { return utf8.RuneCountInString(s) }

func fit(s string, n int) string {
	r := []rune(s)
	if len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s + strings.Repeat(" ", n-len(r))
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func when(t time.Time) string {
	local := t.Local()
	if time.Since(t) < 20*time.Hour && local.Day() == time.Now().Day() {
		return local.Format("15:04:05")
	}
	return local.Format("2 Jan 15:04")
}

func deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}
