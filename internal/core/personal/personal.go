// Package personal puts other values in place of those that tell who somebody is: names,
// mail addresses, telephone numbers, streets, numbers of accounts. What takes their place
// has the same form, so that whoever builds with it sees how such values come: letters
// are x, digits are 0, and marks stay.
//
// It goes by the names of fields and by what stands in them, and so finds what commonly
// comes with calls; it is no proof that nothing personal is left.
package personal

import (
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// Names of fields, without case, marks and the words around them.
var (
	names   = regexp.MustCompile(`^(first|last|full|given|family|middle|maiden|customer|contact|caller|sender|recipient|user|display)names?$|^(surname|forename|caller|customer|person|who|author|signature|signedby|contactperson|yourname|nickname)$`)
	places  = regexp.MustCompile(`^(street|streetaddress|address|addressline\d?|line\d|postcode|postalcode|zip|zipcode|houseno|housenumber)$`)
	numbers = regexp.MustCompile(`^(phone|phonenumber|telephone|tel|mobile|cell|cellphone|fax|number|shownnumber|callernumber|msisdn|iban|bic|accountnumber|cardnumber|passport|passportnumber|taxid|vatid|ssn|socialsecurity\w*|birthday|birthdate|dateofbirth|dob|bornon)$`)
	calls   = regexp.MustCompile(`^\+[\d\s()./-]{7,24}$`)
	mails   = regexp.MustCompile(`[^\s@<>,;:"]+@[^\s@<>,;:"]+\.[A-Za-z]{2,}`)
	ibans   = regexp.MustCompile(`^[A-Z]{2}\d{2}(\s?[A-Z0-9]{4}){3,7}(\s?[A-Z0-9]{1,4})?$`)
)

// Masked gives an item with what is personal in it replaced, and the paths of that, as
// contact.phone, each once.
func Masked(fields map[string]any) (out map[string]any, paths []string) {
	m := &masking{}
	out, _ = m.value("", fields).(map[string]any)
	slices.Sort(m.paths)
	return out, slices.Compact(m.paths)
}

type masking struct{ paths []string }

func (m *masking) value(path string, v any) any {
	switch v := v.(type) {
	case map[string]any:
		if _, file := item.AsFile(v); file {
			return v
		}
		out := make(map[string]any, len(v))
		for name, e := range v {
			at := name
			if path != "" {
				at = path + "." + name
			}
			out[name] = m.field(at, name, e, v)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = m.value(path, e)
		}
		return out
	case string:
		if told := shaped(v); told != v {
			m.paths = append(m.paths, path)
			return told
		}
	}
	return v
}

// field is a value as its name says it is.
func (m *masking) field(path, name string, v any, beside map[string]any) any {
	bare := bareName(name)
	personal := names.MatchString(bare) || places.MatchString(bare) || numbers.MatchString(bare) && looksNumbered(v) || bare == "name" && besides(beside)
	text, is := v.(string)
	switch {
	case personal && is && text != "":
		m.paths = append(m.paths, path)
		if told := shaped(text); told != text {
			return told
		}
		return crossed(text)
	case personal && numbers.MatchString(bare):
		if n, whole := v.(int64); whole && n >= 1_000_000 { // a number of that length
			m.paths = append(m.paths, path)
			return int64(1_000_000)
		}
	case personal:
		if list, ok := v.([]any); ok && texts(list) {
			m.paths = append(m.paths, path)
			out := make([]any, len(list))
			for i, e := range list {
				out[i] = crossed(e.(string))
			}
			return out
		}
	}
	return m.value(path, v)
}

// looksNumbered tells whether a value has as many digits as numbers of people have.
func looksNumbered(v any) bool {
	if n, ok := v.(int64); ok {
		return n >= 1_000_000
	}
	text, ok := v.(string)
	digits := 0
	for _, r := range text {
		if unicode.IsDigit(r) {
			digits++
		}
	}
	return ok && digits >= 5
}

func texts(list []any) bool {
	return !slices.ContainsFunc(list, func(e any) bool { _, is := e.(string); return !is })
}

// besides tells whether an object with a name is that of somebody who can be reached.
func besides(of map[string]any) bool {
	for name := range of {
		switch bareName(name) {
		case "email", "mail", "emailaddress", "phone", "mobile", "telephone", "birthday", "street", "postcode":
			return true
		}
	}
	return false
}

// bareName is a field's name without case and marks.
func bareName(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, name)
}

// shaped replaces what is personal by its form, wherever it stands.
func shaped(text string) string {
	trimmed := strings.TrimSpace(text)
	if ip, err := netip.ParseAddr(trimmed); err == nil && !ip.IsLoopback() {
		return "192.0.2.1"
	}
	if calls.MatchString(trimmed) || ibans.MatchString(trimmed) {
		return crossed(text)
	}
	return mails.ReplaceAllStringFunc(text, func(mail string) string {
		if !expr.IsEmail(mail) {
			return mail
		}
		local, _, _ := strings.Cut(mail, "@")
		return crossed(local) + "@example.com"
	})
}

// crossed has x for letters and 0 for digits. The code of a country stays.
func crossed(text string) string {
	seen := 0
	return strings.Map(func(r rune) rune {
		switch {
		case unicode.IsUpper(r):
			return 'X'
		case unicode.IsLetter(r):
			return 'x'
		case unicode.IsDigit(r):
			if seen++; strings.HasPrefix(text, "+") && seen <= 2 {
				return r
			}
			return '0'
		}
		return r
	}, text)
}
