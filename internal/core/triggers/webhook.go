package triggers

import (
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"golang.org/x/net/http/httpguts"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/proof"
)

// Webhook is the type of what something calls.
const Webhook = "webhook"

type webhook struct {
	Key *expr.Program `form:"key" title:"Once for each" example:"item.call_id" help:"An expression over the item. An item whose key was there before is left out."`
	For time.Duration `form:"for" title:"Remembered for" default:"7d" help:"How long a key is remembered, as 7d."`
	several
	Verify string `form:"verify" title:"The caller proves itself with" oneof:"bearer|basic|header|signature|standard|none" default:"bearer" words:"bearer=the secret in the Authorization header; basic=a user and the secret as the password; header=the secret in a header of its own; signature=a signature of what it sends; standard=a signature as the Standard Webhooks have it; none=whoever knows the address may call"`
	proving
	entering
	pathed
	answered
}

// proving says how a proof comes, where there is more to say.
type proving struct {
	Header   string        `form:"header" title:"In the header" part:"How the proof comes" example:"X-Kiln-Signature" help:"Where the secret comes in a header of its own, or the signature."`
	User     string        `form:"user" title:"User" part:"How the proof comes" example:"switchboard" help:"Of a user and password; any user unless said."`
	Signed   string        `form:"signed" title:"What is signed" part:"How the proof comes" default:"{body}" example:"{time}.{body}" help:"The body as it comes, with what else is signed around it: {time}, {id}, or text."`
	Hash     string        `form:"hash" title:"With the hash" part:"How the proof comes" oneof:"sha256|sha512|sha1" default:"sha256" words:"sha256=SHA-256; sha512=SHA-512; sha1=SHA-1, where the caller knows no other"`
	Encoding string        `form:"encoding" title:"Written as" part:"How the proof comes" oneof:"hex|base64" default:"hex" words:"hex=hexadecimal digits; base64=base64"`
	Prefix   string        `form:"prefix" title:"Behind" part:"How the proof comes" example:"sha256=" help:"What stands before the signature in its header."`
	TimeIn   string        `form:"time_header" title:"Its time in the header" part:"How the proof comes" example:"X-Kiln-Time" help:"In seconds since 1970, or as 2026-11-28T09:30:00Z. It has to be signed too."`
	IDIn     string        `form:"id_header" title:"Its id in the header" part:"How the proof comes" example:"X-Kiln-Delivery" help:"The same delivery is taken once. It has to be signed too."`
	Window   time.Duration `form:"window" title:"Taken within" part:"How the proof comes" default:"5m" help:"How far its time may be from ours."`
}

// rule reads how callers prove themselves.
func (w *webhook) rule() (proof.Rule, error) {
	way, p := proof.Way(w.Verify), w.proving
	r := proof.Rule{Way: way, Header: http.CanonicalHeaderKey(p.Header), User: p.User, Signed: p.Signed, Hash: p.Hash, Base64: p.Encoding == "base64", Prefix: p.Prefix, TimeIn: p.TimeIn, IDIn: p.IDIn, Window: p.Window}
	signs, inHeader := way == proof.Signature, way == proof.Signature || way == proof.InHeader
	for _, x := range []struct {
		field, value string
		counts       bool
		only         string
	}{
		{"header", p.Header, inHeader, "header, or signature"}, {"user", p.User, way == proof.Basic, "basic"},
		{"prefix", p.Prefix, signs, "signature"}, {"time_header", p.TimeIn, signs, "signature"}, {"id_header", p.IDIn, signs, "signature"},
	} {
		switch {
		case x.value == "" || x.field == "user" && x.counts || x.field == "prefix" && x.counts:
		case !x.counts:
			return r, &form.Error{Field: x.field, Err: fmt.Errorf("it counts only with verify: %s; choose that, or take this out", x.only)}
		case !httpguts.ValidHeaderFieldName(x.value):
			return r, &form.Error{Field: x.field, Err: fmt.Errorf("%q is no name of a header; they are written as X-Kiln-Signature", x.value)}
		}
	}
	if !signs && p.Signed != "{body}" {
		return r, &form.Error{Field: "signed", Err: errors.New("it counts only with verify: signature; choose that, or take this out")}
	}
	if inHeader && p.Header == "" {
		return r, &form.Error{Field: "header", Err: &form.Gap{Err: errors.New("say in which header it comes, as X-Kiln-Signature")}}
	}
	return r, p.signs(signs)
}

// signs holds of a signature that it is of what it has to be of.
func (p *proving) signs(signs bool) error {
	if !signs {
		return nil
	}
	for _, x := range []struct{ field, part, header string }{{"time_header", "{time}", p.TimeIn}, {"id_header", "{id}", p.IDIn}} {
		switch in := strings.Contains(p.Signed, x.part); {
		case in && x.header == "":
			return &form.Error{Field: x.field, Err: &form.Gap{Err: fmt.Errorf("%s is signed; say in which header it comes", x.part)}}
		case !in && x.header != "":
			return &form.Error{Field: "signed", Err: fmt.Errorf("what stands in the header %s is not signed, so that anybody could change it; say %s in what is signed", x.header, x.part)}
		}
	}
	if strings.Count(p.Signed, "{body}") != 1 {
		return &form.Error{Field: "signed", Err: errors.New("the body is signed once: say {body}")}
	}
	return nil
}

var webhookKind = New(Info{
	Type: Webhook, Title: "Something calls an address", Called: true, Began: "by a call", By: "its webhook",
	Help: "An address of its own is called with JSON, XML, a form, text or files. Each call becomes an item, or several where it brings a list.",
}, func(w *webhook) string {
	return "Whenever its address is called" + w.words(w.Key)
}, func(w *webhook) (Start, error) {
	runs, err := w.runs()
	rule, unproven := w.rule()
	entrance, closed := w.entrance()
	err = cmp.Or(err, unproven, closed)
	if err == nil {
		err = cmp.Or(w.check(), w.proven(rule), entrance.proofless(rule))
	}
	return Start{Key: w.Key, KeyLasts: w.For, Runs: runs, Proof: rule, Entrance: entrance, Path: w.Path, AnswerWithin: w.AnswerWithin}, err
})
