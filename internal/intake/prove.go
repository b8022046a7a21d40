package intake

import (
	"bytes"
	"context"
	"errors"
	"io"

	"github.com/google/uuid"

	"youngtrellis/internal/core/payload"
	"youngtrellis/internal/core/proof"
)

// prove tells how a call is proven, and gives its body to be read. The error is
// errUnknown where it is not.
func (in *Intake) prove(ctx context.Context, h hook, rule proof.Rule, c Call) (proof.Proof, *seen, error) {
	body := &seen{from: c.Body, most: MaxBody}
	byHeader := rule.ByHeader() || rule.Open()
	var raw []byte
	if !byHeader { // it is the raw bytes that are signed
		var err error
		var large *payload.TooLarge
		if raw, err = io.ReadAll(body); errors.As(err, &large) {
			return proof.Proof{}, nil, in.unproven(ctx, h, "what is signed is read whole, and "+large.Error(), body.excerpt)
		} else if err != nil {
			return proof.Proof{}, nil, err
		}
	}
	p, err := rule.Check(c.Header, raw, h.secrets, now())
	if err != nil {
		if byHeader && in.noted.Allow(h.Workflow.String()) {
			body.begins, _ = io.ReadAll(io.LimitReader(c.Body, excerptBytes))
			body.length = max(len(body.begins), int(c.Length))
			in.note(ctx, h.Hook, "refused", err.Error(), nil, body.excerpt)
		} else if !byHeader {
			return p, nil, in.unproven(ctx, h, err.Error(), body.excerpt)
		}
		return p, nil, errUnknown
	}
	if p.Secret >= 0 {
		in.used(ctx, h, h.Secrets[p.Secret].ID)
	}
	if !byHeader {
		body.from, body.most = bytes.NewReader(raw), 2*MaxBody // it is counted again
		body.excerpt = excerpt{}
	} else if !rule.Open() {
		if body.most = MostBody; c.Long != nil {
			c.Long()
		}
	}
	return p, body, nil
}

// unproven notes a call whose body was read and that proved nothing.
func (in *Intake) unproven(ctx context.Context, h hook, why string, body excerpt) error {
	if in.noted.Allow(h.Workflow.String()) {
		in.note(ctx, h.Hook, "refused", why, nil, body)
	}
	return errUnknown
}

// used notes that a secret is in use, once in a minute. A failure to note it never
// fails the call.
func (in *Intake) used(ctx context.Context, h hook, id uuid.UUID) {
	_, _ = in.inUse.Get(id, func() (bool, error) { return true, in.Store.HookSecretUsed(ctx, h.Hook, id) })
}
