package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/google/uuid"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/payload"
	"youngtrellis/internal/core/personal"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/store"
)

// excerpt is how a body begins, and how long it is.
type excerpt struct {
	begins []byte
	length int
	items  []byte // that it brought, where they are few
}

func excerptOf(body []byte) excerpt {
	return excerpt{begins: body[:min(len(body), excerptBytes)], length: len(body)}
}

// itemsKept is up to which length the items are kept of what started nothing, so that
// somebody can start with them.
const itemsKept = 256 << 10

// with keeps the items that a body brought.
func (x excerpt) with(items []map[string]any) excerpt {
	if text, err := item.EncodeList(items); err == nil && len(text) <= itemsKept {
		x.items = text
	}
	return x
}

// seen is a body that is being read, up to a bound. What its beginning was is kept.
type seen struct {
	excerpt
	from io.Reader
	most int64
}

// Read implements io.Reader.
func (s *seen) Read(p []byte) (int, error) {
	n, err := s.from.Read(p)
	if free := excerptBytes - len(s.begins); free > 0 {
		s.begins = append(s.begins, p[:min(n, free)]...)
	}
	if s.length += n; int64(s.length) > s.most {
		return n, &payload.TooLarge{Most: s.most}
	}
	return n, err
}

// unread words and notes why a body could not be read.
func (in *Intake) unread(ctx context.Context, h store.Hook, body *seen, err error) error {
	var unread *payload.Unread
	var large *payload.TooLarge
	switch {
	case errors.As(err, &unread):
		in.note(ctx, h, "refused", unread.Error(), nil, body.excerpt)
		return &Refused{Status: http.StatusBadRequest, Message: unread.Error()}
	case errors.As(err, &large):
		in.note(ctx, h, "refused", large.Error(), nil, body.excerpt)
		return large
	}
	return err
}

// note records what arrived for the call sheet. The sign-in was taken off; a
// failure to record never fails the delivery.
func (in *Intake) note(ctx context.Context, h store.Hook, verdict, reason string, run *uuid.UUID, body excerpt) {
	text := strings.ToValidUTF8(string(body.begins), "?")
	_ = in.Store.AddDelivery(ctx, in.Store.HookScope(h), h.Workflow, store.Delivery{Verdict: verdict, Reason: reason, Run: run, Bytes: body.length, Excerpt: words.Visible(strings.ReplaceAll(text, "\x00", "")), Items: body.items})
}

// mostMasked is how many masked fields are told by name.
const mostMasked = 4

// sample keeps the first item of a call that somebody waits for. That there is no room
// for it is noted, and refuses nothing.
func (in *Intake) sample(ctx context.Context, h store.Hook, fields []map[string]any, body excerpt) error {
	defer in.Forget(h.Address)
	kept, source := fields[0], "taken from a real call"
	if !h.Plain {
		var masked []string
		if kept, masked = personal.Masked(kept); len(masked) > 0 {
			source += ", masked: " + words.And(masked[:min(len(masked), mostMasked)]...)
			if more := len(masked) - mostMasked; more > 0 {
				source += fmt.Sprintf(" and %d more", more)
			}
		}
	}
	text, err := item.Encode(kept)
	if err != nil {
		return &Refused{Status: http.StatusBadRequest, Message: err.Error()}
	}
	_, err = in.Store.AddSample(ctx, in.Store.HookScope(h), h.Workflow, string(text), source, true)
	if errors.Is(err, store.ErrSamplesFull) {
		in.note(ctx, h, "sample", "it was not kept: "+err.Error(), nil, body.with(fields))
		return nil
	}
	if err == nil {
		in.note(ctx, h, "sample", "", nil, body)
	}
	return err
}
