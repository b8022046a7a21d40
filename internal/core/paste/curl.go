package paste

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"

	"youngtrellis/internal/core/connector"
)

// curl gathers what the options of a command say, as the program itself does: some
// add up, some go back on each other, and some cannot stand together.
type curl struct {
	wire
	url      string
	explicit string // the method of -X
	user     string // user:password
	bearer   string
	cookie   string
	referer  string
	ranges   string
	isGet    bool
	isHead   bool
	literal  bool // braces in the address mean nothing
	asIs     bool
	asJSON   bool
	hasQuery bool // of --url-query
	data     []piece
	hasData  bool
	parts    []part
	hasParts bool
	upload   *string
	stdin    *string
	input    string // the file that is the standard input
}

func readCurl(text string) (*wire, error) {
	read := inShell
	if other, ok := windows(text); ok {
		read = other
	}
	if strings.ContainsAny(unquoted(text), "“”‘’") {
		return nil, errors.New("the command holds typographic quotes, as a page or a letter sets them; write ' or \" in their place")
	}
	cmd, err := read(spaces(text))
	if err != nil {
		return nil, err
	}
	c := &curl{}
	c.notes, c.stdin, c.input = cmd.notes, cmd.stdin, cmd.file
	if err := c.read(cmd.words); err != nil {
		return nil, err
	}
	return c.finish()
}

// spaces makes blanks of the fixed ones that pages set, outside of quotes.
func spaces(text string) string {
	var b strings.Builder
	in := rune(0)
	skip := false
	for _, c := range text {
		switch {
		case skip:
			skip = false
		case c == '\\' && in != '\'':
			skip = true
		case in == 0 && (c == '\'' || c == '"'):
			in = c
		case c == in:
			in = 0
		case c == '\u00a0' && in == 0:
			c = ' '
		}
		b.WriteRune(c)
	}
	return b.String()
}

func (c *curl) read(list []string) error {
	if len(list) == 0 {
		return errors.New("there is no command here")
	}
	for i := 1; i < len(list); i++ {
		w := list[i]
		switch {
		case strings.HasPrefix(w, "–"), strings.HasPrefix(w, "—"):
			return fmt.Errorf("%s begins with a dash as a page sets it; write - or -- in its place", w)
		case w == "--", w == "": // what a continued line leaves
		case strings.HasPrefix(w, "--"):
			written, value, has := strings.Cut(w, "=") // curl itself takes no =, but people write it
			name, o, err := longOption(written)
			if err != nil {
				return err
			}
			if o.value && !has {
				if i++; i >= len(list) {
					return fmt.Errorf("the option %s needs a value", name)
				}
				value = list[i]
			}
			if err := c.take(name, o.what, value); err != nil {
				return err
			}
		case strings.HasPrefix(w, "-") && len(w) > 1:
			var err error
			if i, err = c.short(w[1:], list, i); err != nil {
				return err
			}
		case c.url == "":
			c.url = w
		default:
			c.say("Only the first address was read; %s was left out.", w)
		}
	}
	return nil
}

// short reads letters that stand together, as -sSLXPOST.
func (c *curl) short(letters string, list []string, i int) (int, error) {
	for j := 0; j < len(letters); j++ {
		name := "-" + letters[j:j+1]
		o, ok := options[name]
		if !ok {
			return i, unknownOption(name)
		}
		if !o.value {
			if err := c.take(name, o.what, ""); err != nil {
				return i, err
			}
			continue
		}
		value := letters[j+1:]
		if value == "" {
			if i++; i >= len(list) {
				return i, fmt.Errorf("the option %s needs a value", name)
			}
			value = list[i]
		}
		return i, c.take(name, o.what, value)
	}
	return i, nil
}

func (c *curl) take(name, what, value string) error {
	switch what {
	case "":
	case "refused":
		return fmt.Errorf("%s cannot be done by a step", name)
	case "insecure":
		c.say("Certificates are always checked; %s was left out.", name)
	case "trusted":
		c.say("A sign-in never follows to another host; %s was left out.", name)
	case "machine":
		c.say("%s belongs to the machine that calls, and was left out.", name)
	case "anyauth":
		c.say("%s would ask first how to sign in; the user name and password go with the first call.", name)
	case "method":
		c.say("%s was left out: where a call is sent elsewhere, a write is not made again.", name)
	case "netrc":
		c.say("%s reads the password from a file; give it to a connection in its place.", name)
	case "te":
		c.say("%s was left out: it belongs to the transport.", name)
	case "crlf", "escape":
		return fmt.Errorf("%s changes what is sent in a way that a step cannot; take it out, and write the text as it should go", name)
	case "get":
		c.isGet = true
	case "head":
		c.isHead = true
	case "glob":
		c.literal = true
	case "as-is":
		c.asIs = true
	case "request":
		c.explicit = value
	case "url":
		if c.url != "" {
			c.say("Only the first address was read; %s was left out.", value)
			return nil
		}
		c.url = value
	case "header":
		return c.headerLine(value)
	case "user":
		c.user = value
		if !strings.Contains(value, ":") {
			c.ask = append(c.ask, Placeholder{"the password", "a password, which the command would ask for"})
			c.user += ":"
		}
	case "bearer":
		c.bearer = value
	case "cookie":
		if !strings.Contains(value, "=") {
			c.say("The cookies in the file %s were left out; paste them in their place.", value)
			return nil
		}
		if c.cookie != "" {
			c.cookie += ";"
		}
		c.cookie += value
	case "agent":
		c.say("User-Agent is left out: calls name Young Trellis.")
	case "referer":
		c.referer = strings.TrimSuffix(value, ";auto")
	case "range":
		c.ranges = value
	case "upload":
		if c.upload != nil {
			c.say("Only the first file was read; %s was left out.", value)
			return nil
		}
		c.upload = &value
	case "query":
		return c.addQuery(value)
	case "form", "form-string":
		return c.form(value, what == "form-string")
	default:
		return c.addData(what, value)
	}
	return nil
}

// headerLine reads a header: with nothing behind the colon it is not sent, with ; in
// place of the colon it is sent empty.
func (c *curl) headerLine(line string) error {
	if strings.HasPrefix(line, "@") {
		c.say("The headers in the file %s were left out; paste them in their place.", line[1:])
		return nil
	}
	name, value, ok := strings.Cut(line, ":")
	if name = trim(name); !ok {
		bare, empty := strings.CutSuffix(trim(line), ";")
		if !empty {
			return fmt.Errorf("the header %q has no colon", line)
		}
		c.header = append(c.header, [2]string{trim(bare), ""})
		return nil
	}
	if value = trim(value); value == "" {
		c.without = append(c.without, name)
		return nil
	}
	c.header = append(c.header, [2]string{name, value})
	return nil
}

// addQuery does what --url-query does: content, =content, name=content, each encoded
// but for the name, and +content as it is.
func (c *curl) addQuery(value string) error {
	if plus, ok := strings.CutPrefix(value, "+"); ok {
		c.appendQuery(plus)
		return nil
	}
	name, content, ok := strings.Cut(value, "=")
	switch _, file, fromFile := strings.Cut(value, "@"); {
	case !ok && fromFile:
		return fmt.Errorf("the query is read from the file %s; paste what it holds in its place", file)
	case !ok:
		c.appendQuery(curlEscape(value))
	case name == "":
		c.appendQuery(curlEscape(content))
	default:
		c.appendQuery(name + "=" + curlEscape(content))
	}
	return nil
}

func (c *curl) appendQuery(s string) {
	if c.hasQuery {
		c.query += "&"
	}
	c.query += s
	c.hasQuery = true
}

// behind puts more to the query that the address has.
func (c *curl) behind(s string) {
	if c.query != "" && !strings.HasSuffix(c.query, "&") {
		c.query += "&"
	}
	c.query += s
}

// addData gathers -d and its kin; several are joined by &, but those of --json by nothing.
func (c *curl) addData(what, value string) error {
	if c.hasData && what != "json" {
		c.data = append(c.data, piece{text: "&"})
	}
	c.hasData = true
	c.asJSON = c.asJSON || what == "json"
	how := map[string]string{"data": "lines", "data-encoded": "encoded"}[what]
	switch {
	case what == "data-raw":
		c.data = append(c.data, piece{text: value})
	case what == "data-encoded":
		i := strings.IndexByte(value, '=')
		if i < 0 {
			i = strings.IndexByte(value, '@')
		}
		switch {
		case i < 0:
			c.data = append(c.data, piece{text: curlEscape(value)})
		case i > 0:
			c.data = append(c.data, piece{text: value[:i] + "="})
			fallthrough
		default:
			if value[i] == '=' {
				c.data = append(c.data, piece{text: curlEscape(value[i+1:])})
			} else {
				c.data = append(c.data, c.file(value[i+1:], how))
			}
		}
	case strings.HasPrefix(value, "@"):
		c.data = append(c.data, c.file(value[1:], how))
	default:
		c.data = append(c.data, piece{text: value})
	}
	return nil
}

// file is what a command reads; - is its standard input, which may stand in the text.
func (c *curl) file(name, how string) piece {
	if name != "-" {
		return piece{file: name, how: how}
	}
	switch {
	case c.stdin != nil:
		text := *c.stdin
		switch how {
		case "lines":
			text = strings.NewReplacer("\r", "", "\n", "", "\x00", "").Replace(text)
		case "encoded":
			text = curlEscape(text)
		}
		return piece{text: text}
	case c.input != "":
		return piece{file: c.input, how: how}
	}
	return piece{file: "standard input", how: how}
}

// curlEscape is how --data-urlencode and --url-query encode.
func curlEscape(s string) string { return url.QueryEscape(s) }

// conflict names the two kinds of body that a command asks for, of which it sends none.
func (c *curl) conflict() error {
	var asked []string
	for _, x := range []struct {
		there bool
		name  string
	}{{c.isHead, "-I"}, {c.hasData && !c.isGet, "-d"}, {c.hasParts, "-F"}, {c.upload != nil, "-T"}} {
		if x.there {
			asked = append(asked, x.name)
		}
	}
	if len(asked) > 1 {
		return fmt.Errorf("%s and %s cannot stand together: a call is of one kind", asked[0], asked[1])
	}
	return nil
}

func (c *curl) finish() (*wire, error) {
	w := &c.wire
	if c.url == "" {
		return nil, errors.New("the command names no address")
	}
	if err := c.conflict(); err != nil {
		return nil, err
	}
	more, _, _ := strings.Cut(w.query, "#") // of --url-query: it comes behind what the address says
	w.query = ""
	user, err := w.address(c.url, !c.literal, c.asIs)
	if err != nil {
		return nil, err
	}
	if c.hasQuery {
		if c.behind(more); w.query == "" {
			w.say(questionMark)
		}
	}
	if c.isGet && c.hasData {
		if c.hasQuery {
			return nil, errors.New("-G and --url-query cannot stand together: releases of the program differ in what they send; use one of them")
		}
		for _, p := range c.data {
			if p.file != "" {
				return nil, fmt.Errorf("the query is read from the file %s; paste what it holds in its place", p.file)
			}
		}
		data, _, _ := strings.Cut(joined(c.data), "#")
		if c.behind(data); w.query == "" {
			w.say(questionMark)
		}
	}
	if encoded := connector.LegalQuery(w.query); encoded != w.query {
		w.query = encoded
		w.say("The address holds signs that cannot stand in one; they go out encoded, as %s.", short(w.target()))
	}
	w.method = "GET"
	c.content()
	if c.explicit != "" {
		w.method = c.explicit
	}
	if c.ranges != "" && w.body != nil {
		return nil, errors.New("-r asks for a part of an answer, and this command sends something; take it out")
	}
	c.proofs(user)
	for _, h := range [][2]string{{"Range", c.ranges}, {"Referer", c.referer}, {"Cookie", c.cookie}} {
		if h[0] == "Range" && h[1] != "" {
			h[1] = "bytes=" + h[1]
		}
		if h[1] != "" && !w.has(h[0]) {
			w.header = append(w.header, h)
		}
	}
	if !w.has("Accept") {
		accept := "*/*"
		if c.asJSON {
			accept = "application/json"
		}
		w.header = append(w.header, [2]string{"Accept", accept})
	}
	return w, w.whole()
}

// content is the body, with the method and the type that go with it.
func (c *curl) content() {
	w := &c.wire
	kind := ""
	switch {
	case c.isHead:
		w.method = "HEAD"
	case c.hasParts:
		w.method, w.body = "POST", &body{parts: c.parts, form: true}
		if w.has("Content-Type") && len(w.values("Content-Type")) == 0 {
			w.say(partsNameTheirs)
			w.without = slices.DeleteFunc(w.without, func(n string) bool { return strings.EqualFold(n, "content-type") })
		}
	case c.upload != nil:
		w.method, w.body = "PUT", &body{pieces: []piece{c.file(*c.upload, "")}}
		if strings.HasSuffix(w.path, "/") && *c.upload != "-" {
			w.path += url.PathEscape(path.Base(strings.ReplaceAll(*c.upload, `\`, "/")))
		}
	case c.hasData && !c.isGet:
		w.method, w.body = "POST", &body{pieces: c.data}
		kind = "application/x-www-form-urlencoded"
	}
	if c.asJSON {
		kind = "application/json"
	}
	if kind != "" && !w.has("Content-Type") {
		w.header = append(w.header, [2]string{"Content-Type", kind})
	}
}

// proofs puts what signs in among the headers; a header that was given wins.
func (c *curl) proofs(fromAddress *url.Userinfo) {
	w := &c.wire
	user, password, given := strings.Cut(c.user, ":")
	if !given && fromAddress != nil {
		user, given = fromAddress.Username(), true
		password, _ = fromAddress.Password()
	}
	if w.has("Authorization") {
		if given || c.bearer != "" {
			w.say("The header Authorization stands there too, and is what is sent; the user name and password, or the token, were left out.")
		}
		return
	}
	switch {
	case c.bearer != "":
		w.header = append(w.header, [2]string{"Authorization", "Bearer " + c.bearer})
	case given:
		w.header = append(w.header, [2]string{"Authorization", "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))})
	}
}

const questionMark = "The question mark at the end of the address is left out."

const partsNameTheirs = "Content-Type is left out: a body of parts names its own, with the boundary between them."

func joined(list []piece) string {
	var b strings.Builder
	for _, p := range list {
		b.WriteString(p.text)
	}
	return b.String()
}
