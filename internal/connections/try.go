package connections

import (
	"context"
	"time"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"

	"github.com/google/uuid"
)

// Tried is what a single try of an action gave.
type Tried struct {
	Sent   *call.Sent
	Answer *call.Answer
	Page   *connector.Page
	Took   time.Duration
	Why    string // it failed
}

// Kind of a try.
type Kind int

// Kinds of tries.
const (
	Shown Kind = iota // nothing is sent; the request is shown as it would be
	Real              // the call is made
)

// Try makes one call of an action outside of any run, or shows it. Secrets that
// the answer echoes are masked in all that comes back.
func (s *Service) Try(ctx context.Context, workspace uuid.UUID, name string, a *connector.Action, input map[string]any, kind Kind) (*Tried, error) {
	o, err := s.open(ctx, workspace, name)
	if err != nil {
		return nil, err
	}
	request, err := a.Build(o.parameters, input, nil)
	if err != nil {
		return nil, err
	}
	if request, err = engine.At(o.base, request); err != nil {
		return nil, err
	}
	secrets := o.Secrets().With(a.SecretInput(input)...)
	t := &Tried{Sent: request.Show(secrets)}
	if kind == Shown {
		t.Sent.Prepared = true
		return t, nil
	}
	request.Timeout = 2 * time.Minute
	done, err := s.gate(ctx, o, request, nil)
	if err != nil {
		return nil, err
	}
	defer done()
	began := time.Now()
	answer, sent, err := s.call(ctx, o, uuid.Nil, request, uuid.NewString())
	t.Took = time.Since(began)
	if sent != nil {
		own := *sent
		own.URL, own.Body = secrets.Mask(own.URL), secrets.Mask(own.Body)
		t.Sent = &own
	}
	if err != nil {
		t.Why = secrets.Mask(o.Hide(err.Error()))
		return t, nil //nolint:nilerr // that the call failed is what the try found
	}
	t.Answer = answer
	if a.Job != nil {
		v, err := a.ReadSubmitted(answer, time.Now())
		t.Page = &connector.Page{Output: v}
		if err != nil {
			t.Why = o.Hide(item.StorableText(err.Error()))
		}
	} else if t.Page, err = a.Read(answer, connector.Asked{Call: request, Input: input, Now: time.Now()}); err != nil {
		t.Why = o.Hide(item.StorableText(err.Error()))
	}
	t.hide(secrets)
	return t, nil
}

// hide makes a copy of what was given that may be seen.
func (t *Tried) hide(secrets *call.Secrets) {
	if t.Page == nil {
		return
	}
	own := *t.Page
	own.Output, own.Next, own.Left = secrets.MaskValue(item.Storable(own.Output)), secrets.MaskValue(item.Storable(own.Next)), secrets.Mask(own.Left)
	own.Items = make([]map[string]any, len(t.Page.Items))
	for i, it := range t.Page.Items {
		own.Items[i], _ = secrets.MaskValue(item.Storable(it)).(map[string]any)
	}
	t.Page = &own
}
