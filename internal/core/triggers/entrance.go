package triggers

import (
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"

	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/proof"
)

// Entrance is which calls of an address are looked at, before anything is proven.
type Entrance struct {
	Methods   []string       // none: POST
	From      []netip.Prefix // networks; none: from anywhere
	Headers   []string       // of a call that become fields of its items, by canonical name
	Challenge string         // parameter or field whose value is the answer to a call that only asks whether somebody is here; "" for none
}

// Allowed are the methods that are taken.
func (e Entrance) Allowed() []string {
	if len(e.Methods) == 0 {
		return []string{http.MethodPost}
	}
	return e.Methods
}

// Takes tells whether a method is taken.
func (e Entrance) Takes(method string) bool { return slices.Contains(e.Allowed(), method) }

// Lets tells whether somebody may call from an address.
func (e Entrance) Lets(address string) bool {
	if len(e.From) == 0 {
		return true
	}
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	ip = ip.Unmap().WithZone("")
	return slices.ContainsFunc(e.From, func(p netip.Prefix) bool { return p.Contains(ip) })
}

// entering are the settings of an entrance.
type entering struct {
	Methods   []string `form:"methods" title:"Methods" part:"Which calls are taken" hint:"list" example:"[POST, PUT]" help:"POST unless said: also GET, PUT, PATCH or DELETE."`
	From      []string `form:"from" title:"From the addresses" part:"Which calls are taken" hint:"list" example:"[203.0.113.7, 198.51.100.0/24]" help:"Addresses and networks that may call; from anywhere unless said."`
	Headers   []string `form:"headers" title:"Headers to keep" part:"Which calls are taken" hint:"list" example:"[X-Kiln-Event]" help:"Headers of the call that items have in their field headers, by their names in small letters, as item.headers[\"x-kiln-event\"]."`
	Challenge string   `form:"challenge" title:"Answers with" part:"Which calls are taken" example:"challenge" help:"Where the other side asks first whether somebody is here: the parameter or field of that call whose value is the answer. Such a call starts nothing."`
}

// methods are those that may be taken.
var methods = []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete}

func (e *entering) entrance() (out Entrance, err error) {
	for i, m := range e.Methods {
		if m = strings.ToUpper(strings.TrimSpace(m)); !slices.Contains(methods, m) {
			return out, &form.Error{Field: fmt.Sprintf("methods[%d]", i), Err: fmt.Errorf("%q is no method that is taken; they are %s", m, strings.Join(methods, ", "))}
		}
		out.Methods = append(out.Methods, m)
	}
	for i, text := range e.From {
		text = strings.TrimSpace(text)
		p, err := netip.ParsePrefix(text)
		if err != nil {
			ip, wrong := netip.ParseAddr(text)
			if wrong != nil {
				return out, &form.Error{Field: fmt.Sprintf("from[%d]", i), Err: errors.New("it is neither an address nor a network; write it as 203.0.113.7 or 198.51.100.0/24")}
			}
			p = netip.PrefixFrom(ip, ip.BitLen())
		}
		out.From = append(out.From, p.Masked())
	}
	for i, name := range e.Headers {
		canonical := http.CanonicalHeaderKey(strings.TrimSpace(name))
		switch {
		case !httpguts.ValidHeaderFieldName(canonical):
			return out, &form.Error{Field: fmt.Sprintf("headers[%d]", i), Err: fmt.Errorf("%q is no name of a header; they are written as X-Kiln-Event", name)}
		case canonical == "Authorization" || canonical == "Cookie" || canonical == "Proxy-Authorization":
			return out, &form.Error{Field: fmt.Sprintf("headers[%d]", i), Err: fmt.Errorf("what comes in %s proves who calls, and is kept nowhere", canonical)}
		}
		out.Headers = append(out.Headers, canonical)
	}
	out.Challenge = e.Challenge
	return out, nil
}

// proofless holds that no header is kept by which callers prove themselves.
func (e Entrance) proofless(rule proof.Rule) error {
	held := rule.Held()
	for i, name := range e.Headers {
		if slices.Contains(held, name) {
			return &form.Error{Field: fmt.Sprintf("headers[%d]", i), Err: fmt.Errorf("what comes in %s proves who calls, and is kept nowhere", name)}
		}
	}
	return nil
}

// Keep puts the headers that are kept into items, in place of a field of that name.
func (e Entrance) Keep(h http.Header, items []map[string]any) {
	if len(e.Headers) == 0 {
		return
	}
	kept := map[string]any{}
	for _, name := range e.Headers {
		if v := h.Get(name); v != "" {
			kept[strings.ToLower(name)] = item.StorableText(v)
		}
	}
	for _, it := range items {
		it["headers"] = kept
	}
}
