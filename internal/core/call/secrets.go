package call

import (
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"slices"
	"strings"
)

// Masked stands where a secret was.
const Masked = "••••"

// Whole is the length from which a form is hidden wherever it stands. Shorter
// ones are hidden where they stand alone, or half of every text would be dots.
const Whole = 8

// Secrets are values that must not be seen on any surface, in every form in
// which another side may echo them: plain, JSON, URL, HTML, hexadecimal and
// base64, also in the middle of something longer that was encoded as a piece.
// A nil *Secrets has none. It is not changed once made.
type Secrets struct {
	values []string
	forms  []form // the longest first
	alone  map[string]string
	least  int // length of the shortest form
	// One pass over a text for all forms, of which there are a dozen for each secret.
	masking *strings.Replacer
	around  *Secrets // further ones, which are shared
}

type form struct{ text, value string }

// NewSecrets gathers values; empty ones are left out.
func NewSecrets(values ...string) *Secrets {
	s := &Secrets{alone: map[string]string{}}
	for _, v := range values {
		if v == "" || slices.Contains(s.values, v) {
			continue
		}
		s.values = append(s.values, v)
		for _, f := range Forms(v) {
			if len(f) >= Whole {
				s.forms = append(s.forms, form{f, v})
			} else {
				s.alone[f] = v
			}
		}
	}
	if len(s.values) == 0 {
		return nil
	}
	// A longer form may hold a shorter one: user:password holds the password.
	slices.SortStableFunc(s.forms, func(a, b form) int { return len(b.text) - len(a.text) })
	if n := len(s.forms); n > 0 {
		s.least = len(s.forms[n-1].text)
		pairs := make([]string, 0, 2*n)
		for _, f := range s.forms {
			pairs = append(pairs, f.text, Masked)
		}
		s.masking = strings.NewReplacer(pairs...)
	}
	return s
}

// Values lists what is hidden.
func (s *Secrets) Values() []string {
	if s == nil {
		return nil
	}
	return append(slices.Clip(s.values), s.around.Values()...)
}

// Within gives these and further ones together, which are shared and not gathered
// again.
func (s *Secrets) Within(around *Secrets) *Secrets {
	if s == nil || around == nil {
		return cmp.Or(s, around)
	}
	theirs := around.Values()
	if !slices.ContainsFunc(s.values, func(v string) bool { return !slices.Contains(theirs, v) }) {
		return s.around.Within(around) // they are among them
	}
	both := *s
	both.around = s.around.Within(around)
	return &both
}

// With gives these and further values together.
func (s *Secrets) With(values ...string) *Secrets {
	fresh := false
	for _, v := range values {
		fresh = fresh || v != "" && !slices.Contains(s.Values(), v)
	}
	if !fresh {
		return s
	}
	if s == nil {
		return NewSecrets(values...)
	}
	return NewSecrets(append(slices.Clone(s.values), values...)...).Within(s.around)
}

// Forms are the ways in which a secret may stand in a text, each once.
func Forms(s string) []string {
	var forms []string
	add := func(f string) {
		if f != "" && !slices.Contains(forms, f) {
			forms = append(forms, f)
		}
	}
	add(s)
	for _, escape := range []bool{true, false} {
		add(jsonText(s, escape))
	}
	for _, f := range []string{url.QueryEscape(s), url.PathEscape(s)} {
		add(f)
		add(lowerPercent(f))
	}
	add(html.EscapeString(s))
	digits := hex.EncodeToString([]byte(s))
	add(digits)
	add(strings.ToUpper(digits))
	for _, e := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding, base64.RawStdEncoding, base64.RawURLEncoding} {
		add(e.EncodeToString([]byte(s)))
	}
	for _, e := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		for before := range 3 {
			if f := within(e, s, before); len(f) >= Whole {
				add(f)
			}
		}
	}
	return forms
}

func jsonText(s string, escape bool) string {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(escape)
	_ = e.Encode(s)
	return strings.Trim(strings.TrimSuffix(b.String(), "\n"), `"`)
}

// lowerPercent writes percent-encoded bytes in small letters, as some do.
func lowerPercent(s string) string {
	b := []byte(s)
	for i := 0; i+2 < len(b); i++ {
		if b[i] == '%' {
			copy(b[i+1:i+3], strings.ToLower(s[i+1:i+3]))
		}
	}
	return string(b)
}

// within is the part of a base64 text that a secret gives whatever stands
// around it, where before bytes of the last group of three stand before it.
func within(e *base64.Encoding, s string, before int) string {
	text := e.EncodeToString([]byte("\x00\x00\x00"[:before] + s))
	first := []int{0, 2, 3}[before] // characters that also depend on what stands before
	last := len(text)
	if (before+len(s))%3 != 0 {
		last-- // and the one that also depends on what follows
	}
	if first >= last {
		return ""
	}
	return text[first:last]
}

// Mask hides the secrets in a text. It is done before the text is cut.
func (s *Secrets) Mask(text string) string {
	if s == nil || text == "" {
		return text
	}
	if _, ok := s.alone[text]; ok {
		return Masked
	}
	if s.holds(text) {
		text = s.masking.Replace(text)
	}
	for f := range s.alone {
		if strings.Contains(text, f) {
			text = maskAlone(text, f)
		}
	}
	return s.around.Mask(text)
}

// maskAlone hides a short secret where it stands as a value of its own: in
// quotes, or after = up to the end of the value.
func maskAlone(text, short string) string {
	text = strings.ReplaceAll(text, `"`+short+`"`, `"`+Masked+`"`)
	var out strings.Builder
	for {
		i := strings.Index(text, "="+short)
		if i < 0 {
			out.WriteString(text)
			return out.String()
		}
		end := i + 1 + len(short)
		out.WriteString(text[:i+1])
		if end == len(text) || strings.ContainsRune("&; \n", rune(text[end])) {
			out.WriteString(Masked)
		} else {
			out.WriteString(short)
		}
		text = text[end:]
	}
}

// MaskShort hides the secrets in the beginning of a text and then cuts it to at
// most n bytes, with an ellipsis where something was left out.
func (s *Secrets) MaskShort(text string, n int) string {
	const ahead = 64 << 10 // a secret that begins within n ends within this
	if len(text) > n+ahead {
		text = text[:n+ahead]
	}
	text = s.Mask(text)
	if len(text) > n {
		text = strings.ToValidUTF8(text[:n], "") + "…"
	}
	return text
}

// Found lists the secrets that a JSON value holds, in names and values.
func (s *Secrets) Found(v any) []string {
	if s == nil {
		return nil
	}
	found := map[string]bool{}
	s.find(v, found)
	out := make([]string, 0, len(found))
	for _, v := range s.Values() {
		if found[v] {
			found[v] = false
			out = append(out, v)
		}
	}
	return out
}

func (s *Secrets) find(v any, found map[string]bool) {
	switch v := v.(type) {
	case nil, bool:
	case string:
		s.findText(v, found)
	case []any:
		for _, e := range v {
			s.find(e, found)
		}
	case map[string]any:
		for k, e := range v {
			s.findText(k, found)
			s.find(e, found)
		}
	default:
		s.findText(fmt.Sprint(v), found)
	}
}

// fewForms is up to how many forms it is faster to look for one after the other than
// for all in one pass.
const fewForms = 32

// holds tells whether any form stands in a text.
func (s *Secrets) holds(text string) bool {
	if s.least == 0 || len(text) < s.least {
		return false
	}
	if len(s.forms) > fewForms {
		return s.masking.Replace(text) != text
	}
	return slices.ContainsFunc(s.forms, func(f form) bool { return len(f.text) <= len(text) && strings.Contains(text, f.text) })
}

func (s *Secrets) findText(text string, found map[string]bool) {
	if value, ok := s.alone[text]; ok {
		found[value] = true
	}
	if s.holds(text) { // few texts do
		for _, f := range s.forms {
			if !found[f.value] && strings.Contains(text, f.text) {
				found[f.value] = true
			}
		}
	}
	for f, value := range s.alone {
		if !found[value] && strings.Contains(text, f) && maskAlone(text, f) != text {
			found[value] = true
		}
	}
	if s.around != nil {
		s.around.findText(text, found)
	}
}

// MaskValue copies a JSON value with the secrets in it hidden; a value without
// any is given back as it is.
func (s *Secrets) MaskValue(v any) any {
	if len(s.Found(v)) == 0 {
		return v
	}
	return s.masked(v)
}

func (s *Secrets) masked(v any) any {
	switch v := v.(type) {
	case nil, bool:
		return v
	case string:
		return s.Mask(v)
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = s.masked(e)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, e := range v {
			out[s.Mask(k)] = s.masked(e)
		}
		return out
	}
	if text := fmt.Sprint(v); s.Mask(text) != text {
		return s.Mask(text)
	}
	return v
}
