// Package paste makes an http step of a call that somebody copied: a curl command
// out of documentation or a browser, or a raw HTTP request. It first works out what
// the call would send (wire), then makes a step of it, and then builds the step and
// compares: wherever the step sends something else, that is said. Secrets are taken
// out and given apart, with a sign-in that puts them back in their places.
package paste

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
)

// Pasted is what a call became.
type Pasted struct {
	Settings     map[string]any // of an http step
	Origin       string         // scheme://host:port
	Secrets      []Secret       // kept in a connection, in the order in which its sign-in names them
	Placeholders []Placeholder  // to be filled in, in the step
	Files        []File         // that the command reads
	Notes        []string       // what is not taken, and what goes out otherwise
	Request      string         // as it goes out, its secrets masked

	wire *wire
	way  *way
	made *made // of what the step's body and address are put together
}

// Secret is a value that was taken out, or that is asked for.
type Secret struct {
	Name  string // by which the sign-in knows it
	Where string
	Value string // empty where a placeholder stood
	Shown bool   // a user name: needed, and no secret
	Asked string // the placeholder

	written string // as the call has it
}

// Hint shows the last characters of a long secret.
func (s Secret) Hint() string {
	if s.Value == "" {
		return ""
	}
	return hint(s.Value)
}

// Placeholder is a stand-in for a value, such as YOUR_KEY.
type Placeholder struct {
	Where string
	Text  string
}

// File is one that the command reads; the step takes it from a field of the item,
// whole, or where it is put into the midst of something as the text that it holds.
type File struct {
	Name  string
	Field string
	Text  bool
}

// MaxBytes is the longest text that is read.
const MaxBytes = 1 << 20

var (
	rawStart  = regexp.MustCompile(`^([A-Z][A-Z-]* +(https?://|/)|[!#$%&'*+.^_|~0-9A-Za-z-]+ \S+ HTTP/[\d.]+\s)`)
	isCurl    = regexp.MustCompile(`(?i)(^|[\s;&|(/\\])curl(\.exe)?["']?([\s^` + "`" + `]|$)`)
	isAddress = regexp.MustCompile(`(?i)^https?://\S+$`)
	prompt    = regexp.MustCompile(`^(\$|%|PS [^>\n]*>|[A-Za-z]:[^>\n]*>)[ \t]+`)
	otherTool = regexp.MustCompile(`^(\S*/)?([a-z][a-z0-9._-]*)(\.exe)?\s`)
)

// Read makes a step of a pasted text.
func Read(text string) (*Pasted, error) {
	if len(text) > MaxBytes {
		return nil, fmt.Errorf("the text has %d bytes; at most %d are read", len(text), MaxBytes)
	}
	text = strings.TrimPrefix(text, "\ufeff")
	text = strings.TrimLeft(text, " \t\r\n\u00a0")
	if strings.TrimSpace(text) == "" {
		return nil, errors.New("nothing was pasted; paste a curl command, or a request that begins with a method and a path")
	}
	w, err := readText(text)
	if err != nil {
		return nil, err
	}
	return w.step()
}

func readText(text string) (*wire, error) {
	lines := strings.ReplaceAll(text, "\r\n", "\n")
	if isAddress.MatchString(strings.TrimSpace(lines)) {
		c := &curl{literal: true, url: strings.TrimSpace(lines)}
		return c.finish()
	}
	if rawStart.MatchString(lines) && !strings.HasPrefix(strings.ToLower(lines), "curl ") {
		return readRaw(text)
	}
	lines = prompt.ReplaceAllString(lines, "")
	if isCurl.MatchString(lines) {
		return readCurl(lines)
	}
	if m := otherTool.FindStringSubmatch(lines); m != nil && strings.Contains(lines, "://") {
		return nil, fmt.Errorf("this is a command of %s; only curl commands and HTTP requests are read", m[2])
	}
	return nil, errors.New("this is neither a curl command nor an HTTP request; a command begins with curl, a request with a method and a path, as GET /v1/orders")
}
