package triggers

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
)

func object(t *testing.T, text string) map[string]any {
	t.Helper()
	v, err := item.DecodeObject([]byte(text))
	require.NoError(t, err)
	return v
}

// asksFor reads fields as a document has them.
func asksFor(t *testing.T, fields string) *Asked {
	t.Helper()
	k, _ := Find(Form)
	start, errs := k.Start(object(t, `{"fields": `+fields+`}`))
	require.Empty(t, errs)
	return &start.Asks
}

const everyField = `[
	{"name": "who", "title": "Your name", "type": "string", "required": true, "maxLength": 20},
	{"name": "about", "type": "string", "hint": "lines"},
	{"name": "mail", "title": "Mail", "type": "string", "format": "email"},
	{"name": "phone", "title": "Phone", "type": "string", "hint": "phone", "country": "PT"},
	{"name": "page", "title": "Page", "type": "string", "format": "uri"},
	{"name": "count", "title": "Pieces", "type": "integer", "minimum": 1, "maximum": 24},
	{"name": "height", "title": "Height", "type": "number"},
	{"name": "bisque", "title": "Bisque", "type": "boolean"},
	{"name": "cone", "title": "Cone", "enum": [6, 9, "10"]},
	{"name": "days", "title": "Days", "type": "array", "items": {"enum": ["Mon", "Fri"]}},
	{"name": "studios", "title": "Studios", "type": "array", "items": {"type": "string"}},
	{"name": "day", "title": "Day", "type": "string", "format": "date", "earliest": "today"},
	{"name": "hour", "title": "Hour", "type": "string", "hint": "time", "earliest": "08:00", "latest": "20:00"},
	{"name": "at", "title": "At", "type": "string", "format": "date-time"},
	{"name": "picture", "title": "Picture", "hint": "file", "up_to": 1},
	{"name": "agreed", "title": "I keep to the rules of the hall", "type": "boolean", "const": true, "required": true}
]`

var lisbon = func() *time.Location {
	zone, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		panic(err)
	}
	return zone
}()

func fill(t *testing.T, fields string, typed Typed) (map[string]any, map[string]string) {
	t.Helper()
	out, err := asksFor(t, fields).Fill(typed, lisbon, time.Date(2026, 11, 28, 23, 30, 0, 0, time.UTC))
	wrong := map[string]string{}
	var input *form.InputError
	if errors.As(err, &input) {
		for _, x := range input.Fields {
			wrong[x.Field] = x.Message
		}
	} else {
		require.NoError(t, err)
	}
	return out, wrong
}

func TestEveryFieldOfAPageHasItsControl(t *testing.T) {
	t.Parallel()
	want := []Control{OneLine, LongText, Mail, Phone, Address, Whole, Number, YesNo, OneOf, Several, Lines, Day, Clock, Moment, Upload, Consent}
	for i, p := range asksFor(t, everyField).Properties {
		require.Equal(t, want[i], ControlOf(p), p.Name)
	}
}

func TestWhatSomebodyTypesBecomesValues(t *testing.T) {
	t.Parallel()
	picture := (&item.File{ID: "sha256-" + strings.Repeat("0", 64), Name: "jug.png", Type: "image/png", Size: 12}).Value()
	out, wrong := fill(t, everyField, Typed{
		"who": {" Ada Fen "}, "about": {"one\r\ntwo"}, "mail": {"ada@ottermere.example"}, "phone": {"912 345 678"}, "page": {"https://ottermere.example/"}, "count": {"3"}, "height": {"12,5"},
		"bisque": {"yes"}, "cone": {"9"}, "days": {"Mon", "Fri"}, "studios": {"Quern\n\n Rill \n"}, "day": {"2026-12-04"}, "hour": {"18:30"}, "at": {"2026-07-04T18:30"}, "picture": {picture}, "agreed": {"yes"},
		"more": {"is not asked for"},
	})
	require.Empty(t, wrong)
	require.Equal(t, map[string]any{
		"who": "Ada Fen", "about": "one\ntwo", "mail": "ada@ottermere.example", "phone": "+351912345678", "page": "https://ottermere.example/", "count": int64(3), "height": 12.5,
		"bisque": true, "cone": int64(9), "days": []any{"Mon", "Fri"}, "studios": []any{"Quern", "Rill"}, "day": "2026-12-04", "hour": "18:30", "at": "2026-07-04T18:30:00+01:00", "picture": picture, "agreed": true,
	}, out)
}

func TestEverythingWrongWithAFormIsSaidAtOnce(t *testing.T) {
	t.Parallel()
	large := (&item.File{ID: "sha256-" + strings.Repeat("0", 64), Name: "jug.png", Type: "image/png", Size: 2 << 20}).Value()
	_, wrong := fill(t, everyField, Typed{
		"mail": {"ada at home"}, "phone": {"12"}, "page": {"no address"}, "count": {"25"}, "height": {"high"}, "cone": {"11"}, "days": {"Tue"}, "day": {"2026-11-27"}, "hour": {"22:30"}, "at": {"2026-03-29T01:30"}, "picture": {large},
	})
	require.Equal(t, map[string]string{
		"who": "Your name is empty", "mail": "Mail is no mail address; one is written as mara@ottermere.example", "phone": "Phone is no whole telephone number; write it with + and the code of the country, as +351 …",
		"page": "Page is no address; one is written as https://ottermere.example", "count": "Pieces is 25; the most is 24", "height": `Height should be a number, as 12, and this is "high"`, "cone": "Cone is 11; it can be 6, 9, 10. Did you mean 10?",
		"days": "Days: is Tue; it can be Mon, Fri", "day": "Day is 2026-11-27; the earliest is 2026-11-28", "hour": "Hour is 22:30; the latest is 20:00",
		"at": "At: 01:30 does not exist in Europe/Lisbon, where the clocks are put forward then", "picture": "Picture: the file jug.png has 2.1 MB; it may have 1.0 MB", "agreed": "“I keep to the rules of the hall” has to be ticked",
	}, wrong)
}

func TestAFormOfWhichNothingIsRequiredMayBeEmpty(t *testing.T) {
	t.Parallel()
	out, wrong := fill(t, `[{"name": "note", "type": "string"}, {"name": "ok", "type": "boolean"}, {"name": "hour", "type": "string", "hint": "time", "default": "09:00"}]`, Typed{"note": {"  "}})
	require.Empty(t, wrong)
	require.Equal(t, map[string]any{"ok": false, "hour": "09:00"}, out)
}

func TestWhatAPageCannotAskForIsSaid(t *testing.T) {
	t.Parallel()
	k, _ := Find(Form)
	for settings, want := range map[string]string{
		`{"fields": []}`: "fields: say what the form asks for: a first field",
		`{"fields": [{"name": "a", "type": "object"}]}`:                                             "fields[0]: a page has nothing to fill a in with; leave it to a step, or ask for text",
		`{"fields": [{"name": "a", "hint": "file", "up_to": 5000}]}`:                                "fields[0].up_to: a file may have from 1 to 2147 megabytes, and this is 5000",
		`{"fields": [{"name": "a", "type": "string", "earliest": "today"}]}`:                        "fields[0].earliest: it counts only for dates (format: date) and times of day (hint: time); take it out",
		`{"fields": [{"name": "a", "type": "string", "hint": "time", "latest": "8 pm"}]}`:           `fields[0].latest: "8 pm" is no time of day; it is written as 08:30`,
		`{"fields": [{"name": "a", "type": "string", "format": "date", "latest": "2026-13-01"}]}`:   `fields[0].latest: "2026-13-01" is no day; it is written as 2026-12-04, or today`,
		`{"fields": [{"name": "a", "type": "string"}], "colour": "red; background: url(x)"}`:        `colour: "red; background: url(x)" is no colour; it is written as #7a4a2a`,
		`{"fields": [{"name": "a", "type": "string"}], "colour": "#ffdd00"}`:                        "colour: white words on #ffdd00 are hard to read: the contrast is 1.3, and 4.5 is needed; #877500 is",
		`{"fields": [{"name": "a", "type": "string"}], "zone": "Lisbon"}`:                           `zone: "Lisbon" is not a zone; one is written as Europe/Lisbon`,
		`{"fields": [{"name": "a", "type": "string"}], "answer_within": "1h"}`:                      "answer_within: it waits for at most 5 minutes; what takes longer is answered at an address of its own",
		`{"fields": [{"name": "a", "type": "string"}, {"name": "a", "type": "string"}], "most": 1}`: "fields[1].name: the field \"a\" is asked for twice",
	} {
		_, errs := k.Start(object(t, settings))
		require.NotEmpty(t, errs, settings)
		var at *form.Error
		require.ErrorAs(t, errs[0], &at, settings)
		require.Contains(t, at.Field+": "+at.Error(), want, settings)
	}
}
