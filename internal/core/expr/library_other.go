package expr

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/mail"
	"net/url"
	"strings"
	"time"
	_ "time/tzdata" // zones are known on machines that ship none

	"github.com/google/uuid"
	"github.com/nyaruka/phonenumbers"

	"youngtrellis/internal/core/item"
)

var timeFunctions = group("times",
	fn("now()", "The time of the run at this item: the end of the last effect on its way.", `type(now())`, `"text"`, 0, 0, func(m *machine, _ []any) (any, error) { return m.scope.Now, nil }),
	fn("time(text, zone)", "A time from text; a zone for text without an offset.", `time("2026-11-23 16:30", "Europe/Lisbon")`, `"2026-11-23T16:30:00Z"`, 1, 2, toTime),
	fn("duration(text)", "A length of time: 90s, 5m, 2h, 3d, 1d12h.", `duration("36h")`, `"1d12h"`, 1, 1, toDuration),
	fn("age(time)", "How long ago a time was.", `age("2026-11-20") >= duration("3d")`, `true`, 1, 1, func(m *machine, a []any) (any, error) {
		t, err := timeArg(m, a, 0)
		return m.scope.Now.Sub(t), err
	}),
	fn("format(time, pattern, zone)", "A time as text by a Unicode date pattern.", `format("2026-11-23T16:30:00Z", "EEE d MMM HH:mm")`, `"Mon 23 Nov 16:30"`, 2, 3, formatDate),
	fn("in_zone(time, zone)", "The same moment in another zone.", `in_zone("2026-07-01T12:00:00Z", "Europe/Lisbon")`, `"2026-07-01T13:00:00+01:00"`, 2, 2, inZone),
	fn("start_of(time, unit)", "The start of its minute, hour, day, week (Monday), month or year.", `start_of("2026-11-25T16:30:00Z", "week")`, `"2026-11-23T00:00:00Z"`, 2, 2, startOf),
	fn("add_months(time, n)", "So many months later; the last day of the month where the day does not exist.", `add_months("2026-01-31", 1)`, `"2026-02-28T00:00:00Z"`, 2, 2, addMonths),
	fn("weekday(time)", "1 for Monday to 7 for Sunday (ISO 8601).", `weekday("2026-11-23")`, `1`, 1, 1, func(m *machine, a []any) (any, error) {
		t, err := timeArg(m, a, 0)
		return int64((t.Weekday()+6)%7 + 1), err
	}),
	fn("hours(duration)", "A length of time as a number of hours.", `hours(duration("90m"))`, `1.5`, 1, 1, lengthIn(time.Hour)),
	fn("minutes(duration)", "A length of time as a number of minutes.", `minutes(duration("90s"))`, `1.5`, 1, 1, lengthIn(time.Minute)),
	fn("seconds(duration)", "A length of time as a number of seconds.", `seconds(duration("2m"))`, `120`, 1, 1, lengthIn(time.Second)),
)

var encodingFunctions = group("encodings",
	fn("json(value)", "A value as JSON text.", `json({"a": [1, nil]})`, `"{\"a\":[1,null]}"`, 1, 1, func(m *machine, a []any) (any, error) {
		if err := m.charge(0, item.Size(a[0])); err != nil {
			return nil, err
		}
		b, err := item.Encode(settle(a[0]))
		return string(b), err
	}),
	fn("from_json(text)", "The value that JSON text holds.", `from_json("[1, 2]")`, `[1,2]`, 1, 1, func(m *machine, a []any) (any, error) {
		s, err := textArg(a, 0)
		if err := errors.Join(err, m.charge(0, 8*len(s))); err != nil {
			return nil, err
		}
		return item.Decode([]byte(s))
	}),
	fn("base64(text)", "Text in base64 (RFC 4648).", `base64("kiln")`, `"a2lsbg=="`, 1, 1, text1(func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) })),
	fn("from_base64(text)", "Text out of base64, either alphabet.", `from_base64("a2lsbg==")`, `"kiln"`, 1, 1, fromBase64),
	fn("url_encode(text)", "Text as a part of an address (RFC 3986).", `url_encode("ash & sand")`, `"ash%20%26%20sand"`, 1, 1, text1(func(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") })),
	fn("hex(text)", "The bytes of a text in hexadecimal.", `hex("Az")`, `"417a"`, 1, 1, text1(func(s string) string { return hex.EncodeToString([]byte(s)) })),
	fn("hash(text)", "SHA-256 in hexadecimal.", `left(hash("kiln"), 8)`, `"cdfe9ad5"`, 1, 1, text1(func(s string) string {
		sum := sha256.Sum256([]byte(s))
		return hex.EncodeToString(sum[:])
	})),
	fn("uuid()", "An identifier made from the run, step and item, so that it is the same when the step is repeated.", `len(uuid())`, `36`, 0, 0, func(m *machine, _ []any) (any, error) {
		m.uuids++
		return uuid.NewSHA1(uuid.NameSpaceOID, fmt.Appendf(nil, "%s/%s/%d", m.scope.seed(), m.source, m.uuids)).String(), nil
	}),
)

var checkFunctions = group("checks",
	takesNothing(fn("empty(value)", "Whether it is nothing, empty text, an empty list or object.", `empty("")`, `true`, 1, 1, func(_ *machine, a []any) (any, error) {
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
	})),
	takesNothing(fn("type(value)", "text, number, boolean, list, object or nothing.", `type([1])`, `"list"`, 1, 1, func(_ *machine, a []any) (any, error) {
		switch settle(a[0]).(type) {
		case nil:
			return "nothing", nil
		case string:
			return "text", nil
		case bool:
			return "boolean", nil
		case []any:
			return "list", nil
		case map[string]any:
			return "object", nil
		}
		return "number", nil
	})),
	fn("is_email(text)", "Whether it is one mail address.", `is_email("hall@ottermere.example")`, `true`, 1, 1, check(func(s string) bool {
		a, err := mail.ParseAddress(s)
		return err == nil && a.Address == s
	})),
	fn("is_url(text)", "Whether it is an http or https address.", `is_url("https://ottermere.example/kilns")`, `true`, 1, 1, check(func(s string) bool {
		u, err := url.Parse(s)
		return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != ""
	})),
	fn("is_phone(text, country)", "Whether it is a whole telephone number; the country for numbers without +.", `is_phone("+44 1632")`, `false`, 1, 2, func(_ *machine, a []any) (any, error) {
		_, err := phoneArg(a)
		return err == nil, nil
	}),
	fn("phone(text, country)", "A telephone number in E.164 form; the country for numbers without +. An error if it is not a whole number.", `phone("01632 960142", "GB")`, `"+441632960142"`, 1, 2, func(_ *machine, a []any) (any, error) {
		n, err := phoneArg(a)
		if err != nil {
			return nil, err
		}
		return n, nil
	}),
)

func phoneArg(a []any) (string, error) {
	s, err1 := textArg(a, 0)
	country, err2 := textArg(a, 1)
	if err := errors.Join(err1, err2); err != nil {
		return "", err
	}
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

func check(test func(string) bool) func(*machine, []any) (any, error) {
	return func(_ *machine, a []any) (any, error) {
		s, ok := a[0].(string)
		return ok && test(s), nil
	}
}

func fromBase64(_ *machine, a []any) (any, error) {
	s, err := textArg(a, 0)
	if err != nil {
		return nil, err
	}
	s = strings.TrimRight(strings.NewReplacer("-", "+", "_", "/", "\n", "", "\r", "").Replace(s), "=")
	b, err := base64.RawStdEncoding.DecodeString(s)
	if err != nil {
		return nil, fmt.Errorf("%s is not base64", show(s))
	}
	return string(b), nil
}

func zoneArg(m *machine, a []any, i int) (*time.Location, error) {
	name, err := textArg(a, i)
	if err != nil || name == "" {
		return m.scope.zone(), err
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("%s is not a zone; zones are written as Europe/Lisbon", show(name))
	}
	return zone, nil
}

func timeArg(m *machine, a []any, i int) (time.Time, error) {
	switch v := a[i].(type) {
	case time.Time:
		return v, nil
	case string:
		return ParseTime(v, m.scope.zone())
	case int64:
		if v > 1e11 {
			return time.UnixMilli(v).UTC(), nil
		}
		return time.Unix(v, 0).UTC(), nil
	}
	return time.Time{}, fmt.Errorf("%s is not a time", show(a[i]))
}

func toTime(m *machine, a []any) (any, error) {
	zone, err := zoneArg(m, a, 1)
	if err != nil {
		return nil, err
	}
	if s, ok := a[0].(string); ok {
		return ParseTime(s, zone)
	}
	return timeArg(m, a, 0)
}

func durationArg(a []any) (time.Duration, error) {
	switch v := a[0].(type) {
	case time.Duration:
		return v, nil
	case string:
		return ParseDuration(v)
	}
	return 0, fmt.Errorf("%s is not a duration", show(a[0]))
}

func toDuration(_ *machine, a []any) (any, error) { return durationArg(a) }

func lengthIn(unit time.Duration) func(*machine, []any) (any, error) {
	return func(_ *machine, a []any) (any, error) {
		d, err := durationArg(a)
		if err != nil {
			return nil, err
		}
		if d%unit == 0 {
			return int64(d / unit), nil
		}
		return float64(d) / float64(unit), nil
	}
}

func formatDate(m *machine, a []any) (any, error) {
	t, err := timeArg(m, a, 0)
	if err != nil {
		return nil, err
	}
	pattern, err := textArg(a, 1)
	if err != nil {
		return nil, err
	}
	if len(a) == 3 {
		zone, err := zoneArg(m, a, 2)
		if err != nil {
			return nil, err
		}
		t = t.In(zone)
	}
	return FormatTime(t, pattern)
}

func inZone(m *machine, a []any) (any, error) {
	t, err1 := timeArg(m, a, 0)
	zone, err2 := zoneArg(m, a, 1)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	return t.In(zone), nil
}

func startOf(m *machine, a []any) (any, error) {
	t, err1 := timeArg(m, a, 0)
	unit, err2 := textArg(a, 1)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	y, mo, d := t.Date()
	switch unit {
	case "minute":
		return time.Date(y, mo, d, t.Hour(), t.Minute(), 0, 0, t.Location()), nil
	case "hour":
		return time.Date(y, mo, d, t.Hour(), 0, 0, 0, t.Location()), nil
	case "day":
	case "week":
		d -= int(t.Weekday()+6) % 7
	case "month":
		d = 1
	case "year":
		mo, d = 1, 1
	default:
		return nil, fmt.Errorf("%s is not a unit; there are minute, hour, day, week, month and year", show(unit))
	}
	return time.Date(y, mo, d, 0, 0, 0, 0, t.Location()), nil
}

func addMonths(m *machine, a []any) (any, error) {
	t, err1 := timeArg(m, a, 0)
	n, err2 := intArg(a, 1, 0)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	if n < -12000 || n > 12000 {
		return nil, errors.New("the months lie between -12000 and 12000")
	}
	out := t.AddDate(0, int(n), 0)
	if out.Day() != t.Day() {
		out = out.AddDate(0, 0, -out.Day())
	}
	return out, nil
}
