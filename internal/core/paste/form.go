package paste

import (
	"fmt"
	"path"
	"strings"
)

// form reads one -F: name=text, name=@file, name=<file, with options after ;.
func (c *curl) form(value string, plain bool) error {
	name, content, ok := strings.Cut(value, "=")
	if !ok {
		return fmt.Errorf("the part %q has no =", value)
	}
	c.hasParts = true
	p := part{name: name}
	if plain {
		p.text = content
		c.parts = append(c.parts, p)
		return nil
	}
	if strings.HasPrefix(content, "(") || content == ")" {
		return fmt.Errorf("the part %s holds parts of its own, which a step cannot send", name)
	}
	mark := ""
	if content != "" && strings.IndexByte("@<", content[0]) >= 0 {
		mark, content = content[:1], content[1:]
	}
	stop := ";"
	if mark == "@" {
		stop = ";,"
	}
	text, rest := formWord(content, stop)
	if strings.HasPrefix(rest, ",") {
		return fmt.Errorf("the part %s holds several files; write a part for each", name)
	}
	for rest != "" {
		option := strings.TrimLeft(rest[1:], " \t")
		key := strings.ToLower(option[:strings.IndexByte(option+"=", '=')])
		value := option[min(len(key)+1, len(option)):]
		switch key {
		case "type":
			p.kind, rest = kindWord(value)
		case "filename":
			p.filename, rest = formWord(value, ";")
		case "headers", "encoder":
			return fmt.Errorf("the part %s has the option %s=, which a step cannot send; take it out if it does not matter", name, key)
		default:
			option, rest = formWord(option, ";")
			c.say("The part %s has %q behind its text, which the command does not send; put the text in quotes if it should.", name, ";"+option)
		}
	}
	switch mark {
	case "@":
		p.piece = c.file(text, "")
		if p.filename == "" {
			p.filename = path.Base(strings.ReplaceAll(text, `\`, "/"))
		}
		if p.kind == "" {
			p.kind = typeOf(p.filename)
		}
	case "<":
		p.piece = c.file(text, "")
		if kind := typeOf(text); p.kind == "" && kind != "application/octet-stream" && kind != "text/plain" {
			p.kind = kind
		}
	default:
		p.text = text
	}
	c.parts = append(c.parts, p)
	return nil
}

// formWord reads up to one of the stops; a word in quotes goes to its closing one.
func formWord(s, stops string) (word, rest string) {
	if s = strings.TrimLeft(s, " \t\n\r\v\f"); strings.HasPrefix(s, `"`) {
		var b strings.Builder
		for i := 1; i < len(s); i++ {
			switch {
			case s[i] == '\\' && i+1 < len(s) && (s[i+1] == '"' || s[i+1] == '\\'):
				i++
				b.WriteByte(s[i])
			case s[i] == '"':
				_, rest = cutAny(s[i+1:], stops)
				return b.String(), rest
			default:
				b.WriteByte(s[i])
			}
		}
	}
	word, rest = cutAny(s, stops)
	return strings.TrimRight(word, " \t\n\r\v\f"), rest
}

// kindWord reads a type up to the next option: parameters of its own begin with ; too.
func kindWord(s string) (kind, rest string) {
	for at := 0; ; at++ {
		i := strings.IndexByte(s[at:], ';')
		if i < 0 {
			return strings.TrimSpace(s), ""
		}
		at += i
		next := strings.ToLower(strings.TrimLeft(s[at+1:], " \t"))
		if strings.HasPrefix(next, "filename=") || strings.HasPrefix(next, "headers=") || strings.HasPrefix(next, "encoder=") {
			return strings.TrimSpace(s[:at]), s[at:]
		}
	}
}

// typeOf is what the command says of a file by the end of its name.
func typeOf(name string) string {
	switch strings.ToLower(path.Ext(name)) {
	case ".gif":
		return "image/gif"
	case ".jpg", ".jpeg":
		return "image/jpeg"
	case ".png":
		return "image/png"
	case ".svg":
		return "image/svg+xml"
	case ".txt":
		return "text/plain"
	case ".htm", ".html":
		return "text/html"
	case ".pdf":
		return "application/pdf"
	case ".xml":
		return "application/xml"
	}
	return "application/octet-stream"
}
