package lists

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var duty = []Column{{Name: "short", Type: Text}, {Name: "phone", Title: "Phone number", Type: Text}, {Name: "floor", Type: Number}, {Name: "on_duty", Type: YesNo}}

func table(t *testing.T, columns []Column, lines ...string) *Table {
	t.Helper()
	out, err := ReadCSV([]byte(strings.Join(lines, "\n")), columns)
	require.NoError(t, err)
	return out
}

// stood is a list of all columns, whichever the lines fill in.
func stood(t *testing.T, lines ...string) *Table {
	x := table(t, duty, lines...)
	x.Columns = duty
	return x
}

func csvOf(t *testing.T, x *Table) string {
	t.Helper()
	var s strings.Builder
	require.NoError(t, x.WriteCSV(&s))
	return strings.ReplaceAll(s.String(), "\r\n", "\n")
}

func TestRowsAreReadFromCSVByTheNamesOrTitlesOfColumns(t *testing.T) {
	x := table(t, duty, "\ufeffPhone number;SHORT;floor;on_duty", `"+44 7700; day";wren;2;yes`, "", ";tam;0.5;No", "0077;ash;;")
	require.Equal(t, []Row{
		{"wren", map[string]any{"short": "wren", "phone": "+44 7700; day", "floor": int64(2), "on_duty": true}},
		{"tam", map[string]any{"short": "tam", "floor": 0.5, "on_duty": false}},
		{"ash", map[string]any{"short": "ash", "phone": "0077"}},
	}, x.Rows)
	require.Equal(t, map[string]any{"short": "ash", "phone": "0077", "floor": nil, "on_duty": nil}, x.Items()[2], "an empty cell is nothing")
	require.Equal(t, "short,phone,floor,on_duty\nwren,+44 7700; day,2,yes\ntam,,0.5,no\nash,0077,,\n", csvOf(t, x))
}

func TestColumnsOfANewListAreMadeOfTheFile(t *testing.T) {
	x := table(t, nil, "Word\tSpelled right\tTimes seen\tIn use\tCode", "celadon\tCeladon\t4\tyes\t007", "tenmoko\tTenmoku\t\t\t008")
	require.Equal(t, []Column{
		{Name: "word", Title: "Word", Type: Text}, {Name: "spelled_right", Title: "Spelled right", Type: Text},
		{Name: "times_seen", Title: "Times seen", Type: Number}, {Name: "in_use", Title: "In use", Type: YesNo}, {Name: "code", Title: "Code", Type: Text},
	}, x.Columns)
	require.Equal(t, int64(4), x.Rows[0].Fields["times_seen"])
}

func TestWhatIsWrongWithAFileIsToldAtOnce(t *testing.T) {
	for name, x := range map[string]struct {
		text  string
		wants []string
	}{
		"nothing":             {" \n\n", []string{"It is empty. Its first line names the columns."}},
		"no key":              {"phone\n0077", []string{"column short: It is missing."}},
		"another column":      {"short,fone\na,b", []string{`column fone: The list has no such column. Did you mean phone? Add it first`}},
		"a column twice":      {"short,phone,Phone number\na,b,c", []string{"names it twice"}},
		"wrong cells":         {"short,floor,on_duty\na,two,maybe\n,3,yes", []string{`row 1, floor: "two" is no number; write it as 12 or 0.5.`, `row 1, on_duty: "maybe" is neither yes nor no.`, "row 2, short: It is empty."}},
		"one key twice":       {"short\nwren\ntam\nwren", []string{`row 3, short: "wren" stands in row 1 already.`}},
		"more cells":          {"short,phone\na,1,2", []string{"row 1: It has 3 cells, and the first line names 2. A cell with a comma in it stands in quotation marks."}},
		"a lone mark":         {"short,phone\na,b \"c\" d", []string{"Line 2 cannot be read"}},
		"no text":             {"short\n\xff", []string{"Save the file as UTF-8."}},
		"a cell without end":  {"short\n" + strings.Repeat("x", MaxCell+1), []string{"at most 10000 characters; this has 10001"}},
		"a NUL":               {"short\na\x00", []string{"Save the file as UTF-8."}},
		"more than five":      {"short,floor\n" + strings.Repeat("a,x\n", 7), []string{"And 2 more."}},
		"a file too long":     {"short\n" + strings.Repeat("x", MaxCSV), []string{"The file has 5.0 MB; CSV of a list has at most 5.0 MB."}},
		"nothing but commas":  {"a" + strings.Repeat(",", MaxCSV-1), []string{"The first line names 5000000 columns, and a list has at most 40."}},
		"more than 10,000":    {"short\n" + strings.Repeat("a\n", MaxRows+1), []string{"at most 10000 rows; these are more"}},
		"more than there fit": {"short,phone\n" + bulk(500), []string{"A list holds at most 4.0 MB"}},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := ReadCSV([]byte(x.text), duty)
			require.Error(t, err)
			for _, want := range x.wants {
				require.ErrorContains(t, err, want)
			}
		})
	}
	_, err := ReadCSV([]byte("Name,27,Name\na,b,c"), nil)
	require.ErrorContains(t, err, "The first line gives column 2 no name that begins with a letter.")
	_, err = ReadCSV([]byte("Name,name\na,b"), nil)
	require.ErrorContains(t, err, "There are two columns of this name.")
}

func bulk(n int) string {
	var s strings.Builder
	for i := range n {
		fmt.Fprintf(&s, "k%d,%s\n", i, strings.Repeat("x", 9_000))
	}
	return s.String()
}

func TestEditsAreCarriedOutAllOrNone(t *testing.T) {
	x := stood(t, "short,phone,floor", "wren,1,1", "tam,2,2", "ash,3,3")
	y, err := x.Apply([]Change{
		{Key: "tam", Fields: map[string]any{"phone": "22", "floor": ""}},
		{Fields: map[string]any{"short": "elm", "on_duty": "yes"}},
		{Key: "wren", Remove: true},
		{Key: "ash", Fields: map[string]any{"short": "ash-b"}},
		{Fields: map[string]any{"short": "wren"}}, // the name is free again
	})
	require.NoError(t, err)
	require.Equal(t, "short,phone,floor,on_duty\ntam,22,,\nash-b,3,3,\nelm,,,yes\nwren,,,\n", csvOf(t, y))
	require.Equal(t, "short,phone,floor,on_duty\nwren,1,1,\ntam,2,2,\nash,3,3,\n", csvOf(t, x), "what stood stands")

	for name, e := range map[string]struct {
		edits []Change
		want  string
	}{
		"none of that name":       {[]Change{{Key: "tom", Remove: true}}, `There is no row "tom". Did you mean tam?`},
		"twice removed":           {[]Change{{Key: "tam", Remove: true}, {Key: "tam", Remove: true}}, `There is no row "tam".`},
		"taken":                   {[]Change{{Key: "tam", Fields: map[string]any{"short": "ash"}}}, `row 2, short: There is a row "ash" already.`},
		"added twice":             {[]Change{{Fields: map[string]any{"short": "ash"}}}, `There is a row "ash" already.`},
		"emptied":                 {[]Change{{Key: "tam", Fields: map[string]any{"short": " "}}}, "Rows are known by it"},
		"no column":               {[]Change{{Key: "tam", Fields: map[string]any{"fone": "1"}}}, "There is no such column. Did you mean phone?"},
		"a list in a cell":        {[]Change{{Key: "tam", Fields: map[string]any{"phone": []any{"1"}}}}, `["1"] does not fit into a cell of text`},
		"removed without a name":  {[]Change{{Remove: true}}, "Edit 1 removes a row and does not say which."},
		"all that is wrong":       {[]Change{{Key: "x", Remove: true}, {Key: "tam", Fields: map[string]any{"floor": "high"}}}, `"high" is no number`},
		"a number for yes and no": {[]Change{{Key: "tam", Fields: map[string]any{"on_duty": int64(1)}}}, "1 is neither yes nor no"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := x.Apply(e.edits)
			require.ErrorContains(t, err, e.want)
		})
	}
}

func TestRowsThatComeInJoinThoseThatStand(t *testing.T) {
	x := stood(t, "short,phone,floor", "wren,1,1", "tam,2,2", "ash,3,3")
	in := table(t, duty, "short,phone", "elm,9", "tam,", "wren,1")
	merged, err := x.Join(in, Merge)
	require.NoError(t, err)
	require.Equal(t, "short,phone,floor,on_duty\nwren,1,1,\ntam,,2,\nash,3,3,\nelm,9,,\n", csvOf(t, merged), "what no column came in for stays")
	replaced, err := x.Join(in, Replace)
	require.NoError(t, err)
	require.Equal(t, "short,phone,floor,on_duty\nelm,9,,\ntam,,2,\nwren,1,1,\n", csvOf(t, replaced))
	require.Equal(t, "1 row added and 1 row changed", Between(x.Rows, merged.Rows).String())
	require.Equal(t, "1 row added, 1 row changed, 1 row removed and the order changed", Between(x.Rows, replaced.Rows).String())
	require.True(t, Between(x.Rows, x.Rows).None())
	key, touched := Between(x.Rows, replaced.Rows).Touches([]Change{{Fields: map[string]any{"short": "elm"}}, {Key: "wren"}, {Key: "ash", Remove: true}})
	require.True(t, touched)
	require.Equal(t, "ash", key)
	_, touched = Between(x.Rows, merged.Rows).Touches([]Change{{Key: "wren"}, {Key: "elm"}})
	require.False(t, touched, "what others added is no change of a row")
	_, err = x.Join(in, "upsert")
	require.Error(t, err)
}

func TestColumnsAreRenamedAddedAndTakenOut(t *testing.T) {
	x := stood(t, "short,phone,floor", "wren,1,1", "tam,2,2")
	y, err := x.Reshape([]Column{{Name: "name", Type: Text, Was: "short"}, {Name: "level", Type: Text, Was: "floor"}, {Name: "note", Type: Text}})
	require.NoError(t, err)
	require.Equal(t, "name,level,note\nwren,1,\ntam,2,\n", csvOf(t, y))
	require.Equal(t, []Column{{Name: "name", Type: Text}, {Name: "level", Type: Text}, {Name: "note", Type: Text}}, y.Columns)
	z, err := x.Reshape([]Column{{Name: "short", Type: Text}, {Name: "mobile", Type: Text, Was: "phone"}, {Name: "phone", Type: Text}})
	require.NoError(t, err)
	require.Equal(t, "short,mobile,phone\nwren,1,\ntam,2,\n", csvOf(t, z), "a new column bears the name that another had")
	for want, columns := range map[string][]Column{
		"at least one column":                     {},
		"The first column holds text":             {{Name: "short", Type: Number}},
		`It was never called "shirt". Did you`:    {{Name: "a", Type: Text, Was: "shirt"}},
		"It is empty. Rows are known by it":       {{Name: "other", Type: Text}},
		`"date" is no type`:                       {{Name: "short", Type: "date"}},
		`"Short" cannot be the name of a column`:  {{Name: "Short", Type: Text}},
		"There are two columns of this name":      {{Name: "short", Type: Text}, {Name: "short", Type: Text}},
		`row 1, short: "wren" is neither yes nor`: {{Name: "k", Type: Text, Was: "phone"}, {Name: "short", Type: YesNo}},
	} {
		_, err := x.Reshape(columns)
		require.ErrorContains(t, err, want)
	}
	many := make([]Column, MaxColumns+1)
	require.ErrorContains(t, CheckColumns(many), "at most 40 columns")
}

func TestATitleBecomesAName(t *testing.T) {
	for title, want := range map[string]string{"Short name": "short_name", " 7 kiln (new) ": "kiln_new", "Größe": "gr_e", "窯": "", strings.Repeat("ab ", 40): strings.TrimRight(strings.Repeat("ab_", 20), "_")} {
		require.Equal(t, want, NameOf(title))
		if want != "" {
			require.NoError(t, CheckName(want))
			require.NoError(t, CheckColumns([]Column{{Name: want, Type: Text}}))
		}
	}
}

func TestNamesOfLists(t *testing.T) {
	for _, name := range []string{"duty", "on-duty", "on_duty2"} {
		require.NoError(t, CheckName(name))
	}
	for _, name := range []string{"", "Duty", "2duty", "on duty", "über", strings.Repeat("a", 61), "a\n"} {
		require.ErrorContains(t, CheckName(name), "cannot be the name of a list")
	}
	require.ErrorContains(t, CheckColumns([]Column{{Name: "on-duty", Type: Text}}), "cannot be the name of a column")
}

// Whatever a list holds comes back out of its CSV, and the difference of two contents
// is what leads from one to the other.
func TestCSVAndDifferencesLoseNothing(t *testing.T) {
	cell := rapid.StringOfN(rapid.RuneFrom([]rune("ab ,;\t\"'\n=é窯0")), 1, 12, -1)
	content := rapid.Custom(func(t *rapid.T) *Table {
		x := &Table{Columns: duty}
		for _, key := range rapid.SliceOfNDistinct(rapid.StringMatching("[a-d]{1,2}"), 0, 8, rapid.ID).Draw(t, "keys") {
			row, wrong := Fit(duty, map[string]any{"short": key, "phone": cell.Draw(t, "cell"), "floor": rapid.Int64().Draw(t, "floor"), "on_duty": rapid.Bool().Draw(t, "on")}, 1)
			if len(wrong) == 0 {
				x.Rows = append(x.Rows, row)
			}
		}
		return x
	})
	rapid.Check(t, func(r *rapid.T) {
		x, y := content.Draw(r, "x"), content.Draw(r, "y")
		var s strings.Builder
		require.NoError(r, x.WriteCSV(&s))
		again, err := ReadCSV([]byte(s.String()), duty)
		require.NoError(r, err)
		require.True(r, Between(x.Rows, again.Rows).None())

		d := Between(x.Rows, y.Rows)
		require.Equal(r, len(y.Rows), len(x.Rows)+len(d.Added)-len(d.Removed))
		joined, err := x.Join(y, Replace)
		require.NoError(r, err)
		require.True(r, Between(joined.Rows, y.Rows).None())
	})
}
