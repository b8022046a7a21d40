package paste

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"path"
	"regexp"
	"strconv"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// words reads a command as a shell would: quotes, escapes, continuation lines.
// Variables stay as they are written, since only the reader's shell knows them.
func words(text string) ([]string, []string, error) {
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), "")
	if err != nil {
		var pe syntax.ParseError
		if errors.As(err, &pe) {
			return nil, nil, fmt.Errorf("the command cannot be read at line %d, column %d: %s", pe.Pos.Line(), pe.Pos.Col(), pe.Text)
		}
		return nil, nil, fmt.Errorf("the command cannot be read: %w", err)
	}
	if len(file.Stmts) == 0 {
		return nil, nil, errors.New("there is no command here")
	}
	var notes []string
	if len(file.Stmts) > 1 {
		notes = append(notes, "Only the first command was read.")
	}
	cmd := file.Stmts[0].Cmd
	for {
		b, ok := cmd.(*syntax.BinaryCmd)
		if !ok {
			break
		}
		notes = append(notes, "What follows the command, after "+b.Op.String()+", was left out.")
		cmd = b.X.Cmd
	}
	call, ok := cmd.(*syntax.CallExpr)
	if !ok {
		return nil, nil, errors.New("this is more than one command; paste the curl command alone")
	}
	var out []string
	for _, w := range call.Args {
		s, err := word(w.Parts, false)
		if err != nil {
			return nil, nil, err
		}
		out = append(out, s)
	}
	return out, notes, nil
}

// word puts the parts of a word together as a shell does.
func word(parts []syntax.WordPart, quoted bool) (string, error) {
	var b strings.Builder
	for _, p := range parts {
		switch p := p.(type) {
		case *syntax.Lit:
			b.WriteString(unescape(p.Value, quoted))
		case *syntax.SglQuoted:
			if p.Dollar {
				b.WriteString(ansi(p.Value))
			} else {
				b.WriteString(p.Value)
			}
		case *syntax.DblQuoted:
			s, err := word(p.Parts, true)
			if err != nil {
				return "", err
			}
			b.WriteString(s)
		case *syntax.ParamExp:
			if p.Param == nil {
				return "", errors.New("the command works with a variable; write its value in its place")
			}
			b.WriteString("$" + p.Param.Value)
		default:
			return "", errors.New("the command runs another command within itself; replace that part by its result")
		}
	}
	return b.String(), nil
}

// unescape takes the backslashes out that a shell would: all of them outside of
// quotes, within double quotes those before the four that mean something there.
func unescape(s string, quoted bool) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) {
			next := s[i+1]
			if next == '\n' {
				i++
				continue
			}
			if !quoted || strings.IndexByte("$`\"\\", next) >= 0 {
				i++
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// ansi decodes what stands in $'…'.
func ansi(s string) string {
	var b strings.Builder
	for len(s) > 0 {
		if s[0] != '\\' || len(s) == 1 {
			b.WriteByte(s[0])
			s = s[1:]
			continue
		}
		if s[1] == '\'' || s[1] == '"' || s[1] == '?' {
			b.WriteByte(s[1])
			s = s[2:]
			continue
		}
		if r, wide, rest, err := strconv.UnquoteChar(s, 0); err == nil {
			if wide {
				b.WriteRune(r)
			} else {
				b.WriteByte(byte(r))
			}
			s = rest
			continue
		}
		b.WriteByte(s[0])
		s = s[1:]
	}
	return b.String()
}

// options of curl that take a value, and what becomes of each. Those that are
// not here or in switches are refused by name.
var withValue = map[string]string{
	"-X": "request", "--request": "request", "-H": "header", "--header": "header", "--url": "url",
	"-d": "data", "--data": "data", "--data-ascii": "data", "--data-raw": "data-raw", "--data-binary": "data-binary", "--data-urlencode": "data-urlencode",
	"--json": "json", "-F": "form", "--form": "form", "--form-string": "form-string", "-u": "user", "--user": "user", "--oauth2-bearer": "bearer",
	"-b": "cookie", "--cookie": "cookie", "-A": "agent", "--user-agent": "agent", "-e": "referer", "--referer": "referer", "-T": "upload", "--upload-file": "upload",
	"--url-query": "url-query",
	"-o":          "", "--output": "", "-m": "", "--max-time": "", "--connect-timeout": "", "--retry": "", "--retry-delay": "", "--retry-max-time": "", "-w": "", "--write-out": "",
	"-c": "", "--cookie-jar": "", "-D": "", "--dump-header": "", "--cacert": "", "--limit-rate": "", "--max-redirs": "", "-y": "", "-Y": "", "--output-dir": "", "--trace-ascii": "", "--trace": "", "--stderr": "",
	"-x": "proxy", "--proxy": "proxy", "--resolve": "resolve", "--connect-to": "resolve", "-E": "certificate", "--cert": "certificate", "--key": "certificate", "--interface": "resolve",
	"--unix-socket": "refused", "-K": "refused", "--config": "refused", "--aws-sigv4": "refused", "-Q": "refused", "--quote": "refused",
}

var switches = map[string]string{
	"-G": "get", "--get": "get", "-I": "head", "--head": "head",
	"-s": "", "--silent": "", "-S": "", "--show-error": "", "-L": "", "--location": "", "-i": "", "--include": "", "-v": "", "--verbose": "", "-f": "", "--fail": "", "--fail-with-body": "",
	"--compressed": "", "-g": "", "--globoff": "", "-O": "", "--remote-name": "", "-J": "", "--remote-header-name": "", "-N": "", "--no-buffer": "", "-#": "", "--progress-bar": "", "--no-progress-meter": "",
	"--http1.1": "", "--http2": "", "-0": "", "--http1.0": "", "--http2-prior-knowledge": "", "-4": "", "-6": "", "--ipv4": "", "--ipv6": "", "--tlsv1.2": "", "--tlsv1.3": "", "--ssl": "", "--basic": "", "--anyauth": "", "--raw": "",
	"--create-dirs": "", "--path-as-is": "", "--no-keepalive": "", "--tcp-nodelay": "", "--tr-encoding": "", "-q": "", "--disable": "", "--styled-output": "", "--no-styled-output": "",
	"-k": "insecure", "--insecure": "insecure", "--location-trusted": "trusted", "--digest": "refused", "--ntlm": "refused", "--negotiate": "refused",
}

type curl struct {
	request
	data     []string
	hasData  bool
	isGet    bool
	isHead   bool
	explicit string
	asJSON   bool
	ref      map[string]bool
}

func readCurl(text string) (*request, error) {
	list, notes, err := words(text)
	if err != nil {
		return nil, err
	}
	c := &curl{ref: map[string]bool{}}
	c.notes = notes
	for i := 1; i < len(list); i++ {
		w := list[i]
		switch {
		case w == "--":
		case strings.HasPrefix(w, "--"):
			name, value, has := strings.Cut(w, "=") // curl itself takes no =, but people write it
			if what, ok := switches[name]; ok && !has {
				if err := c.take(name, what, ""); err != nil {
					return nil, err
				}
				continue
			}
			what, ok := withValue[name]
			if !ok {
				return nil, fmt.Errorf("the option %s is not known here; take it out if it does not change what is sent", name)
			}
			if !has {
				if i++; i >= len(list) {
					return nil, fmt.Errorf("the option %s needs a value", name)
				}
				value = list[i]
			}
			if err := c.take(name, what, value); err != nil {
				return nil, err
			}
		case strings.HasPrefix(w, "-") && len(w) > 1:
			if i, err = c.short(w[1:], list, i); err != nil {
				return nil, err
			}
		case c.url == "":
			c.url = w
		default:
			c.notes = append(c.notes, "Only the first address was read; "+w+" was left out.")
		}
	}
	return c.finish()
}

// short reads letters that stand together, as -sSLXPOST.
func (c *curl) short(letters string, list []string, i int) (int, error) {
	for j := 0; j < len(letters); j++ {
		name := "-" + letters[j:j+1]
		if what, ok := switches[name]; ok {
			if err := c.take(name, what, ""); err != nil {
				return i, err
			}
			continue
		}
		what, ok := withValue[name]
		if !ok {
			return i, fmt.Errorf("the option %s is not known here; take it out if it does not change what is sent", name)
		}
		value := letters[j+1:]
		if value == "" {
			if i++; i >= len(list) {
				return i, fmt.Errorf("the option %s needs a value", name)
			}
			value = list[i]
		}
		return i, c.take(name, what, value)
	}
	return i, nil
}

func (c *curl) take(name, what, value string) error {
	switch what {
	case "":
	case "refused":
		return fmt.Errorf("%s cannot be done by a step", name)
	case "insecure":
		c.notes = append(c.notes, "Certificates are always checked; -k was left out.")
	case "trusted":
		c.notes = append(c.notes, "A sign-in never follows to another host; "+name+" was left out.")
	case "proxy", "resolve", "certificate":
		c.notes = append(c.notes, fmt.Sprintf("%s belongs to the machine that calls, and was left out.", name))
	case "get":
		c.isGet = true
	case "head":
		c.isHead = true
	case "request":
		c.explicit = strings.ToUpper(value)
	case "url":
		c.url = value
	case "header":
		return c.headerLine(value)
	case "user":
		c.user = value
		if !strings.Contains(value, ":") {
			c.user += ":"
		}
	case "bearer":
		c.bearer = value
	case "cookie":
		if !strings.Contains(value, "=") {
			c.notes = append(c.notes, "The cookies in the file "+value+" were left out; paste them in their place.")
			return nil
		}
		if c.cookie != "" {
			c.cookie += ";"
		}
		c.cookie += value
	case "agent":
		c.header = append(c.header, [2]string{"User-Agent", value})
	case "referer":
		c.header = append(c.header, [2]string{"Referer", strings.TrimSuffix(value, ";auto")})
	case "upload":
		c.file, c.hasBody = value, true
	case "url-query":
		c.addQuery(value)
	case "form", "form-string":
		return c.form(value, what == "form-string")
	default:
		return c.addData(what, value)
	}
	return nil
}

func (c *curl) headerLine(line string) error {
	if strings.HasPrefix(line, "@") {
		c.notes = append(c.notes, "The headers in the file "+line[1:]+" were left out; paste them in their place.")
		return nil
	}
	name, value, ok := strings.Cut(line, ":")
	if !ok {
		if n, empty := strings.CutSuffix(line, ";"); empty {
			c.header = append(c.header, [2]string{strings.TrimSpace(n), ""})
			return nil
		}
		return fmt.Errorf("the header %q has no colon", line)
	}
	c.header = append(c.header, [2]string{strings.TrimSpace(name), strings.TrimSpace(value)})
	return nil
}

func (c *curl) addQuery(value string) {
	if plus, ok := strings.CutPrefix(value, "+"); ok {
		c.query = append(c.query, pairs(plus)...)
		return
	}
	name, v, ok := strings.Cut(value, "=")
	if !ok {
		name, v = "", value
	}
	if name == "" { // a bare value: it stands alone in the query
		name, v = v, ""
	}
	c.query = append(c.query, [2]string{name, v})
}

// addData gathers -d and its kin; several are joined by &.
func (c *curl) addData(what, value string) error {
	c.hasData = true
	switch what {
	case "json":
		if strings.HasPrefix(value, "@") {
			return c.dataFile(value[1:], "application/json")
		}
		c.asJSON = true
		c.data = append(c.data, value)
		return nil
	case "data-raw":
	case "data-urlencode":
		value = urlEncoded(value)
		if strings.HasPrefix(value, "@") {
			return errors.New("--data-urlencode with a file cannot become a step; use --data-binary @file, or paste the value")
		}
	default:
		if strings.HasPrefix(value, "@") {
			if what != "data-binary" {
				c.notes = append(c.notes, "The file is sent as it is; the command would leave out its line breaks.")
			}
			return c.dataFile(value[1:], "application/x-www-form-urlencoded")
		}
	}
	c.data = append(c.data, value)
	return nil
}

func (c *curl) dataFile(name, kind string) error {
	if len(c.data) > 0 || c.file != "" {
		return errors.New("the body is made of a file and more; a step sends one or the other")
	}
	c.file, c.kind, c.hasBody = name, kind, true
	return nil
}

// urlEncoded does what --data-urlencode does: content, =content, name=content.
func urlEncoded(value string) string {
	i := strings.IndexAny(value, "=@")
	switch {
	case i < 0:
		return curlEscape(value)
	case value[i] == '@':
		return "@" + value[i+1:]
	case i == 0:
		return curlEscape(value[1:])
	}
	return value[:i] + "=" + curlEscape(value[i+1:])
}

func curlEscape(s string) string { return url.QueryEscape(s) }

var formOption = regexp.MustCompile(`;\s*(type|filename|headers|encoder)=`)

// form reads one -F: name=text, name=@file, name=<file, with options after ;.
func (c *curl) form(value string, plain bool) error {
	name, content, ok := strings.Cut(value, "=")
	if !ok {
		return fmt.Errorf("the part %q has no =", value)
	}
	p := part{name: name, text: content}
	if !plain {
		if at := formOption.FindAllStringSubmatchIndex(content, -1); at != nil && !strings.HasPrefix(content, `"`) {
			p.text = content[:at[0][0]]
			for i, m := range at {
				end := len(content)
				if i+1 < len(at) {
					end = at[i+1][0]
				}
				v := strings.Trim(strings.TrimSpace(content[m[1]:end]), `"`)
				switch content[m[2]:m[3]] {
				case "type":
					p.kind = v
				case "filename":
					p.filename = v
				default:
					c.notes = append(c.notes, "The option "+content[m[2]:m[3]]+" of the part "+name+" was left out.")
				}
			}
		}
		if len(p.text) > 1 && strings.HasPrefix(p.text, `"`) && strings.HasSuffix(p.text, `"`) {
			p.text = strings.ReplaceAll(strings.ReplaceAll(p.text[1:len(p.text)-1], `\"`, `"`), `\\`, `\`)
		}
		switch {
		case strings.HasPrefix(p.text, "@"):
			p.file, p.text = strings.Trim(p.text[1:], `"`), ""
			if p.filename == "" {
				p.filename = path.Base(p.file)
			}
		case strings.HasPrefix(p.text, "<"):
			return fmt.Errorf("the part %s reads its text from the file %s; paste the text in its place", name, p.text[1:])
		}
	}
	c.parts = append(c.parts, p)
	return nil
}

func (c *curl) finish() (*request, error) {
	r := &c.request
	if r.url == "" {
		return nil, errors.New("the command names no address")
	}
	switch {
	case c.isGet:
		for _, d := range c.data {
			r.query = append(r.query, pairs(d)...)
		}
	case c.hasData && r.file == "":
		r.hasBody, r.kind = true, "application/x-www-form-urlencoded"
		if c.asJSON {
			r.kind = "application/json"
			r.body = []byte(strings.Join(c.data, ""))
		} else {
			r.body = []byte(strings.Join(c.data, "&"))
		}
	}
	if c.asJSON || r.kind == "application/json" {
		if !c.has("Accept") {
			r.header = append(r.header, [2]string{"Accept", "application/json"})
		}
	}
	r.method = "GET"
	switch {
	case c.explicit != "":
		r.method = c.explicit
	case c.isHead:
		r.method = "HEAD"
	case c.isGet:
	case r.parts != nil || r.kind != "":
		r.method = "POST"
	case r.file != "":
		r.method = "PUT"
		if strings.HasSuffix(r.url, "/") {
			r.url += url.PathEscape(path.Base(r.file))
		}
	}
	if r.cookie != "" {
		for _, h := range r.header {
			if strings.EqualFold(h[0], "cookie") {
				r.cookie = ""
			}
		}
	}
	return r, nil
}

func (c *curl) has(name string) bool {
	for _, h := range c.header {
		if strings.EqualFold(h[0], name) {
			return true
		}
	}
	return false
}

func decodeBasic(s string) (user, password string, ok bool) {
	b, err := base64.StdEncoding.DecodeString(strings.TrimSpace(s))
	if err != nil {
		return "", "", false
	}
	return strings.Cut(string(b), ":")
}
