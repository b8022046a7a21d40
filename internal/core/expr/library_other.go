package expr

import (
	"errors"
	"fmt"
	"net/mail"
	"net/url"
	"regexp"
	"strings"
	"time"
	"unicode"

	"github.com/nyaruka/phonenumbers"
	"mvdan.cc/sh/v3/syntax"

	"youngtrellis/internal/core/item"
)

var quotingFunctions = group("quoting for other languages",
	fn("quote(text: text) text", "Text within double quotes, with a backslash before quotes and backslashes in it.", `quote("a \"b\"")`, `"\"a \\\"b\\\"\""`, func(m *machine, a args) (any, error) {
		return `"` + backslashed.Replace(a.text(0)) + `"`, m.charge(0, 2*len(a.text(0))+2)
	}, found("quotation marks string literal")),
	fn("xml_text(text: text) text", "Text as it stands in XML, its signs harmless; what XML cannot hold is left out.", `xml_text("Ash & <sand>")`, `"Ash &amp; &lt;sand&gt;"`, text1(func(s string) string {
		s = strings.Map(func(r rune) rune {
			if r < ' ' && r != '\n' && r != '\t' && r != '\r' || r == 0xfffe || r == 0xffff {
				return -1
			}
			return r
		}, s)
		return xmlSigns.Replace(s)
	}), found("escape entities")),
	fn("json_text(text: text) text", "Text as it stands between the quotes of a JSON text.", `json_text("a \"b\"")`, `"a \\\"b\\\""`, func(m *machine, a args) (any, error) {
		if err := m.charge(0, 2*len(a.text(0))); err != nil {
			return nil, err
		}
		b := item.AppendText(nil, a.text(0))
		return string(b[1 : len(b)-1]), nil
	}, found("escape string body")),
	fn("sql_text(text: text) text", "Text as a literal of standard SQL, within single quotes. Where a query takes parameters, these are better.", `sql_text("O'Tern")`, `"'O''Tern'"`, func(m *machine, a args) (any, error) {
		if strings.ContainsRune(a.text(0), 0) {
			return nil, errors.New("SQL cannot hold U+0000")
		}
		return "'" + strings.ReplaceAll(a.text(0), "'", "''") + "'", m.charge(0, 2*len(a.text(0))+2)
	}, fails("the text holds U+0000"), found("escape string query")),
	fn("shell_text(text: text) text", "Text as one word of a POSIX shell.", `shell_text("ash bowl")`, `"'ash bowl'"`, func(m *machine, a args) (any, error) {
		s, err := syntax.Quote(a.text(0), syntax.LangPOSIX)
		if err != nil {
			return nil, errors.New("a shell cannot hold this text: it has U+0000, or signs that cannot be shown")
		}
		return s, m.charge(0, len(s))
	}, fails("the text holds what a shell cannot"), found("escape command line argument bash")),
)

var (
	backslashed = strings.NewReplacer(`\`, `\\`, `"`, `\"`)
	xmlSigns    = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;")
)

var checkFunctions = group("checks",
	fn("empty(value: any) yes", "Whether it is nothing, empty text, an empty list or object.", `empty("")`, `true`, func(_ *machine, a args) (any, error) {
		switch v := a[0].(type) {
		case nil:
			return true, nil
		case string:
			return strings.TrimSpace(v) == "", nil
		case []any:
			return len(v) == 0, nil
		case map[string]any:
			return len(v) == 0, nil
		}
		return false, nil
	}, takesNothing, found("blank missing null nothing exists")),
	fn("type(value: any) text", "text, number, boolean, list, object or nothing.", `type([1])`, `"list"`, func(_ *machine, a args) (any, error) {
		switch a[0].(type) {
		case nil:
			return "nothing", nil
		case string, time.Time, time.Duration:
			return "text", nil
		case bool:
			return "boolean", nil
		case []any:
			return "list", nil
		case map[string]any:
			return "object", nil
		}
		return "number", nil
	}, takesNothing, found("kind of value what is")),
	fn("is_email(text: any) yes", "Whether it is one mail address with a whole domain.", `is_email("hall@ottermere.example")`, `true`, check(IsEmail), found("valid email validate mail")),
	fn("is_url(text: any) yes", "Whether it is an http or https address.", `is_url("https://ottermere.example/kilns")`, `true`, check(isURL), found("valid link validate address http")),
	fn("is_phone(text: any, country?: text) yes", "Whether it is a whole telephone number; the country for numbers without +.", `is_phone("+44 1632")`, `false`, func(_ *machine, a args) (any, error) {
		_, err := Phone(Text(a[0]), a.text(1))
		return err == nil, nil
	}, takes(40), found("valid telephone validate mobile number"), byOthers),
	fn("phone(text: text, country?: text) text", "A telephone number in E.164 form; the country for numbers without +.", `phone("01632 960142", "GB")`, `"+441632960142"`, func(_ *machine, a args) (any, error) { return Phone(a.text(0), a.text(1)) }, fails("it is not a whole number"), takes(40), found("telephone format e164 normalise international mobile"), byOthers),
)

// Phone writes a telephone number in its E.164 form; the country is that of numbers
// without +, as GB.
func Phone(s, country string) (string, error) {
	if country == "" {
		country = phonenumbers.UNKNOWN_REGION
	}
	n, err := phonenumbers.Parse(s, strings.ToUpper(country))
	if errors.Is(err, phonenumbers.ErrInvalidCountryCode) {
		return "", fmt.Errorf("%s has no country code; write + and the code, or name the country as in phone(…, \"GB\")", show(s))
	}
	if err != nil || phonenumbers.IsPossibleNumberWithReason(n) != phonenumbers.IS_POSSIBLE {
		return "", fmt.Errorf("%s is not a whole telephone number", show(s))
	}
	return phonenumbers.Format(n, phonenumbers.E164), nil
}

func check(test func(string) bool) func(*machine, args) (any, error) {
	return func(_ *machine, a args) (any, error) {
		s, ok := a[0].(string)
		return ok && test(s), nil
	}
}

var domainForm = regexp.MustCompile(`^([\pL\pN]([\pL\pN-]{0,61}[\pL\pN])?\.)+[\pL\pN][\pL\pN-]{0,61}[\pL\pN]$`)

// IsEmail tells whether a text is one mail address with a whole domain.
func IsEmail(s string) bool {
	a, err := mail.ParseAddress(s)
	if err != nil || a.Address != s || len(s) > 254 {
		return false
	}
	return domainForm.MatchString(s[strings.LastIndexByte(s, '@')+1:])
}

func isURL(s string) bool {
	u, err := url.Parse(s)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Hostname() != "" && !strings.ContainsFunc(s, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) })
}
