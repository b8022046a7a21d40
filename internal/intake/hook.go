package intake

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/google/uuid"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// MaxBody is the largest body of a webhook.
const MaxBody = 1 << 20

// Refusals of callers that did not prove themselves are noted at this rate, of each
// workflow: whoever knows an address could have us write without end.
const (
	notedRate  = 2
	notedBurst = 20
)

// errUnknown is the one answer to an unknown address and to a bad proof.
var errUnknown = &Refused{Status: http.StatusNotFound, Message: "Nothing is called here, or the proof is not right."}

// Received tells what a delivery set off.
type Received struct {
	Run       uuid.UUID // the first that was started; where none was, whose key it is
	Runs      int       // that were started
	Known     int       // items whose keys have started a run already
	Duplicate bool      // none was started
	Sample    bool
	Kept      bool // it starts nothing for now: the workflow is paused
}

// Forget drops what is remembered of a hook after its workflow changed.
func (in *Intake) Forget(address string) {
	in.hooks.Forget(address)
}

// hook finds an address; what it finds is kept for a second.
func (in *Intake) hook(ctx context.Context, address string) (store.Hook, error) {
	if len(address) != 22 {
		return store.Hook{}, store.ErrNotFound
	}
	return in.hooks.Get(address, func() (store.Hook, error) { return in.Store.HookByAddress(ctx, address) })
}

// Body is what a caller sends, to be read.
type Body struct {
	io.Reader
	Length int64 // as the caller says; -1: it does not
}

// Receive takes a webhook's delivery. The body of a caller that has not proved itself
// is not read, but for its beginning, which the call sheet shows. The error is a
// *Refused, store.ErrUnavailable, or that of the body.
func (in *Intake) Receive(ctx context.Context, address string, header http.Header, query url.Values, from Body) (Received, error) {
	h, err := in.hook(ctx, address)
	if errors.Is(err, store.ErrNotFound) {
		return Received{}, errUnknown
	}
	if err != nil {
		return Received{}, err
	}
	start, plan, err := in.start(ctx, h)
	if err != nil {
		return Received{}, err
	}
	if !start.Open && !proves(header, h.Secret) {
		if in.noted.Allow(h.Workflow.String()) {
			begins, _ := io.ReadAll(io.LimitReader(from, excerptBytes))
			in.noteOf(ctx, h, "refused", proofReason(header, h.Secret), nil, begins, max(len(begins), int(from.Length)))
		}
		return Received{}, errUnknown
	}
	body, err := io.ReadAll(from)
	if err != nil {
		return Received{}, err
	}
	fields, err := in.parse(header.Get("Content-Type"), query, body)
	if err != nil {
		in.note(ctx, h, "refused", err.Error(), nil, body)
		return Received{}, &Refused{Status: http.StatusBadRequest, Message: err.Error()}
	}
	if h.Taking {
		return in.sample(ctx, h, address, fields, body)
	}
	if plan != nil && !called(plan) {
		const why = "what is live is not started by calls any more"
		in.note(ctx, h, "refused", why, nil, body)
		return Received{}, &Refused{Status: http.StatusGone, Message: "Taken note of, but nothing was started: " + why + "."}
	}
	if h.State == "paused" && plan != nil {
		got, err := in.keep(ctx, h, plan, fields, body)
		if !errors.Is(err, store.ErrConflict) {
			return got, err
		}
		in.Forget(address) // it goes on since
		h.State = "live"
	}
	if h.State != "live" || plan == nil {
		const why = "the workflow is not live"
		in.note(ctx, h, "refused", why, nil, body)
		return Received{}, &Refused{Status: http.StatusConflict, Message: "Taken note of, but nothing was started: " + why + "."}
	}
	return in.begin(ctx, h, plan, fields, body)
}

// start says how events start runs at the moment: by the live revision, or by
// the draft while there is none.
func (in *Intake) start(ctx context.Context, h store.Hook) (triggers.Start, *workflow.Plan, error) {
	if h.Live != nil {
		plan, err := in.Plans.Plan(ctx, h.Workspace, h.Workflow, *h.Live)
		if err != nil {
			return triggers.Start{}, nil, err
		}
		return plan.Start, plan, nil
	}
	w, err := in.Store.Workflow(ctx, in.Store.HookScope(h), h.Name)
	if err != nil {
		return triggers.Start{}, nil, err
	}
	parsed, _, _ := workflow.Read([]byte(w.Draft))
	if parsed == nil {
		return triggers.Start{}, nil, nil
	}
	return parsed.Start(), nil, nil
}

// called tells whether calls start runs of a plan.
func called(plan *workflow.Plan) bool {
	k, ok := triggers.Find(plan.Workflow.Trigger.Type)
	return ok && k.Called
}

// proves checks the bearer secret in constant time.
func proves(header http.Header, hash []byte) bool {
	token, ok := strings.CutPrefix(header.Get("Authorization"), "Bearer ")
	sum := sha256.Sum256([]byte(strings.TrimSpace(token)))
	return ok && hash != nil && subtle.ConstantTimeCompare(sum[:], hash) == 1
}

func proofReason(header http.Header, hash []byte) string {
	given := header.Get("Authorization")
	switch {
	case hash == nil:
		return "no secret has been made for this address yet; make one on the call sheet"
	case given == "":
		return "the call had no Authorization header; it should be: Authorization: Bearer and the secret"
	case !strings.HasPrefix(given, "Bearer "):
		return "the Authorization header does not begin with Bearer"
	}
	return "the secret in the Authorization header is not the right one"
}

// note records what arrived for the call sheet. The sign-in was taken off; a
// failure to record never fails the delivery.
func (in *Intake) note(ctx context.Context, h store.Hook, verdict, reason string, run *uuid.UUID, body []byte) {
	in.noteOf(ctx, h, verdict, reason, run, body, len(body))
}

// noteOf notes a body of which only the beginning was read.
func (in *Intake) noteOf(ctx context.Context, h store.Hook, verdict, reason string, run *uuid.UUID, body []byte, length int) {
	excerpt := strings.ToValidUTF8(string(body[:min(len(body), excerptBytes)]), "?")
	_ = in.Store.AddDelivery(ctx, in.Store.HookScope(h), h.Workflow, store.Delivery{Verdict: verdict, Reason: reason, Run: run, Bytes: length, Excerpt: words.Visible(strings.ReplaceAll(excerpt, "\x00", ""))})
}

func (in *Intake) sample(ctx context.Context, h store.Hook, address string, fields []map[string]any, body []byte) (Received, error) {
	defer in.Forget(address)
	text, err := item.Encode(fields[0])
	if err != nil {
		return Received{}, &Refused{Status: http.StatusBadRequest, Message: err.Error()}
	}
	if _, err := in.Store.AddSample(ctx, in.Store.HookScope(h), h.Workflow, string(text), "taken from a real call", true); err != nil {
		return Received{}, err
	}
	in.note(ctx, h, "sample", "", nil, body)
	return Received{Sample: true}, nil
}

func (in *Intake) begin(ctx context.Context, h store.Hook, plan *workflow.Plan, fields []map[string]any, body []byte) (Received, error) {
	runs, repeated, err := in.apart(ctx, delivery(h), plan, fields)
	if err != nil {
		in.note(ctx, h, "refused", err.Error(), nil, body)
		return Received{}, &Refused{Status: http.StatusUnprocessableEntity, Message: err.Error()}
	}
	got, err := in.startAll(ctx, plan, runs)
	var refused *Refused
	if errors.As(err, &refused) && refused.After == 0 {
		in.note(ctx, h, "refused", err.Error(), nil, body)
	}
	if err != nil {
		return Received{}, err
	}
	if got.key != "" {
		in.note(ctx, h, "duplicate", fmt.Sprintf("the key %s has started run %s already", words.Key(got.key), got.known), &got.known, body)
	}
	return got.settle(repeated), nil
}
