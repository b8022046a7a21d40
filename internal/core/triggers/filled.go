package triggers

import (
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
)

// Control is what a field of a page is filled in with.
type Control string

// Controls.
const (
	OneLine  Control = "text"
	LongText Control = "long"
	Mail     Control = "email"
	Phone    Control = "phone"
	Address  Control = "url"
	Number   Control = "number"
	Whole    Control = "whole"
	YesNo    Control = "yes_no"
	Consent  Control = "consent" // has to be given
	OneOf    Control = "one_of"
	Several  Control = "several"
	Lines    Control = "list" // one value on each line
	Day      Control = "date"
	Moment   Control = "moment" // a day and a time of it
	Clock    Control = "time"   // a time of day
	Upload   Control = "file"
)

// MaxUpload is how large a file may be that is sent with a form, in megabytes, unless
// its field says up_to.
const (
	MaxUpload = 20
	megabyte  = 1_000_000 // bytes
)

// ControlOf is what a field is filled in with; "" where a page has nothing for it.
func ControlOf(p form.Property) Control {
	s := p.Schema
	switch hint, _ := s["hint"].(string); hint {
	case "file":
		return Upload
	case "phone":
		return Phone
	case "time":
		return Clock
	case "lines":
		return LongText
	}
	if ListOf(p) != "" || s["enum"] != nil {
		return OneOf
	}
	items, _ := s["items"].(map[string]any)
	format, _ := s["format"].(string)
	switch t, _ := s["type"].(string); {
	case t == "boolean" && s["const"] == true:
		return Consent
	case t == "array" && items["enum"] != nil:
		return Several
	case t == "array" && items["type"] == "string":
		return Lines
	case t == "string" || t == "":
		if by := map[string]Control{"date": Day, "date-time": Moment, "email": Mail, "uri": Address}[format]; by != "" {
			return by
		}
		return OneLine
	default:
		return map[string]Control{"boolean": YesNo, "number": Number, "integer": Whole}[t]
	}
}

// hosted holds that a page can ask for the fields.
func (a *Asked) hosted() error {
	for i, p := range a.Properties {
		place := fmt.Sprintf("fields[%d]", i)
		if ControlOf(p) == "" {
			return &form.Error{Field: place, Err: fmt.Errorf("a page has nothing to fill %s in with; leave it to a step, or ask for text", p.Name)}
		}
		if n, ok := p.Schema["up_to"]; ok && ControlOf(p) == Upload {
			if most, whole := n.(int64); !whole || most < 1 || most > item.MaxFile/megabyte {
				return &form.Error{Field: place + ".up_to", Err: fmt.Errorf("a file may have from 1 to %d megabytes, and this is %s", item.MaxFile/megabyte, expr.Text(n))}
			}
		}
		for _, bound := range []string{"earliest", "latest"} {
			v, ok := p.Schema[bound]
			if !ok {
				continue
			}
			text, _ := v.(string)
			if err := boundary(ControlOf(p), text); err != nil {
				return &form.Error{Field: place + "." + bound, Err: err}
			}
		}
	}
	return nil
}

// boundary reads the earliest or latest time of a field.
func boundary(c Control, text string) error {
	switch c {
	case Day:
		if _, err := time.Parse(time.DateOnly, text); err != nil && text != "today" {
			return fmt.Errorf("%q is no day; it is written as 2026-12-04, or today", text)
		}
	case Clock:
		if _, err := time.Parse("15:04", text); err != nil {
			return fmt.Errorf("%q is no time of day; it is written as 08:30", text)
		}
	default:
		return errors.New("it counts only for dates (format: date) and times of day (hint: time); take it out")
	}
	return nil
}

// UpTo is how large a file of a field may be, in bytes.
func UpTo(p form.Property) int64 {
	if n, ok := p.Schema["up_to"].(int64); ok {
		return n * megabyte
	}
	return MaxUpload * megabyte
}

// TitleOf is what a field is called for people.
func TitleOf(p form.Property) string {
	if title, _ := p.Schema["title"].(string); title != "" {
		return title
	}
	text := strings.ReplaceAll(p.Name, "_", " ")
	return strings.ToUpper(text[:1]) + text[1:]
}

// Typed is what somebody filled in: texts as they were typed, and files.
type Typed map[string][]any

// texts are those of a field.
func (t Typed) texts(name string) (out []string) {
	for _, v := range t[name] {
		if s, ok := v.(string); ok {
			out = append(out, s)
		}
	}
	return out
}

// Text is the first of a field.
func (t Typed) Text(name string) string {
	if list := t.texts(name); len(list) > 0 {
		return list[0]
	}
	return ""
}

// Holds tells whether a text is among those of a field.
func (t Typed) Holds(name, text string) bool {
	for _, s := range t.texts(name) {
		if s == text {
			return true
		}
	}
	return false
}

// Fill makes an item of what somebody typed. Times are those of a zone. The error is a
// *form.InputError with every problem.
func (a *Asked) Fill(typed Typed, zone *time.Location, now time.Time) (map[string]any, error) {
	fields, wrong := map[string]any{}, map[string]string{}
	for _, p := range a.Properties {
		v, err := filled(p, typed, zone, now.In(zone))
		switch {
		case err != nil:
			wrong[p.Name] = err.Error()
		case v != nil:
			fields[p.Name] = v
		}
	}
	out, err := a.Complete(fields)
	var input *form.InputError
	if err != nil && !errors.As(err, &input) {
		return nil, err
	}
	all := &form.InputError{}
	for _, p := range a.Properties {
		if why := wrong[p.Name]; why != "" {
			all.Fields = append(all.Fields, form.FieldError{Field: p.Name, Message: why})
			continue
		}
		if input == nil {
			continue
		}
		for _, x := range input.Fields {
			if name, _, _ := strings.Cut(x.Field, "["); name == p.Name {
				if x.Gap {
					x.Message = missing(p)
				}
				if rest, within := strings.CutPrefix(x.Message, x.Field); within && x.Field != p.Name { // a part of it
					x.Message = TitleOf(p) + ":" + rest
				}
				all.Fields = append(all.Fields, form.FieldError{Field: p.Name, Message: x.Message, Gap: x.Gap})
				break
			}
		}
	}
	if len(all.Fields) > 0 {
		return out, all
	}
	return out, err
}

// missing says that a field is empty which must not be.
func missing(p form.Property) string {
	switch ControlOf(p) {
	case Consent:
		return "“" + TitleOf(p) + "” has to be ticked"
	case OneOf, Several:
		return TitleOf(p) + ": nothing is chosen"
	case Upload:
		return TitleOf(p) + ": no file is chosen"
	}
	return TitleOf(p) + " is empty"
}

// filled is the value of a field; nil where nothing is filled in.
func filled(p form.Property, typed Typed, zone *time.Location, now time.Time) (any, error) {
	control := ControlOf(p)
	switch control {
	case Upload:
		return uploaded(p, typed)
	case YesNo:
		return typed.Text(p.Name) != "", nil
	case Consent:
		if typed.Text(p.Name) == "" {
			return nil, nil
		}
		return true, nil
	case Several:
		return chosen(p, typed), nil
	}
	text := strings.TrimSpace(strings.ReplaceAll(typed.Text(p.Name), "\r\n", "\n"))
	if text == "" {
		return nil, nil
	}
	switch control {
	case OneOf:
		return among(p.Schema["enum"], text), nil
	case Lines:
		var list []any
		for line := range strings.Lines(text) {
			if line = strings.TrimSpace(line); line != "" {
				list = append(list, line)
			}
		}
		return list, nil
	case Number, Whole:
		return Value(p, strings.ReplaceAll(text, ",", "."))
	case Phone:
		country, _ := p.Schema["country"].(string)
		e164, err := expr.Phone(text, country)
		if err != nil {
			return nil, fmt.Errorf("%s is no whole telephone number; write it with + and the code of the country, as +351 …", TitleOf(p))
		}
		return e164, nil
	case Mail:
		if !expr.IsEmail(text) {
			return nil, fmt.Errorf("%s is no mail address; one is written as mara@ottermere.example", TitleOf(p))
		}
	case Address:
		if u, err := url.Parse(text); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
			return nil, fmt.Errorf("%s is no address; one is written as https://ottermere.example", TitleOf(p))
		}
	case Day, Clock, Moment:
		return timed(p, control, text, zone, now)
	}
	return text, nil
}

// uploaded is a field's file.
func uploaded(p form.Property, typed Typed) (any, error) {
	for _, v := range typed[p.Name] {
		if f, ok := item.AsFile(v); ok {
			if f.Size > UpTo(p) {
				return nil, fmt.Errorf("%s: the file %s has %s; it may have %s", TitleOf(p), f.Name, item.Bytes(f.Size), item.Bytes(UpTo(p)))
			}
			return v, nil
		}
	}
	return nil, nil
}

// chosen are the values of a field of which several can be; nil where none is.
func chosen(p form.Property, typed Typed) any {
	items, _ := p.Schema["items"].(map[string]any)
	var list []any
	for _, text := range typed.texts(p.Name) {
		if text != "" {
			list = append(list, among(items["enum"], text))
		}
	}
	if list == nil {
		return nil
	}
	return list
}

// timed reads a day, a time of day, or both.
func timed(p form.Property, c Control, text string, zone *time.Location, now time.Time) (any, error) {
	if c == Moment {
		for _, layout := range []string{"2006-01-02T15:04", "2006-01-02T15:04:05"} {
			if at, err := time.ParseInLocation(layout, text, zone); err == nil {
				if at.Format(layout) != text { // the clocks were put forward past it
					return nil, fmt.Errorf("%s: %s does not exist in %s, where the clocks are put forward then", TitleOf(p), text[len("2026-12-04T"):], zone)
				}
				return at.Format(time.RFC3339), nil
			}
		}
		return nil, fmt.Errorf("%s is no day with a time of it; it is written as 2026-12-04T18:30", TitleOf(p))
	}
	layout, like := time.DateOnly, "2026-12-04"
	if c == Clock {
		layout, like = "15:04", "18:30"
	}
	at, err := time.Parse(layout, text)
	if err != nil {
		return nil, fmt.Errorf("%s is “%s”; it is written as %s", TitleOf(p), text, like)
	}
	said := at.Format(layout) // all of a kind sort as text
	for _, b := range []struct {
		key    string
		breaks func(bound string) bool
	}{{"earliest", func(x string) bool { return said < x }}, {"latest", func(x string) bool { return said > x }}} {
		bound, _ := p.Schema[b.key].(string)
		if bound == "today" {
			bound = now.Format(time.DateOnly)
		}
		if bound != "" && b.breaks(bound) {
			return nil, fmt.Errorf("%s is %s; the %s is %s", TitleOf(p), said, b.key, bound)
		}
	}
	return said, nil
}
