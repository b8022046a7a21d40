// Package pages draws the pages that people see who are none of the console's: forms,
// what follows them, and answers. They are made of words that others wrote, so nothing of
// those becomes a tag, a style or a script.
package pages

import (
	"bytes"
	"crypto/rand"
	"embed"
	"fmt"
	"html/template"
	"io/fs"
	"strings"
	"time"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"

	"youngtrellis/internal/core/contrast"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/reply"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/intake"
)

//go:embed *.tmpl
var templates embed.FS

//go:embed pages.css pages.js
var assets embed.FS

// Assets are what pages load: a style sheet, and a script that they also do without.
func Assets() fs.FS { return assets }

var drawn = template.Must(template.New("").Funcs(template.FuncMap{"markdown": markdown}).ParseFS(templates, "*.tmpl"))

// commonMark reads texts of others: tags in them are left out, and links that run
// something lead nowhere.
var commonMark = goldmark.New(goldmark.WithExtensions(extension.Table, extension.Strikethrough))

func markdown(text string) (template.HTML, error) {
	var out bytes.Buffer
	err := commonMark.Convert([]byte(text), &out)
	return template.HTML(out.String()), err
}

// Look is what all pages of a form have in common.
type Look struct {
	House  string // whose page it is; "" for nobody's
	Colour contrast.Colour
	// Scripts tells whether a script of ours may run where the page is served.
	Scripts bool
}

// Page is one that is drawn.
type Page struct {
	HTML  []byte
	Nonce string // of its own style, for its policy
}

// view is what templates see.
type view struct {
	Look
	Nonce         string
	Title         string
	Own, OwnNight string // colours
	Refresh       int    // seconds after which it is loaded again where no script looks; 0: not
	Body          any
}

func draw(name string, look Look, title string, refresh int, body any) (*Page, error) {
	if look.Colour == (contrast.Colour{}) {
		look.Colour = Leaf
	}
	p := &Page{Nonce: rand.Text()}
	var out bytes.Buffer
	err := drawn.ExecuteTemplate(&out, name, view{Look: look, Nonce: p.Nonce, Title: title, Own: look.Colour.On(contrast.White).String(), OwnNight: look.Colour.On(contrast.Night).String(), Refresh: refresh, Body: body})
	p.HTML = out.Bytes()
	return p, err
}

// Leaf is the colour of pages that say none of their own.
var Leaf = contrast.Colour{0x2f, 0x7d, 0x4f}

// Message is a page with a few words: a thank-you, or why there is nothing.
func Message(look Look, title, text string) (*Page, error) {
	return draw("message.tmpl", look, title, 0, text)
}

// Answer is the page of an answer.
func Answer(look Look, r *reply.Page) (*Page, error) {
	return draw("answer.tmpl", look, r.Title, 0, r)
}

// Wait is the page at an address where an answer will be. It looks again by itself where
// it may; good is for how long the address is.
func Wait(look Look, address string, good time.Duration) (*Page, error) {
	refresh := 0
	if look.Scripts {
		refresh = 10
	}
	return draw("wait.tmpl", look, "One moment", refresh, struct {
		Address string
		Days    int
	}{address, int(good / (24 * time.Hour))})
}

// formView is a form for its template.
type formView struct {
	*intake.FormPage
	Fields     []field
	Submit     string // name of the field of the submission
	Empty      string // name of the one that stays empty
	Action     string
	Zone       string
	Wrongs     []field
	HasUploads bool
}

// field is a field of a form for its template.
type field struct {
	Name, Title, Help string
	Control           triggers.Control
	Required          bool
	Value             string
	Values            map[string]bool
	Choices           []string
	Wrong             string
	Min, Max, Step    string
	Most              int    // characters
	Pattern           string // what is typed has to fit
	Auto              string // what browsers fill in
	Example           string
	UpTo              string
	Kept, KeptName    string // a file that was sent before
}

// Described are the ids of what says more about a field.
func (f field) Described() string {
	var ids []string
	if f.Help != "" || f.Control == triggers.Upload {
		ids = append(ids, f.Name+"-help")
	}
	if f.Wrong != "" {
		ids = append(ids, f.Name+"-wrong")
	}
	return strings.Join(ids, " ")
}

// Form is the page of a form; action is where it is sent.
func Form(look Look, p *intake.FormPage, action string) (*Page, error) {
	v := formView{FormPage: p, Submit: intake.SubmissionField, Empty: intake.EmptyField, Action: action, Zone: placeOf(p.Hosted.Zone)}
	for _, x := range p.Asks.Properties {
		f := fieldOf(p, x)
		v.Fields = append(v.Fields, f)
		if f.Wrong != "" {
			v.Wrongs = append(v.Wrongs, f)
		}
		v.HasUploads = v.HasUploads || f.Control == triggers.Upload
	}
	return draw("form.tmpl", look, p.Title, 0, v)
}

// placeOf is what people call a zone: that of Europe/Lisbon is Lisbon time.
func placeOf(zone *time.Location) string {
	parts := strings.Split(zone.String(), "/")
	return strings.ReplaceAll(parts[len(parts)-1], "_", " ")
}

func fieldOf(p *intake.FormPage, x form.Property) field {
	s := x.Schema
	text := func(key string) string {
		if v := s[key]; v != nil {
			return written(v)
		}
		return ""
	}
	f := field{Name: x.Name, Title: triggers.TitleOf(x), Help: text("description"), Control: triggers.ControlOf(x), Required: x.Required, Pattern: text("pattern"), Min: text("minimum"), Max: text("maximum"), Values: map[string]bool{}}
	if n, ok := s["maxLength"].(int64); ok {
		f.Most = int(n)
	}
	if list, _ := s["examples"].([]any); len(list) > 0 {
		f.Example = written(list[0])
	}
	switch f.Control {
	case triggers.Number:
		f.Step = "any"
	case triggers.Day, triggers.Clock:
		f.Min, f.Max = text("earliest"), text("latest")
		if today := time.Now().In(p.Hosted.Zone).Format(time.DateOnly); f.Control == triggers.Day {
			f.Min, f.Max = strings.Replace(f.Min, "today", today, 1), strings.Replace(f.Max, "today", today, 1)
		}
	case triggers.Upload:
		f.UpTo = strings.Replace(item.Bytes(triggers.UpTo(x)), ".0 ", " ", 1)
	}
	f.Auto = completes(f.Control, x.Name)
	f.Choices = p.Choices[x.Name]
	items, _ := s["items"].(map[string]any)
	for _, of := range []any{s["enum"], items["enum"]} {
		list, _ := of.([]any)
		for _, c := range list {
			f.Choices = append(f.Choices, written(c))
		}
	}
	f.fill(p, x)
	for _, w := range p.Wrong {
		if w.Field == x.Name {
			f.Wrong = w.Message
		}
	}
	return f
}

// fill puts in what was typed before, or what is preset.
func (f *field) fill(p *intake.FormPage, x form.Property) {
	if p.Typed == nil {
		if preset := x.Schema["default"]; preset != nil {
			f.Value = written(preset)
			f.Values[f.Value] = preset != false
			if list, ok := preset.([]any); ok {
				for _, v := range list {
					f.Values[written(v)] = true
				}
			}
		}
		return
	}
	f.Value = p.Typed.Text(x.Name)
	for _, v := range p.Typed[x.Name] {
		switch v := v.(type) {
		case string:
			f.Values[v] = true
		default:
			if file, ok := item.AsFile(v); ok && p.Kept[x.Name] != "" {
				f.Kept, f.KeptName = p.Kept[x.Name], fmt.Sprintf("%s, %s", file.Name, item.Bytes(file.Size))
			}
		}
	}
}

// completes is what browsers fill in by themselves (HTML, autofill).
func completes(c triggers.Control, name string) string {
	switch c {
	case triggers.Mail:
		return "email"
	case triggers.Phone:
		return "tel"
	case triggers.OneLine:
		switch name {
		case "name", "who", "your_name", "full_name":
			return "name"
		}
	}
	return ""
}

func written(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	b, err := item.Plain(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}
