package paste

import (
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"strconv"
	"strings"
)

// readRaw reads a request as it goes over the wire (RFC 9112): a line with
// method and address, headers, an empty line, the body.
func readRaw(text string) (*wire, error) {
	head, content := cutHead(text)
	lines := strings.Split(strings.ReplaceAll(head, "\r", ""), "\n")
	fields := strings.Fields(lines[0])
	w := &wire{method: fields[0]}
	target, host := fields[1], ""
	length := -1
	for i, line := range lines[1:] {
		if strings.TrimSpace(line) == "" {
			continue
		}
		if (line[0] == ' ' || line[0] == '\t') && len(w.header) > 0 { // a folded line (RFC 9112, 5.2)
			w.header[len(w.header)-1][1] += " " + trim(line)
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if !ok {
			return nil, fmt.Errorf("line %d, %q, is no header: it has no colon; an empty line comes before the body", i+2, short(line))
		}
		name, value = trim(name), trim(value)
		switch strings.ToLower(name) {
		case "host":
			host = value
		case "content-length":
			if n, err := strconv.Atoi(value); err == nil {
				length = n
			}
		case "connection", "accept-encoding", "expect", "keep-alive":
		default:
			w.header = append(w.header, [2]string{name, value})
		}
	}
	if strings.HasPrefix(target, "/") {
		if host == "" {
			return nil, errors.New("the request names no host; add a line such as Host: api.example")
		}
		if local(host) {
			host = "http://" + host
		} else {
			host = "https://" + host
		}
		target = host + target
	}
	user, err := w.address(target, false, true)
	if err != nil {
		return nil, err
	}
	if user != nil {
		return nil, errors.New("the address of the request holds a user name; write it as the header Authorization")
	}
	if !w.has("Accept") {
		w.without = append(w.without, "Accept")
	}
	if content = ofLength(content, length); content != "" {
		w.body = &body{pieces: []piece{{text: content}}}
		if err := w.inParts(content); err != nil {
			return nil, err
		}
	}
	return w, w.whole()
}

func cutHead(text string) (head, content string) {
	for i := 0; i < len(text); i++ {
		if text[i] != '\n' {
			continue
		}
		if rest := strings.TrimPrefix(text[i+1:], "\r"); strings.HasPrefix(rest, "\n") {
			return text[:i], rest[1:]
		}
	}
	return text, ""
}

// ofLength cuts the body where its length says that it ends. What was pasted has
// often lost or gained a line break at its end, so that a length that does not
// fit is not believed.
func ofLength(content string, length int) string {
	if length >= 0 && length <= len(content) && strings.TrimSpace(content[length:]) == "" {
		return content[:length]
	}
	return strings.TrimRight(content, "\r\n")
}

// inParts takes a multipart body apart (RFC 7578): the step gives it a boundary of its own.
func (w *wire) inParts(content string) error {
	kind := ""
	for i, h := range w.header {
		if strings.EqualFold(h[0], "Content-Type") {
			media, parameters, _ := mime.ParseMediaType(h[1])
			if media != "multipart/form-data" {
				return nil
			}
			if kind = parameters["boundary"]; kind == "" {
				return errors.New("the header Content-Type names no boundary between the parts of the body")
			}
			w.header = append(w.header[:i:i], w.header[i+1:]...)
			break
		}
	}
	if kind == "" {
		return nil
	}
	end := "\n"
	if strings.Contains(content, "\r\n") {
		end = "\r\n"
	}
	b := &body{form: true}
	reader := multipart.NewReader(strings.NewReader(content+end), kind)
	for {
		p, err := reader.NextRawPart()
		if errors.Is(err, io.EOF) {
			w.body = b
			return nil
		}
		if err != nil {
			return fmt.Errorf("the parts of the body cannot be read: %w", err)
		}
		text, err := io.ReadAll(p)
		if err != nil {
			return fmt.Errorf("the parts of the body cannot be read: %w", err)
		}
		for name := range p.Header {
			if name != "Content-Disposition" && name != "Content-Type" {
				w.say("The header %s of the part %s was left out.", name, p.FormName())
			}
		}
		b.parts = append(b.parts, part{name: p.FormName(), filename: p.FileName(), kind: p.Header.Get("Content-Type"), piece: piece{text: string(text)}})
	}
}
