package lists

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/words"
)

// WriteCSV writes the list as CSV (RFC 4180): the names of the columns, and a line
// for each row.
func (t *Table) WriteCSV(w io.Writer) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	if err := out.Write(names(t.Columns)); err != nil {
		return err
	}
	cells := make([]string, len(t.Columns))
	for _, r := range t.Rows {
		for i, c := range t.Columns {
			cells[i] = Written(r.Fields[c.Name])
		}
		if err := out.Write(cells); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// ReadCSV reads rows out of CSV whose first line names columns, by name or title,
// in any order. Commas, semicolons or tabs part the cells. Where columns are given
// they say what may stand there; where not, they are made of the first line, and
// their types of what stands below. All that is wrong is told at once.
func ReadCSV(text []byte, columns []Column) (*Table, error) {
	if len(text) > MaxCSV {
		return nil, Wrongs{{Message: fmt.Sprintf("The file has %s; CSV of a list has at most %s.", item.Bytes(int64(len(text))), item.Bytes(MaxCSV))}}
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	if err := item.CheckText(string(text)); err != nil {
		return nil, Wrongs{{Message: words.Sentence(err.Error()) + " Save the file as UTF-8."}}
	}
	lines, err := cellsOf(text)
	if err != nil {
		return nil, err
	}
	if len(lines) == 0 {
		return nil, Wrongs{{Message: "It is empty. Its first line names the columns."}}
	}
	head, body := lines[0], lines[1:]
	if len(head) > MaxColumns {
		return nil, Wrongs{{Message: fmt.Sprintf("The first line names %d columns, and a list has at most %d.", len(head), MaxColumns)}}
	}
	var from []int // the cell of each column
	if columns == nil {
		columns, err = guessed(head, body)
		for i := range columns {
			from = append(from, i)
		}
	} else {
		columns, from, err = chosen(head, columns)
	}
	if err != nil {
		return nil, err
	}
	out := &Table{Columns: columns, Rows: make([]Row, 0, len(body))}
	var wrong Wrongs
	for i, line := range body {
		fields := make(map[string]any, len(columns))
		for j, c := range columns {
			if from[j] < len(line) {
				fields[c.Name] = line[from[j]]
			}
		}
		row, w := Fit(columns, fields, i+1)
		if wrong = append(wrong, w...); len(wrong) >= mostWrong {
			break
		}
		out.Rows = append(out.Rows, row)
	}
	if len(wrong) > 0 {
		return nil, wrong
	}
	return out, out.Check()
}

// cellsOf takes CSV apart. Lines that hold nothing are left out.
func cellsOf(text []byte) ([][]string, error) {
	in := csv.NewReader(bytes.NewReader(text))
	in.Comma = separator(text)
	in.FieldsPerRecord = -1
	var out [][]string
	for {
		line, err := in.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		var where *csv.ParseError
		if errors.As(err, &where) {
			return nil, Wrongs{{Message: fmt.Sprintf("Line %d cannot be read: a quotation mark stands alone. One within a cell is written twice, and the whole cell in quotation marks.", where.Line)}}
		}
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(line, func(s string) bool { return strings.TrimSpace(s) != "" }) {
			continue
		}
		if len(out) > 0 && len(line) > len(out[0]) {
			if slices.ContainsFunc(line[len(out[0]):], func(s string) bool { return strings.TrimSpace(s) != "" }) {
				return nil, Wrongs{{Row: len(out), Message: fmt.Sprintf("It has %d cells, and the first line names %d. A cell with a %s in it stands in quotation marks.", len(line), len(out[0]), signs[in.Comma])}}
			}
			line = line[:len(out[0])]
		}
		if len(out) > MaxRows {
			return nil, Wrongs{{Message: fmt.Sprintf("A list has at most %d rows; these are more.", MaxRows)}}
		}
		out = append(out, line)
	}
}

var signs = map[rune]string{',': "comma", ';': "semicolon", '\t': "tab"}

// separator is what parts the cells: of those signs the one that stands most often in
// the first line.
func separator(text []byte) rune {
	first, _, _ := bytes.Cut(text, []byte("\n"))
	best, most := ',', 0
	for _, sign := range []rune{',', ';', '\t'} {
		if n := bytes.Count(first, []byte(string(sign))); n > most {
			best, most = sign, n
		}
	}
	return best
}

// chosen finds which columns the first line names, in the order of the list, and
// which cell of a line is each one's.
func chosen(head []string, columns []Column) (out []Column, from []int, err error) {
	var wrong Wrongs
	at := map[string]int{}
	for i, name := range head {
		c := slices.IndexFunc(columns, func(c Column) bool { return same(c.Name, name) || c.Title != "" && same(c.Title, name) })
		if c < 0 {
			wrong = append(wrong, Wrong{Column: strings.TrimSpace(name), Message: "The list has no such column." + near.Hint(NameOf(name), names(columns)) + " Add it first, or take it out of the file."})
			continue
		}
		if _, twice := at[columns[c].Name]; twice {
			wrong = append(wrong, Wrong{Column: columns[c].Name, Message: "The first line names it twice."})
		}
		at[columns[c].Name] = i
	}
	for i, c := range columns {
		cell, found := at[c.Name]
		switch {
		case found:
			out, from = append(out, c), append(from, cell)
		case i == 0 && len(wrong) == 0:
			wrong = append(wrong, Wrong{Column: c.Name, Message: "It is missing. Rows are known by it; the first line of the file names the columns."})
		}
	}
	return out, from, wrong.orNil()
}

func same(a, b string) bool { return strings.EqualFold(strings.TrimSpace(a), strings.TrimSpace(b)) }

// guessed makes columns of a file: the first is what rows are known by.
func guessed(head []string, body [][]string) ([]Column, error) {
	var out []Column
	var wrong Wrongs
	for i, title := range head {
		title = strings.TrimSpace(title)
		c := Column{Name: NameOf(title), Type: Text}
		if c.Name == "" {
			wrong = append(wrong, Wrong{Column: title, Message: fmt.Sprintf("The first line gives column %d no name that begins with a letter.", i+1)})
			continue
		}
		if title != c.Name {
			c.Title = title
		}
		if i > 0 {
			c.Type = typeOf(body, i)
		}
		out = append(out, c)
	}
	if len(wrong) > 0 {
		return nil, wrong
	}
	return out, CheckColumns(out)
}

// typeOf is what all cells of a column hold that are filled in.
func typeOf(body [][]string, at int) Type {
	for _, t := range []Type{Number, YesNo} {
		n, fits := 0, true
		for _, line := range body {
			if at >= len(line) {
				continue
			}
			v, err := Column{Type: t}.fit(line[at])
			if err != nil {
				fits = false
				break
			}
			if v != nil {
				n++
			}
		}
		if fits && n > 0 {
			return t
		}
	}
	return Text
}
