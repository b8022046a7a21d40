package intake

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/payload"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/store"
)

// Submit takes a form that was filled in. Files are taken of pages that we made alone:
// the id of the view comes first. The error is a *Refused, a *payload.TooLarge, or that of
// the body.
func (in *Intake) Submit(ctx context.Context, c Call) (*FormSent, error) {
	f, err := in.form(ctx, c.Address)
	if err != nil {
		return nil, err
	}
	s := &submitting{Intake: in, f: f, ctx: ctx, long: c.Long, came: map[string]bool{}}
	body := &seen{from: c.Body, most: MostBody}
	fields, err := payload.Items(payload.Body{ContentType: c.Header.Get("Content-Type"), Encoding: c.Header.Get("Content-Encoding"), Content: body,
		Files: s.file, Text: s.text, Most: MostBody, MostBytes: MaxBody, MostItems: 1})
	if err == nil {
		err = s.err
	}
	if err != nil {
		return nil, in.unread(ctx, f.Hook, body, err)
	}
	s.typed = typedOf(fields[0])
	if s.id == "" { // it came without files
		s.text(SubmissionField, s.typed.Text(SubmissionField))
	}
	if s.err != nil {
		return nil, s.err
	}
	return s.taken(body)
}

// submitting is a form on its way in.
type submitting struct {
	*Intake
	f     *formed
	ctx   context.Context
	long  func()
	id    string // of the view; "" where it is none of ours
	good  bool   // it can be sent still
	typed triggers.Typed
	came  map[string]bool // files that came with it, by their ids
	err   error
}

// text hears of the id, which comes ahead of everything else.
func (s *submitting) text(name, text string) {
	if name == SubmissionField && s.id == "" && s.err == nil {
		s.id, s.good, s.err = s.known(s.ctx, s.f, text)
	}
}

var errFilesFirst = &Refused{Status: http.StatusBadRequest, Message: "Files are taken from the form's own page alone. Open it and send them from there."}

// file keeps a file of a page that we made.
func (s *submitting) file(name, kind string, content io.Reader) (*item.File, error) {
	begins := bufio.NewReader(content)
	if _, err := begins.Peek(1); errors.Is(err, io.EOF) {
		return nil, nil // none was chosen
	}
	if s.err != nil {
		return nil, s.err
	}
	if s.id == "" {
		return nil, errFilesFirst
	}
	most := int64(0)
	for _, p := range s.f.start.Asks.Properties {
		if triggers.ControlOf(p) == triggers.Upload {
			most = max(most, triggers.UpTo(p))
		}
	}
	if s.Files == nil || most == 0 {
		return nil, &Refused{Status: http.StatusUnprocessableEntity, Message: "No files are taken here."}
	}
	if s.long != nil {
		s.long()
	}
	f, err := s.Files.Incoming(s.ctx, s.f.Workspace, name, kind, &seen{from: begins, most: most})
	if err == nil {
		s.came[f.ID] = true
	}
	return f, err
}

// typedOf are texts and files by the names of their fields.
func typedOf(fields map[string]any) triggers.Typed {
	out := triggers.Typed{}
	for name, v := range fields {
		if list, ok := v.([]any); ok {
			out[name] = list
		} else {
			out[name] = []any{v}
		}
	}
	return out
}

// taken is what becomes of what was filled in.
func (s *submitting) taken(body *seen) (*FormSent, error) {
	in, f := s.Intake, s.f
	if s.typed.Text(EmptyField) != "" {
		if in.noted.Allow(f.Workflow.String()) {
			in.note(s.ctx, f.Hook, "refused", "the field was filled in that people do not see: a program sent it", nil, body.excerpt)
		}
		return &FormSent{Thanked: true}, nil // it learns nothing
	}
	if err := s.files(); err != nil {
		return nil, err
	}
	fields, err := f.start.Asks.Fill(s.typed, f.start.Hosted.Zone, now())
	if err == nil {
		err = in.ofLists(s.ctx, f.Workspace, f.start.Asks, []map[string]any{fields})
	}
	var input *form.InputError
	switch {
	case errors.As(err, &input):
		return s.again("", input.Fields)
	case err != nil:
		return nil, err
	case s.id == "" || !s.good:
		return s.again("This page was open for long. Look it through, and send it once more.", nil)
	}
	if f.Taking {
		if err := in.sample(s.ctx, f.Hook, []map[string]any{fields}, body.excerpt); err != nil {
			return nil, err
		}
		if f.plan == nil {
			return &FormSent{Thanked: true}, nil
		}
	}
	keys, err := s.keys(fields)
	if err != nil {
		return nil, err
	}
	return s.begin(fields, keys, body)
}

// files takes those of an earlier try that nobody chose others in place of.
func (s *submitting) files() error {
	for _, p := range s.f.start.Asks.Properties {
		if triggers.ControlOf(p) != triggers.Upload {
			continue
		}
		var list []any
		for _, v := range s.typed[p.Name] {
			text, is := v.(string)
			if file, ok := item.AsFile(v); ok && s.came[file.ID] {
				list = append([]any{v}, list...)
			}
			if !is { // also what only says that it is a file
				continue
			}
			b, err := s.ours(s.ctx, s.f, "form file", text)
			if err != nil {
				return err
			}
			if of, err := item.DecodeObject(b); b != nil && err == nil {
				list = append(list, of)
			}
		}
		s.typed[p.Name] = list
	}
	return nil
}

// again shows the form once more, with what was typed.
func (s *submitting) again(why string, wrong []form.FieldError) (*FormSent, error) {
	page, err := s.view(s.ctx, s.f)
	if err != nil {
		return nil, err
	}
	page.Typed, page.Wrong, page.Again, page.Kept = s.typed, wrong, why, map[string]string{}
	for _, p := range s.f.start.Asks.Properties {
		for _, v := range s.typed[p.Name] {
			if file, ok := item.AsFile(v); ok && file.Size <= triggers.UpTo(p) {
				b, err := item.Encode(v)
				if err == nil {
					page.Kept[p.Name], err = s.signed(s.ctx, s.f, "form file", b)
				}
				if err != nil {
					return nil, err
				}
				break
			}
		}
	}
	return &FormSent{Page: page}, nil
}

// keys are those by which a repeat of the form is known: the view's, and the view's with
// what was filled in.
func (s *submitting) keys(fields map[string]any) ([]string, error) {
	text, err := item.Encode(fields)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(text)
	return []string{"form " + s.id, "form " + s.id + " " + hex.EncodeToString(sum[:16])}, nil
}

// keyOf is the key of the workflow that a run starts with, if there is one.
func keyOf(r run) []string {
	if r.start.Key == "" {
		return nil
	}
	return []string{r.start.Key}
}

// keyedAs lets a run start only if these keys are free too, which are remembered as long
// as the id of a delivery is.
func (r *run) keyedAs(keys []string) {
	if own := keyOf(*r); own != nil {
		r.start.Until = map[string]time.Time{own[0]: r.start.Expires}
		keys = append(own, keys...)
	}
	r.keys, r.start.Key, r.start.Expires = keys, "", r.start.Accepted.Add(remembered)
}

// begin starts the run of a form, once.
func (s *submitting) begin(fields map[string]any, keys []string, body *seen) (*FormSent, error) {
	in, f := s.Intake, s.f
	counted := false
	for range mostTries {
		runs, _, err := in.apart(s.ctx, delivery(f.Hook), f.plan, []map[string]any{fields})
		if err != nil {
			in.note(s.ctx, f.Hook, "refused", err.Error(), nil, body.with([]map[string]any{fields}))
			return nil, &Refused{Status: http.StatusUnprocessableEntity, Message: err.Error()}
		}
		r := runs[0]
		own := keyOf(r)
		known, err := in.Store.KnownKeys(s.ctx, f.Workspace, f.Workflow, append(own, keys...))
		if err != nil {
			return nil, err
		}
		if run, repeat := known[keys[1]]; repeat {
			return s.answered(run)
		}
		if _, other := known[keys[0]]; other {
			return s.again("This page was sent before, with other words. If you want to send these as well, press the button once more.", nil)
		}
		if own != nil && known[own[0]] != uuid.Nil {
			run := known[own[0]]
			in.note(s.ctx, f.Hook, "duplicate", "its key has started run "+run.String()+" already", &run, body.with([]map[string]any{fields}))
			return &FormSent{Thanked: true}, nil // whose answer that is, is not ours to say
		}
		if !counted {
			if err := s.room(); err != nil {
				return nil, err
			}
			counted = true
		}
		if f.State == "paused" {
			_, err := in.keep(s.ctx, f.Hook, f.plan, []map[string]any{fields}, body.excerpt, keys...)
			if !errors.Is(err, store.ErrConflict) {
				return &FormSent{Thanked: true}, err
			}
			in.Forget(f.Address)
			f.State = "live"
		}
		r.keyedAs(keys)
		started, err := in.launchAll(s.ctx, f.plan, []run{r})
		if err != nil {
			return nil, err
		}
		if !started[0].Conflict && !started[0].Duplicate {
			return s.answered(started[0].Run)
		}
	}
	return nil, &Refused{Status: http.StatusServiceUnavailable, Message: "It was sent several times at once; send it once more.", After: time.Second}
}

// room counts it towards what a form takes in a day.
func (s *submitting) room() error {
	n, err := s.Store.Filled(s.ctx, s.f.Hook)
	if err != nil {
		return err
	}
	if most := s.f.start.Hosted.Most; n > most {
		if s.noted.Allow(s.f.Workflow.String()) {
			s.note(s.ctx, s.f.Hook, "refused", fmt.Sprintf("it was filled in %d times today, as often as it takes (most)", most), nil, excerpt{})
		}
		return &Refused{Status: http.StatusTooManyRequests, Message: "This form has been filled in as often today as it takes. Try again tomorrow.", After: time.Hour}
	}
	return nil
}

// answered is where the answer of a run is found.
func (s *submitting) answered(run uuid.UUID) (*FormSent, error) {
	if !s.f.plan.Answers {
		return &FormSent{Thanked: true}, nil
	}
	token, err := s.place(s.ctx, s.f.Hook, run)
	return &FormSent{Answer: token}, err
}
