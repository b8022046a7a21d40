package outbound

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"strings"
)

// Masked stands where a secret was.
const Masked = "••••"

// Mask hides a secret in a text, in plain, JSON, URL, hexadecimal and base64
// form. Secrets shorter than 8 characters are hidden by their place alone, or
// half of every text would be dots.
func Mask(text string, secrets ...string) string {
	for _, s := range secrets {
		if len(s) < 8 {
			continue
		}
		quoted, _ := json.Marshal(s)
		forms := []string{s, string(quoted[1 : len(quoted)-1]), url.QueryEscape(s), url.PathEscape(s), hex.EncodeToString([]byte(s)),
			strings.ToUpper(hex.EncodeToString([]byte(s)))}
		for _, e := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding, base64.RawStdEncoding, base64.RawURLEncoding} {
			forms = append(forms, e.EncodeToString([]byte(s)))
		}
		for _, f := range forms {
			text = strings.ReplaceAll(text, f, Masked)
		}
	}
	return text
}
