package expr

import (
	"errors"
	"fmt"
	"net/url"
	"sort"
	"strings"

	"golang.org/x/net/idna"
)

var addressFunctions = group("addresses",
	fn("url_parts(url: text) object", "The parts of an address: scheme, host, port, path, query as an object, and fragment.", `url_parts("https://ottermere.example:8080/kilns?cone=9#top")`, `{"fragment":"top","host":"ottermere.example","path":"/kilns","port":"8080","query":{"cone":"9"},"scheme":"https"}`, func(m *machine, a args) (any, error) {
		u, err := parseAddress(a.text(0))
		if err != nil {
			return nil, err
		}
		return map[string]any{"scheme": u.Scheme, "host": u.Hostname(), "port": u.Port(), "path": u.Path, "query": fromValues(u.Query()), "fragment": u.Fragment}, nil
	}, fails("the text is no address"), found("parse link host path port query")),
	fn("domain(text: text) text", "The domain of an address or a mail address: small letters, without www., in ASCII (IDNA).", `domain("https://WWW.Ottermere.example/kilns")`, `"ottermere.example"`, func(_ *machine, a args) (any, error) { return domainOf(a.text(0)) }, fails("no domain is found"), found("host website company email normalise"), byLetters),
	fn("query_values(url: text) object", "The parameters of an address or of a query; one that stands several times is a list.", `query_values("https://ottermere.example/?cone=9&cone=6")`, `{"cone":["9","6"]}`, func(_ *machine, a args) (any, error) {
		s := strings.TrimSpace(a.text(0))
		if i := strings.IndexByte(s, '?'); i >= 0 {
			s, _, _ = strings.Cut(s[i+1:], "#")
		} else if strings.Contains(s, "://") {
			s = ""
		}
		v, err := url.ParseQuery(s)
		if err != nil {
			return nil, fmt.Errorf("%s is no query: a %% must be followed by two signs of 0 to 9 and a to f", show(s))
		}
		return fromValues(v), nil
	}, fails("the query cannot be read"), found("parameters parse utm query string")),
	fn("with_query(url: text, values: object) text", "An address with these parameters, in place of those of the same name; nothing takes one out.", `with_query("https://ottermere.example/?a=1", {"b": 2})`, `"https://ottermere.example/?a=1&b=2"`, func(_ *machine, a args) (any, error) {
		u, err := parseAddress(a.text(0))
		if err != nil {
			return nil, err
		}
		q := u.Query()
		for k, v := range a.object(1) {
			q.Del(k)
			addValue(q, k, v)
		}
		u.RawQuery = spaced(q.Encode())
		return u.String(), nil
	}, fails("the text is no address"), found("add parameter link build utm")),
)

func parseAddress(s string) (*url.URL, error) {
	u, err := url.Parse(strings.TrimSpace(s))
	if err != nil || u.Host == "" {
		return nil, fmt.Errorf("%s is no whole address; it is written as https://ottermere.example/kilns", show(s))
	}
	return u, nil
}

func domainOf(s string) (any, error) {
	host := strings.TrimSpace(s)
	if _, after, ok := strings.Cut(host, "://"); ok {
		host = after
	}
	if i := strings.IndexAny(host, "/?#"); i >= 0 {
		host = host[:i]
	}
	if i := strings.LastIndexByte(host, '@'); i >= 0 {
		host = host[i+1:]
	}
	host = strings.TrimRight(strings.TrimSuffix(host, ">"), ".")
	if i := strings.LastIndexByte(host, ':'); i >= 0 && onlyDigits(host[i+1:]) {
		host = host[:i]
	}
	host, err := idna.Lookup.ToASCII(strings.ToLower(host))
	if err != nil || !strings.Contains(host, ".") || strings.ContainsAny(host, " \t") {
		return nil, fmt.Errorf("%s has no domain", show(s))
	}
	if rest := strings.TrimPrefix(host, "www."); strings.Contains(rest, ".") {
		host = rest
	}
	return host, nil
}

// fromValues makes an object of the parameters of a query or a form.
func fromValues(v url.Values) map[string]any {
	out := make(map[string]any, len(v))
	for k, list := range v {
		if len(list) == 1 {
			out[k] = list[0]
			continue
		}
		all := make([]any, len(list))
		for i, s := range list {
			all[i] = s
		}
		out[k] = all
	}
	return out
}

// addValue puts a field into a query or a form: a list several times, nothing
// not at all.
func addValue(q url.Values, name string, v any) {
	switch v := v.(type) {
	case nil:
	case []any:
		for _, e := range v {
			addValue(q, name, e)
		}
	default:
		q.Add(name, Text(v))
	}
}

// spaced writes a blank as %20, which is right in queries and in forms.
func spaced(encoded string) string { return strings.ReplaceAll(encoded, "+", "%20") }

// formText writes an object as a query or a form does, in order of its names.
func formText(blank string) func(*machine, args) (any, error) {
	return func(m *machine, a args) (any, error) {
		o := a.object(0)
		names := make([]string, 0, len(o))
		for k, v := range o {
			if _, ok := v.(map[string]any); ok {
				return nil, errors.New("the field " + k + " is an object; json(…) makes text of it")
			}
			names = append(names, k)
		}
		sort.Strings(names)
		q := url.Values{}
		for _, k := range names {
			if err := errors.Join(m.written(0, o[k]), m.charge(0, 3*len(k))); err != nil {
				return nil, err
			}
			addValue(q, k, o[k])
		}
		return strings.ReplaceAll(q.Encode(), "+", blank), nil
	}
}
