package triggers

import (
	"errors"
	"fmt"
	"time"

	"youngtrellis/internal/core/contrast"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
)

// Form is the type of what somebody fills in on a page of its own.
const Form = "form"

type hosted struct {
	Fields Asked         `form:"fields,required" title:"Fields" help:"What whoever opens the page fills in."`
	Title  string        `form:"title" title:"Title" part:"What the page says" max:"120" help:"That of the workflow unless said."`
	Intro  string        `form:"intro" title:"Introduction" hint:"lines" part:"What the page says" max:"2000" help:"Markdown, between the title and the fields."`
	Button string        `form:"button" title:"Button" part:"What the page says" default:"Send" max:"60"`
	House  string        `form:"house" title:"Whose page it is" part:"What the page says" max:"80" help:"Stands at its top; the name of the workspace unless said."`
	Colour string        `form:"colour" title:"Colour" part:"What the page says" default:"#2f7d4f" example:"#7a4a2a" help:"Of the button and the links, as #7a4a2a."`
	Zone   string        `form:"zone" title:"Zone of its times" part:"What the page says" default:"UTC" example:"Europe/Lisbon"`
	Thanks string        `form:"thanks" title:"Thank-you" part:"What follows" default:"Thank you" max:"120" help:"The title of the page that follows, where no step answers."`
	After  string        `form:"after" title:"Its text" hint:"lines" part:"What follows" default:"We have what you sent." max:"2000" help:"Markdown, beneath it."`
	Most   int           `form:"most" title:"A day" part:"How much is taken" default:"1000" min:"1" max:"1000000" help:"How many are taken in a day; then the page says that it takes no more."`
	Key    *expr.Program `form:"key" title:"Once for each" part:"How much is taken" example:"item.email" help:"An expression over the item. One whose key was there before starts nothing."`
	For    time.Duration `form:"for" title:"Remembered for" part:"How much is taken" default:"7d" help:"How long a key is remembered, as 7d."`
	pathed
	answered
}

// Hosted is a page on which somebody fills in what a run starts with.
type Hosted struct {
	Title  string // "": that of the workflow
	Intro  string // Markdown
	Button string
	House  string // "": the workspace's name
	Colour contrast.Colour
	Zone   *time.Location
	Thanks string
	After  string // Markdown
	Most   int    // a day
}

var formKind = New(Info{
	Type: Form, Title: "Somebody fills in a form", Hosted: true, Began: "by a form", By: "its form",
	Help: "A page of its own asks for fields, files too. What is sent becomes an item; a step can answer with a page.",
}, func(h *hosted) string {
	out := "When somebody fills in its form"
	if len(h.Fields.Properties) > 0 {
		out += ": " + h.Fields.words()
	}
	if h.Key != nil {
		out += ", once for each " + h.Key.Words()
	}
	return out
}, func(h *hosted) (Start, error) {
	page, err := h.page()
	if err == nil {
		err = h.check()
	}
	return Start{Key: h.Key, KeyLasts: h.For, Asks: h.Fields, Lists: h.Fields.Lists(), Hosted: page, Path: h.Path, AnswerWithin: h.AnswerWithin}, err
})

func (h *hosted) page() (*Hosted, error) {
	if len(h.Fields.Properties) == 0 {
		return nil, &form.Error{Field: "fields", Err: &form.Gap{Err: errors.New("say what the form asks for: a first field")}}
	}
	if err := h.Fields.hosted(); err != nil {
		return nil, err
	}
	colour, err := contrast.Parse(h.Colour)
	if err != nil {
		return nil, &form.Error{Field: "colour", Err: err}
	}
	if ratio := contrast.Ratio(colour, contrast.White); ratio < contrast.Text {
		return nil, &form.Error{Field: "colour", Err: fmt.Errorf("white words on %s are hard to read: the contrast is %.1f, and %.1f is needed; %s is", colour, ratio, contrast.Text, colour.On(contrast.White))}
	}
	zone, err := time.LoadLocation(h.Zone)
	if err != nil || h.Zone == "Local" {
		return nil, &form.Error{Field: "zone", Err: fmt.Errorf("%q is not a zone; one is written as Europe/Lisbon", h.Zone)}
	}
	return &Hosted{Title: h.Title, Intro: h.Intro, Button: h.Button, House: h.House, Colour: colour, Zone: zone, Thanks: h.Thanks, After: h.After, Most: h.Most}, nil
}
