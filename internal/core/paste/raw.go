package paste

import (
	"fmt"
	"regexp"
	"strings"
)

var rawStart = regexp.MustCompile(`^(GET|HEAD|POST|PUT|PATCH|DELETE|OPTIONS|PROPFIND|QUERY) \S+`)

// readRaw reads a request as it goes over the wire (RFC 9112): a line with
// method and address, headers, an empty line, the body.
func readRaw(text string) (*request, error) {
	head, body, _ := strings.Cut(text, "\n\n")
	lines := strings.Split(head, "\n")
	fields := strings.Fields(lines[0])
	r := &request{method: fields[0], url: fields[1]}
	host := ""
	for i, line := range lines[1:] {
		if strings.TrimSpace(line) == "" {
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if !ok {
			return nil, fmt.Errorf("line %d, %q, is no header: it has no colon; an empty line comes before the body", i+2, line)
		}
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		switch strings.ToLower(name) {
		case "host":
			host = value
		case "content-length", "connection", "transfer-encoding", "accept-encoding":
		default:
			r.header = append(r.header, [2]string{name, value})
		}
		if strings.EqualFold(name, "content-type") {
			r.kind = value
		}
	}
	if strings.HasPrefix(r.url, "/") {
		if host == "" {
			return nil, fmt.Errorf("the request names no host; add a line such as Host: api.example")
		}
		r.url = host + r.url
	}
	if body != "" {
		r.body, r.hasBody = []byte(body), true
	}
	return r, nil
}
