package words

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestMessagesOfOneKindAreAlike(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ a, b string }{
		"numbers":              {"the number 17 is too large", "the number 2,004.5 is too large"},
		"names in quotes":      {"no studio is called “Quern”", "no studio is called “Hollow bank”"},
		"straight quotes":      {`unknown field "cone"`, `unknown field "shelf 2"`},
		"a quote that was cut": {"no studio is called “Quern Pottery and", "no studio is called “Rill”"},
		"addresses":            {"a@b.example is not known", "wren.hale+x@ottermere.example is not known"},
		"identifiers":          {"order ord_7zk1 is closed", "order ord_9aa3 is closed"},
		"uuids":                {"run 018f2f0e-51a0-7c0e-9d5b-2b7f5e8f1a55 is gone", "run 018f2f0e-51a0-7c0e-9d5b-2b7f5e8f1a56 is gone"},
		"telephone numbers":    {"+44 1632 960141 has no phone", "+351 21 999 has no phone"},
		"web addresses":        {"https://x.example/a/1 answers with 500", "https://y.example/ answers with 503"},
		"space and letters":    {"Not  now.", "not now"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			require.Equal(t, Alike(c.a), Alike(c.b))
		})
	}
	require.NotEqual(t, Alike("no studio is called “Quern”"), Alike("no potter is called “Quern”"))
	require.Equal(t, "", Alike(""))
}
