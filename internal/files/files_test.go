package files

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What a file is told by what it holds; what is said of it counts where that tells
// nothing more.
func TestTheTypeOfAFileIsWhatItHolds(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ said, name, head, want string }{
		"a picture that says so":           {"image/png", "a.png", "\x89PNG\r\n\x1a\n", "image/png"},
		"a picture that says otherwise":    {"text/plain", "a.txt", "\x89PNG\r\n\x1a\n", "image/png"},
		"a page that claims to be one":     {"image/png", "a.png", "<!doctype html><script>", "text/html"},
		"text that claims to be a picture": {"image/png", "a.png", "hello", "text/plain"},
		"bytes that claim to be a picture": {"image/jpeg", "a.jpg", "\x00\x01\x02", "application/octet-stream"},
		"rows":                             {"text/csv", "a.csv", "a;b", "text/csv"},
		"rows by their name":               {"", "a.csv", "a,b", "text/csv"},
		"rows whose type says nothing":     {"application/octet-stream", "a.csv", "hello", "text/csv"},
		"text":                             {"", "", "hello", "text/plain"},
		"nothing":                          {"", "", "", "text/plain"},
		"a kind that nobody knows":         {"application/x-kiln", "a.kiln", "\x00\x01", "application/x-kiln"},
		"a type with its charset":          {"text/csv; charset=utf-8", "a", "hello", "text/csv"},
	} {
		require.Equal(t, c.want, TypeOf(c.said, c.name, []byte(c.head)), name)
	}
}
