package intake

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// Names that a page sends beside its fields; no field can have them.
const (
	SubmissionField = "form-submission" // the first of all
	EmptyField      = "form-homepage"   // which people do not see, and leave empty
)

// pageGood is for how long a page can be sent after it was opened.
const pageGood = 7 * 24 * time.Hour

// errNoForm is the answer at an address where no form is.
var errNoForm = &Refused{Status: http.StatusNotFound, Message: "There is no form at this address, or it is closed."}

// FormPage is a form as somebody is to see it.
type FormPage struct {
	House, Title string
	Address      string
	Asks         triggers.Asked
	Hosted       *triggers.Hosted
	Submission   string              // signed; made for this view alone
	Choices      map[string][]string // of fields that are one of a workspace list
	Sample       bool                // what is sent becomes a sample, and starts nothing
	Typed        triggers.Typed      // what was typed before
	Kept         map[string]string   // files that were sent before, signed, by their fields
	Wrong        []form.FieldError   // with that
	Again        string              // why it is to be looked through and sent once more; "" for not
}

// FormSent is what became of a form that was sent.
type FormSent struct {
	Page    *FormPage // to be mended and sent again; nil: it was taken
	Answer  string    // token of the address at which its answer is, or will be
	Thanked bool      // nobody answers
}

// formed is a form that is open at an address.
type formed struct {
	hook
	start triggers.Start
	plan  *workflow.Plan // nil: only samples are taken
	title string
}

// form finds the form at an address.
func (in *Intake) form(ctx context.Context, address string) (*formed, error) {
	h, err := in.hook(ctx, address)
	if errors.Is(err, store.ErrNotFound) {
		return nil, errNoForm
	}
	if err != nil {
		return nil, err
	}
	start, plan, err := in.start(ctx, h.Hook)
	if err != nil {
		return nil, err
	}
	f := &formed{hook: h, start: start, plan: plan, title: h.Title}
	if h.State == "draft" || plan == nil {
		if f.plan = nil; !h.Taking {
			return nil, errNoForm
		}
	}
	if start.Hosted == nil {
		return nil, errNoForm
	}
	if plan != nil && plan.Workflow.Title != "" {
		f.title = plan.Workflow.Title
	}
	return f, nil
}

// Form gives the form at an address. The error is a *Refused where there is none.
func (in *Intake) Form(ctx context.Context, address string) (*FormPage, error) {
	f, err := in.form(ctx, address)
	if err != nil {
		return nil, err
	}
	return in.view(ctx, f)
}

// view makes a view of a form.
func (in *Intake) view(ctx context.Context, f *formed) (*FormPage, error) {
	submission, err := in.submission(ctx, f)
	if err != nil {
		return nil, err
	}
	p := in.looks(f)
	p.Submission = submission
	for _, x := range f.start.Asks.Properties {
		list := triggers.ListOf(x)
		if list == "" {
			continue
		}
		rows, err := in.choices(ctx, f.Workspace, list)
		if err != nil {
			return nil, err
		}
		if p.Choices == nil {
			p.Choices = map[string][]string{}
		}
		p.Choices[x.Name] = rows
	}
	return p, nil
}

// looks is a form without what is made for a view of it.
func (in *Intake) looks(f *formed) *FormPage {
	p := &FormPage{House: f.start.Hosted.House, Title: f.start.Hosted.Title, Address: f.Address, Asks: f.start.Asks, Hosted: f.start.Hosted, Sample: f.plan == nil}
	if p.House == "" {
		p.House = f.House
	}
	if p.Title == "" {
		p.Title = f.title
	}
	return p
}

// mostChoices is how many rows of a list a page offers.
const mostChoices = 500

// choices are what the rows of a workspace list are known by.
func (in *Intake) choices(ctx context.Context, workspace uuid.UUID, name string) ([]string, error) {
	_, table, err := in.Store.CurrentList(ctx, workspace, name, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []string
	for _, row := range table.Rows {
		if len(out) < mostChoices {
			out = append(out, row.Key)
		}
	}
	return out, nil
}

// submission makes the id of a view: random, with when it was made, and signed.
func (in *Intake) submission(ctx context.Context, f *formed) (string, error) {
	id := make([]byte, 24)
	_, _ = rand.Read(id[:16])
	binary.BigEndian.PutUint64(id[16:], uint64(now().Unix()))
	return in.signed(ctx, f, "form", id)
}

// signed writes bytes with a code that only we can make, for this form.
func (in *Intake) signed(ctx context.Context, f *formed, purpose string, b []byte) (string, error) {
	code, err := in.Vault.Code(ctx, f.Workspace, purpose, append([]byte(f.Address+" "), b...))
	if err != nil {
		return "", err
	}
	return base64.RawURLEncoding.EncodeToString(b) + "." + base64.RawURLEncoding.EncodeToString(code[:16]), nil
}

// ours gives the bytes of a text that we signed; nil: it is none.
func (in *Intake) ours(ctx context.Context, f *formed, purpose, text string) ([]byte, error) {
	text, _, _ = strings.Cut(text, "\n")
	part, _, _ := strings.Cut(text, ".")
	b, err := base64.RawURLEncoding.DecodeString(part)
	if err != nil {
		return nil, nil
	}
	want, err := in.signed(ctx, f, purpose, b)
	if err != nil || !hmac.Equal([]byte(want), []byte(text)) {
		return nil, err
	}
	return b, nil
}

// known is the id of a view that we made, and whether it can still be sent.
func (in *Intake) known(ctx context.Context, f *formed, text string) (id string, good bool, err error) {
	b, err := in.ours(ctx, f, "form", text)
	if err != nil || len(b) != 24 {
		return "", false, err
	}
	made := time.Unix(int64(binary.BigEndian.Uint64(b[16:])), 0)
	return hex.EncodeToString(b[:16]), now().Sub(made) < pageGood, nil
}
