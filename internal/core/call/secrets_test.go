package call

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// echoes are the ways in which another side gives a secret back.
var echoes = map[string]func(string) string{
	"plain":            func(s string) string { return s },
	"a header":         func(s string) string { return "Bearer " + s + ", kiln=2" },
	"JSON":             func(s string) string { b, _ := json.Marshal(map[string]string{"k": s}); return string(b) },
	"a query":          func(s string) string { return "/x?" + url.Values{"key": {s}, "n": {"1"}}.Encode() },
	"a path":           func(s string) string { return "/x/" + url.PathEscape(s) + "/y" },
	"small percents":   func(s string) string { return lowerPercent(url.QueryEscape(s)) },
	"HTML":             func(s string) string { return "<p>" + html.EscapeString(s) + "</p>" },
	"hexadecimal":      func(s string) string { return "0x" + hex.EncodeToString([]byte(s)) },
	"big hexadecimal":  func(s string) string { return strings.ToUpper(hex.EncodeToString([]byte(s))) },
	"base64":           func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
	"base64 of more":   func(s string) string { return base64.StdEncoding.EncodeToString([]byte("user:" + s + " and more")) },
	"base64 behind 1":  func(s string) string { return base64.StdEncoding.EncodeToString([]byte("u" + s)) },
	"base64 behind 2":  func(s string) string { return base64.URLEncoding.EncodeToString([]byte("us" + s + "x")) },
	"base64 without =": func(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) },
}

func TestSecretsAreMaskedInEveryForm(t *testing.T) {
	t.Parallel()
	for _, secret := range []string{`pl"anted & secret`, "sk_live_0123456789abcdef", "kiln/2+shelf=upper?", "schlüssel-für-die-halle", "12345678"} {
		s := NewSecrets(secret)
		for form, echo := range echoes {
			text := echo(secret)
			masked := s.Mask(text)
			require.Contains(t, masked, Masked, "%s as %s: %s", secret, form, text)
			for _, f := range Forms(secret) {
				require.NotContains(t, masked, f, "%s as %s", secret, form)
			}
			require.Equal(t, []string{secret}, s.Found(map[string]any{"list": []any{text}}), "%s as %s", secret, form)
		}
	}
}

// Whatever stands around a secret in something that was encoded as a piece,
// what is left of it tells nothing.
func TestASecretInTheMiddleOfBase64IsMasked(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		secret := rapid.StringMatching(`[A-Za-z0-9_-]{12,40}`).Draw(t, "secret")
		before, after := rapid.StringN(0, 20, -1).Draw(t, "before"), rapid.StringN(0, 20, -1).Draw(t, "after")
		text := base64.StdEncoding.EncodeToString([]byte(before + secret + after))
		masked := NewSecrets(secret).Mask(text)
		require.Contains(t, masked, Masked)
		for _, piece := range strings.Split(masked, Masked) {
			require.Less(t, len(piece), len(base64.StdEncoding.EncodeToString([]byte(before+after)))+9, "at most a character or two of each end is left")
		}
	})
}

func TestShortSecretsAreMaskedByTheirPlace(t *testing.T) {
	t.Parallel()
	s := NewSecrets("abc123", "mara:abc123")
	require.Equal(t, "the house at abc1234 is blue", s.Mask("the house at abc1234 is blue"), "not in the middle of a text")
	require.Equal(t, Masked, s.Mask("abc123"))
	require.Equal(t, `{"password": "`+Masked+`", "n": 1}`, s.Mask(`{"password": "abc123", "n": 1}`))
	require.Equal(t, "?key="+Masked+"&n=1", s.Mask("?key=abc123&n=1"))
	require.Equal(t, "?key=abc1234", s.Mask("?key=abc1234"))
	require.Equal(t, "Basic "+Masked, s.Mask("Basic "+base64.StdEncoding.EncodeToString([]byte("mara:abc123"))))
	require.Equal(t, map[string]any{"a": Masked, "b": []any{Masked, "other", nil, true}, "n": int64(7)},
		s.MaskValue(map[string]any{"a": "abc123", "b": []any{"abc123", "other", nil, true}, "n": int64(7)}))
}

func TestValuesAreMaskedInNamesAndNumbersToo(t *testing.T) {
	t.Parallel()
	s := NewSecrets("12345678", "planted-secret")
	v := map[string]any{"pin": int64(12345678), "planted-secret": map[string]any{"x": "y"}, "free": 1.5}
	require.Equal(t, map[string]any{"pin": Masked, Masked: map[string]any{"x": "y"}, "free": 1.5}, s.MaskValue(v))
	require.Equal(t, []string{"12345678", "planted-secret"}, s.Found(v))
	same := map[string]any{"x": []any{"nothing to hide"}}
	require.Equal(t, same, s.MaskValue(same))
	require.Equal(t, "a "+Masked+" …", s.MaskShort("a planted-secret is "+strings.Repeat("x", 200<<10), 15), "before it is cut")
}

func TestNoSecretsMaskNothing(t *testing.T) {
	t.Parallel()
	for _, s := range []*Secrets{nil, NewSecrets(), NewSecrets("", "")} {
		require.Nil(t, s)
		require.Equal(t, "text", s.Mask("text"))
		require.Empty(t, s.Found("text"))
		require.Equal(t, "text", s.MaskValue("text"))
		require.Empty(t, s.Values())
		require.Equal(t, "te…", s.MaskShort("text", 2))
	}
	s := NewSecrets("first-secret")
	require.Same(t, s, s.With("first-secret", ""))
	require.Equal(t, []string{"first-secret", "second-secret"}, s.With("second-secret").Values())
	require.Equal(t, []string{"first-secret"}, s.Values(), "it is not changed")
	require.Equal(t, []string{"a-secret"}, (*Secrets)(nil).With("a-secret").Values())
}

func TestSecretsOfOthersAreHiddenWithOnesOwn(t *testing.T) {
	t.Parallel()
	around := NewSecrets("the-key-of-the-hall", "the-key-of-the-kiln")
	var many []string
	for i := range 40 { // more than are looked for one by one
		many = append(many, fmt.Sprintf("secret-number-%02d", i))
	}
	for name, c := range map[string]struct {
		s    *Secrets
		text string
		want string
	}{
		"both":                     {NewSecrets("own-secret").Within(around), "own-secret, the-key-of-the-hall", Masked + ", " + Masked},
		"none of one's own":        {NewSecrets().Within(around), "own-secret, the-key-of-the-kiln", "own-secret, " + Masked},
		"nobody else's":            {NewSecrets("own-secret").Within(nil), "own-secret, the-key-of-the-hall", Masked + ", the-key-of-the-hall"},
		"one's own among others'":  {NewSecrets("the-key-of-the-hall").Within(around), "the-key-of-the-hall the-key-of-the-kiln", Masked + " " + Masked},
		"further ones":             {NewSecrets("own-secret").Within(around).With("a-token-of-today"), "own-secret a-token-of-today the-key-of-the-hall", Masked + " " + Masked + " " + Masked},
		"a short one of one's own": {NewSecrets("abc").Within(around), `{"k":"abc","x":"the-key-of-the-hall"}`, `{"k":"` + Masked + `","x":"` + Masked + `"}`},
		"two rings":                {NewSecrets("own-secret").Within(around).Within(NewSecrets("the-third-key")), "the-third-key the-key-of-the-hall own-secret", Masked + " " + Masked + " " + Masked},
		"many":                     {NewSecrets("own-secret").Within(NewSecrets(many...)), "secret-number-00 secret-number-39 secret-number-40 own-secret", Masked + " " + Masked + " secret-number-40 " + Masked},
		"many, encoded":            {NewSecrets(many...), "secret%2Dnumber " + base64.StdEncoding.EncodeToString([]byte("secret-number-17")), "secret%2Dnumber " + Masked},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			require.Equal(t, c.want, c.s.Mask(c.text))
			found := c.s.Found(map[string]any{c.text: []any{c.text, 7, nil}})
			require.GreaterOrEqual(t, len(found), strings.Count(c.want, Masked), found) // secrets that begin alike have forms in common
			masked := c.s.MaskValue(map[string]any{"x": c.text})
			require.Equal(t, map[string]any{"x": c.want}, masked)
		})
	}
	require.Same(t, around, NewSecrets("the-key-of-the-kiln").Within(around), "what is known already is not looked for twice")
	require.Nil(t, NewSecrets().Within(nil))
	require.Equal(t, []string{"own-secret", "the-key-of-the-hall", "the-key-of-the-kiln"}, NewSecrets("own-secret").Within(around).Values())
}
