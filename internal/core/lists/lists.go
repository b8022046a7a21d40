// Package lists computes with workspace lists: small tables that colleagues edit and
// workflows read.
//
// A row is known by what stands in its first column, which is filled in and stands
// there once. So a row that is changed stays the same row, and a table that comes in
// anew is compared with what stood.
package lists

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/words"
)

// Bounds of a list. They keep one list within what a step can hold in memory.
const (
	MaxRows    = 10_000
	MaxColumns = 40
	MaxCell    = 10_000    // characters
	MaxBytes   = 4_000_000 // of all rows together, as JSON
	MaxCSV     = 5_000_000 // bytes of CSV that are read at once
)

// Type is what the cells of a column hold.
type Type string

// Types of columns.
const (
	Text   Type = "text"
	Number Type = "number"
	YesNo  Type = "yes_no"
)

// Types lists them all.
var Types = []Type{Text, Number, YesNo}

// Column of a list.
type Column struct {
	Name  string `json:"name"` // of the field that it makes
	Title string `json:"title,omitempty"`
	Type  Type   `json:"type"`
	Was   string `json:"was,omitempty"` // its name before a change
}

// Row is one of a list's rows.
type Row struct {
	Key    string         // what stands in its first column
	Fields map[string]any // all columns; empty cells are absent
}

// Table is a list's content.
type Table struct {
	Columns []Column
	Rows    []Row
}

// Wrong says what is wrong with a cell, a row or a column, and how to mend it.
type Wrong struct {
	Row     int    `json:"row,omitempty"` // from 1; 0: it is about the whole
	Column  string `json:"column,omitempty"`
	Message string `json:"message"`
}

func (w Wrong) Error() string {
	switch {
	case w.Row > 0 && w.Column != "":
		return fmt.Sprintf("row %d, %s: %s", w.Row, w.Column, w.Message)
	case w.Row > 0:
		return fmt.Sprintf("row %d: %s", w.Row, w.Message)
	case w.Column != "":
		return fmt.Sprintf("column %s: %s", w.Column, w.Message)
	}
	return w.Message
}

// Wrongs are all that is wrong at once, the first ones told.
type Wrongs []Wrong

func (w Wrongs) Error() string {
	const told = 5
	var lines []string
	for _, x := range w[:min(told, len(w))] {
		lines = append(lines, x.Error())
	}
	s := strings.Join(lines, " ")
	if len(w) > told {
		s += fmt.Sprintf(" And %d more.", len(w)-told)
	}
	return s
}

// mostWrong is after how many faults no further ones are looked for.
const mostWrong = 1000

// orNil is nil where nothing is wrong, so that it can be returned as an error.
func (w Wrongs) orNil() error {
	if len(w) == 0 {
		return nil
	}
	return w
}

// NamePattern is how lists are called. Names of columns have no hyphen: they are read
// as fields, where it would take something away.
const NamePattern = `^[a-z][a-z0-9_-]{0,59}$`

var (
	named  = regexp.MustCompile(NamePattern)
	column = regexp.MustCompile(`^[a-z][a-z0-9_]{0,59}$`)
)

// CheckName tells why a list cannot be called so; nil where it can.
func CheckName(name string) error {
	if !named.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a list: it begins with a small letter, and goes on with small letters, digits, _ and -, at most 60 in all", name)
	}
	return nil
}

// NameOf makes a name of a title: "Short name" becomes short_name.
func NameOf(title string) string {
	var s strings.Builder
	for _, r := range strings.ToLower(strings.TrimSpace(title)) {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9' && s.Len() > 0:
			s.WriteRune(r)
		case s.Len() > 0 && !strings.HasSuffix(s.String(), "_"):
			s.WriteByte('_')
		}
	}
	name := strings.Trim(s.String(), "_")
	return strings.TrimRight(name[:min(len(name), 60)], "_")
}

// CheckColumns tells what is wrong with the columns of a list.
func CheckColumns(columns []Column) error {
	var wrong Wrongs
	add := func(column, format string, args ...any) {
		wrong = append(wrong, Wrong{Column: column, Message: fmt.Sprintf(format, args...)})
	}
	switch {
	case len(columns) == 0:
		add("", "A list has at least one column: what its rows are known by.")
	case len(columns) > MaxColumns:
		add("", "A list has at most %d columns; these are %d.", MaxColumns, len(columns))
	case columns[0].Type != Text:
		add(columns[0].Name, "The first column holds text, for rows are known by it.")
	}
	seen := map[string]bool{}
	for _, c := range columns {
		if !column.MatchString(c.Name) {
			add(c.Name, "%q cannot be the name of a column: it begins with a small letter, and goes on with small letters, digits and _, at most 60 in all.", c.Name)
		}
		if seen[c.Name] {
			add(c.Name, "There are two columns of this name.")
		}
		seen[c.Name] = true
		if !slices.Contains(Types, c.Type) {
			add(c.Name, "%q is no type: a column holds text, number or yes_no.", c.Type)
		}
		if utf8.RuneCountInString(c.Title) > 100 {
			add(c.Name, "Its title has more than 100 characters.")
		}
	}
	return wrong.orNil()
}

// names are those of the columns.
func names(columns []Column) []string {
	out := make([]string, 0, len(columns))
	for _, c := range columns {
		out = append(out, c.Name)
	}
	return out
}

// Fit makes a row of fields as somebody brought them: text that is a number becomes
// one in a column of numbers, and what is empty is left out. At is its place, from 1,
// in what is told.
func Fit(columns []Column, fields map[string]any, at int) (Row, Wrongs) {
	var wrong Wrongs
	row := Row{Fields: make(map[string]any, len(columns))}
	for _, c := range columns {
		v, err := c.fit(fields[c.Name])
		switch {
		case err != nil:
			wrong = append(wrong, Wrong{at, c.Name, words.Sentence(err.Error())})
		case v != nil:
			row.Fields[c.Name] = v
		}
	}
	for _, name := range item.Keys(fields) {
		if known := names(columns); !slices.Contains(known, name) {
			wrong = append(wrong, Wrong{at, name, "There is no such column." + near.Hint(name, known)})
		}
	}
	if len(columns) > 0 {
		row.Key, _ = row.Fields[columns[0].Name].(string)
		if row.Key == "" && len(wrong) == 0 {
			wrong = append(wrong, Wrong{at, columns[0].Name, "It is empty. Rows are known by it, so it is filled in."})
		}
	}
	return row, wrong
}

// fit makes a value one of the column; nil for an empty one.
func (c Column) fit(v any) (any, error) {
	if s, ok := v.(string); ok {
		if err := item.CheckText(s); err != nil {
			return nil, err
		}
		if n := utf8.RuneCountInString(s); n > MaxCell {
			return nil, fmt.Errorf("a cell holds at most %d characters; this has %d", MaxCell, n)
		}
		if v = strings.TrimSpace(s); v == "" {
			return nil, nil
		}
	}
	if v == nil {
		return nil, nil
	}
	switch c.Type {
	case Number:
		switch v := v.(type) {
		case int64, float64:
			return v, nil
		case string:
			if numeral.MatchString(v) {
				switch n := item.Number(v).(type) {
				case int64, float64:
					return n, nil
				}
			}
		}
		return nil, fmt.Errorf("%s is no number; write it as 12 or 0.5", shown(v))
	case YesNo:
		switch v := v.(type) {
		case bool:
			return v, nil
		case string:
			switch strings.ToLower(v) {
			case "yes", "true", "y", "1":
				return true, nil
			case "no", "false", "n", "0":
				return false, nil
			}
		}
		return nil, fmt.Errorf("%s is neither yes nor no", shown(v))
	case Text:
		switch v := v.(type) {
		case string:
			return v, nil
		case bool:
			return yesNo(v), nil
		case int64, float64:
			return Written(v), nil
		}
	}
	return nil, fmt.Errorf("%s does not fit into a cell of %s", shown(v), strings.ReplaceAll(string(c.Type), "_", " or "))
}

// numeral is a number as JSON writes it (RFC 8259). Zeros or a plus in front make no
// number: of telephone numbers and postcodes they are a part.
var numeral = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$`)

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func shown(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return item.Kind(v)
	}
	const most = 40
	if r := []rune(string(b)); len(r) > most {
		return string(r[:most]) + "…"
	}
	return string(b)
}

// Written is a cell as people read it, and as it stands in CSV.
func Written(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case bool:
		return yesNo(v)
	}
	b, err := item.Encode(v)
	if err != nil {
		return ""
	}
	return string(b)
}

// Check tells what is wrong with the whole: rows that are known by the same, or more
// than fits.
func (t *Table) Check() error {
	var wrong Wrongs
	if len(t.Rows) > MaxRows {
		return Wrongs{{Message: fmt.Sprintf("A list has at most %d rows; these are %d.", MaxRows, len(t.Rows))}}
	}
	at, bytes := map[string]int{}, 0
	for i, r := range t.Rows {
		if first, twice := at[r.Key]; twice {
			wrong = append(wrong, Wrong{i + 1, t.Columns[0].Name, fmt.Sprintf("%s stands in row %d already. Rows are known by it, so it stands there once.", shown(r.Key), first)})
		} else {
			at[r.Key] = i + 1
		}
		bytes += item.Size(r.Fields)
	}
	if bytes > MaxBytes {
		wrong = append(wrong, Wrong{Message: fmt.Sprintf("A list holds at most %s; this is %s.", item.Bytes(MaxBytes), item.Bytes(int64(bytes)))})
	}
	return wrong.orNil()
}

// Holds tells whether a row holds a text in small letters in some cell.
func (t *Table) Holds(r Row, find string) bool {
	return slices.ContainsFunc(t.Columns, func(c Column) bool { return strings.Contains(strings.ToLower(Written(r.Fields[c.Name])), find) })
}

// ByKey finds rows by what they are known by.
func (t *Table) ByKey() map[string]Row { return byKey(t.Rows) }

// Items gives the rows as expressions see them: one object each.
func (t *Table) Items() []any {
	out := make([]any, len(t.Rows))
	for i, r := range t.Rows {
		out[i] = r.Item(t.Columns)
	}
	return out
}

// Item is the row as an object: an empty cell is nothing, and its column still there.
func (r Row) Item(columns []Column) map[string]any {
	fields := make(map[string]any, len(columns))
	for _, c := range columns {
		fields[c.Name] = r.Fields[c.Name]
	}
	return fields
}
