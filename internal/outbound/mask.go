package outbound

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"sort"
	"strings"
)

// Masked stands where a secret was.
const Masked = "••••"

// Forms are the ways in which a secret may stand in a text: plain, JSON, URL,
// hexadecimal and base64.
func Forms(s string) []string {
	quoted, _ := json.Marshal(s)
	forms := []string{s, string(quoted[1 : len(quoted)-1]), url.QueryEscape(s), url.PathEscape(s), hex.EncodeToString([]byte(s)), strings.ToUpper(hex.EncodeToString([]byte(s)))}
	for _, e := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding, base64.RawStdEncoding, base64.RawURLEncoding} {
		forms = append(forms, e.EncodeToString([]byte(s)))
	}
	return forms
}

// Mask hides secrets in a text, in every form. Those shorter than 8 characters
// are hidden by their place alone, or half of every text would be dots.
func Mask(text string, secrets ...string) string {
	forms := []string{}
	for _, s := range secrets {
		if len(s) >= 8 {
			forms = append(forms, Forms(s)...)
		}
	}
	// A longer form may hold a shorter one: user:password holds the password.
	sort.SliceStable(forms, func(i, j int) bool { return len(forms[i]) > len(forms[j]) })
	for _, f := range forms {
		text = strings.ReplaceAll(text, f, Masked)
	}
	return text
}
