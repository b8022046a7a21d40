package words

import (
	"regexp"
	"strings"
)

var differs = []struct {
	what *regexp.Regexp
	by   string
}{
	{regexp.MustCompile(`[\w.+-]+@[\w-]+(\.[\w-]+)+`), "@"},
	{regexp.MustCompile(`https?://\S+`), "://"},
	{regexp.MustCompile(`“[^”]*”?|"[^"]*"|'[^']*'`), "“”"},
	{regexp.MustCompile(`(?i)\b[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}\b`), "#"},
	{regexp.MustCompile(`\b\w*\d[\w.,:+-]*`), "#"},
	{regexp.MustCompile(`[#+\s]*#`), " #"},
	{regexp.MustCompile(`\s+`), " "},
}

// Alike is a message without what differs from case to case: numbers, names in
// quotes, addresses, identifiers. Messages of one kind of error have the same.
func Alike(message string) string {
	for _, d := range differs {
		message = d.what.ReplaceAllString(message, d.by)
	}
	return strings.ToLower(strings.Trim(message, " .…"))
}
