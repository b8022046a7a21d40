package expr

import (
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// A function is found by what one wants to do with it.
func TestFunctionsAreFoundByWhatOneWants(t *testing.T) {
	t.Parallel()
	for query, want := range map[string]string{
		"uppercase": "upper", "capital letters": "upper", "shorten": "truncate", "ellipsis": "truncate", "remove duplicates": "unique", "next business day": "workday_add", "sla": "working_hours",
		"parse date": "parse_date", "read european date format": "parse_date", "day of week": "weekday", "strip tags": "html_text", "regex": "match", "hide card number": "mask", "json to object": "from_json",
		"csv file": "csv", "import csv": "from_csv", "leading zeros": "pad", "thousands separator": "format_number", "price euro": "money", "first day of month": "start_of", "end of month": "end_of", "random id": "uuid",
		"email quoted": "without_quoted_reply", "add days": "add", "days between": "diff", "website host": "domain", "fuzzy": "similarity", "phone": "phone", "jsonpath": "path", "sort": "sort", "timezone": "in_zone",
		"substring": "slice", "contains": "includes", "how many characters": "len", "distinct": "unique", "fre slots": "free_slots", "sha256": "hash", "SQL escape": "sql_text", "utm parameter": "with_query", "free calendar slot": "free_slots",
	} {
		found := Search(query)
		require.NotEmpty(t, found, query)
		at := slices.IndexFunc(found, func(f Function) bool { return f.Name == want })
		require.True(t, at >= 0 && at < 4, "%q: %s is at %d of %v", query, want, at, names(found))
	}
	require.Empty(t, Search("zzzzzz"))
	require.Len(t, Search(" the "), len(Functions()))
	for _, f := range Functions() {
		require.Equal(t, f.Name, Search(f.Name)[0].Name)
		require.NotEmpty(t, f.Words, f.Name)
		require.NotEmpty(t, f.Gives, f.Name)
	}
}

func names(list []Function) (out []string) {
	for _, f := range list[:min(6, len(list))] {
		out = append(out, f.Name)
	}
	return out
}

// The page of the documentation is the table.
func TestTheReferenceIsMadeFromTheTable(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../../docs/functions.md")
	require.NoError(t, err)
	require.Equal(t, Reference(), string(page), "make generate writes it again")
}
