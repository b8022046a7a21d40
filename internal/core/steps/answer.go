package steps

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/reply"
)

type answer struct {
	Body   *expr.Value            `form:"body" title:"Body" hint:"json" part:"What a caller gets" help:"Text, or what is written as JSON." example:"(= {free: item.free} )"`
	Status *expr.Value            `form:"status" title:"Status" part:"What a caller gets" help:"200 unless said." example:"404"`
	Header map[string]*expr.Value `form:"headers" title:"Headers" hint:"fields" part:"What a caller gets" help:"Name to value: Content-Type, Cache-Control, Retry-After, Location, and any that begins with X-."`
	Page   *expr.Value            `form:"page" title:"Headed with" part:"What a person reads" help:"The title of the page that a person sees who filled in a form; of a webhook that people open too." example:"The hall is free on (= item.day )"`
	Text   *expr.Value            `form:"text" title:"Text" hint:"lines" part:"What a person reads" help:"Markdown." example:"We have kept **(= item.hour )** for you."`
	Rows   *expr.Value            `form:"rows" title:"Rows" part:"What a person reads" help:"A list of texts, or of {text, link, label}." example:"(= map(item.free, {text: #.words, link: #.link, label: \"Book\"}) )"`
	Note   *expr.Value            `form:"note" title:"Note" part:"What a person reads" help:"Small, at the end." example:"Times are Lisbon time."`
}

var answerKind = New(Info{
	Type: "answer", Title: "Answer who set it off",
	Words: "respond response reply return result webhook caller form page thank redirect status body", Does: DoesAnswer,
	Help: "Answers the caller of a webhook, or the person at a form. The first item that comes here answers, and the run goes on.",
}, answerSentence, compileAnswer)

func answerSentence(a *answer) string {
	switch {
	case a.Page != nil:
		return "Answer with the page " + a.Page.Said()
	case a.Body != nil && a.Status != nil:
		return "Answer " + a.Status.Said() + " with " + a.Body.Said()
	case a.Body != nil:
		return "Answer with " + a.Body.Said()
	case a.Status != nil:
		return "Answer " + a.Status.Said()
	}
	return "Answer … (to fill in)"
}

func compileAnswer(a *answer) (Operator, error) {
	if a.Body == nil && a.Page == nil && a.Status == nil && len(a.Header) == 0 {
		return nil, wrong("body", errors.New("say what is answered: a body for a caller, or a page for a person"))
	}
	for _, x := range []struct {
		name  string
		value *expr.Value
	}{{"text", a.Text}, {"rows", a.Rows}, {"note", a.Note}} {
		if x.value != nil && a.Page == nil {
			return nil, wrong(x.name, errors.New("it stands on a page; say in page what that is headed with"))
		}
	}
	for _, name := range item.Keys(a.Header) {
		constant, known := a.Header[name].Constant()
		if !known {
			constant = sayable(name)
		}
		if _, err := reply.CheckHeader(name, expr.Text(constant)); err != nil {
			return nil, wrong("headers."+name, err)
		}
	}
	if a.Status != nil {
		if constant, known := a.Status.Constant(); known {
			if _, err := statusOf(constant); err != nil {
				return nil, wrong("status", err)
			}
		}
	}
	return a, nil
}

// sayable is a value that a header may have, for one that is not known before.
func sayable(name string) string {
	switch http.CanonicalHeaderKey(name) {
	case "Content-Type":
		return "text/plain"
	case "Location":
		return "https://ottermere.example/"
	}
	return ""
}

// statusOf reads a status.
func statusOf(v any) (int, error) {
	text := expr.Text(v)
	n, err := strconv.Atoi(text)
	if err != nil || n < 200 || n > 599 {
		return 0, fmt.Errorf("%q is no status that can be answered; it is a number between 200 and 599, as 200 or 404", text)
	}
	return n, nil
}

// Answer implements Answerer.
func (a *answer) Answer(s *expr.Scope) (*reply.Reply, error) {
	r := &reply.Reply{Status: http.StatusOK}
	for _, x := range []struct {
		name  string
		value *expr.Value
		take  func(v any) error
	}{
		{"status", a.Status, func(v any) (err error) { r.Status, err = statusOf(v); return }},
		{"body", a.Body, func(v any) error { r.Body = v; return nil }},
		{"page", a.Page, func(v any) error { r.Page = &reply.Page{Title: expr.Text(v)}; return nil }},
		{"text", a.Text, func(v any) error { r.Page.Text = expr.Text(v); return nil }},
		{"rows", a.Rows, func(v any) (err error) { r.Page.Rows, err = reply.RowsOf(v); return }},
		{"note", a.Note, func(v any) error { r.Page.Note = expr.Text(v); return nil }},
	} {
		if x.value == nil {
			continue
		}
		v, err := x.value.Eval(s)
		if err == nil {
			err = x.take(v)
		}
		if err != nil {
			return nil, wrong(x.name, err)
		}
	}
	for _, name := range item.Keys(a.Header) {
		v, err := a.Header[name].Eval(s)
		if err == nil && v == nil {
			continue
		}
		text := expr.Text(v)
		var canonical string
		if err == nil {
			canonical, err = reply.CheckHeader(name, text)
		}
		if err != nil {
			return nil, wrong("headers."+name, err)
		}
		if r.Header == nil {
			r.Header = map[string]string{}
		}
		r.Header[canonical] = text
	}
	return r, r.Check()
}
