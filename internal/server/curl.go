package server

import (
	"strings"

	"youngtrellis/internal/core/call"
)

// curlOf writes a call as a command, so that it can be compared with an
// application's own documentation. Secrets are not in it.
func curlOf(s *call.Sent) string {
	if !strings.HasPrefix(s.URL, "http") {
		return "" // mail and databases are not called so
	}
	var b strings.Builder
	b.WriteString("curl")
	if s.Method != "GET" {
		b.WriteString(" -X " + s.Method)
	}
	b.WriteString(" " + quoteShell(s.URL))
	if s.Body != "" {
		b.WriteString(" \\\n  -d " + quoteShell(s.Body))
	}
	return b.String()
}

func quoteShell(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
