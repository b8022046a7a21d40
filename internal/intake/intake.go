// Package intake starts runs: from webhooks and by hand. A start is durable
// before it is acknowledged.
package intake

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/kept"
	"youngtrellis/internal/store"
)

// MaxBody is the largest body of a webhook.
const MaxBody = 1 << 20

// MaxItems is how many items start with one event, or by hand, unless it is set.
const MaxItems = 100_000

// Refusals of callers that did not prove themselves are noted at this rate, of each
// workflow: whoever knows an address could have us write without end.
const (
	notedRate  = 2
	notedBurst = 20
)

const (
	itemsPerPage = 250
	excerptBytes = 2000
	// decodedBytes is up to which length items are kept as values too, until their
	// run begins; as values they take several times the memory.
	decodedBytes = 16 << 10
	// MaxQueue is how many runs of a workspace wait for their turn, unless it is said
	// otherwise.
	MaxQueue = 100_000
)

// Store is what the intake needs to know and to remember.
type Store interface {
	HookByAddress(ctx context.Context, address string) (store.Hook, error)
	HookScope(h store.Hook) store.Scope
	Workflow(ctx context.Context, sc store.Scope, name string) (store.Workflow, error)
	AddSample(ctx context.Context, sc store.Scope, workflow uuid.UUID, fields, source string, taken bool) (store.Sample, error)
	AddDelivery(ctx context.Context, sc store.Scope, workflow uuid.UUID, d store.Delivery) error
	// Queued counts a workspace's runs that wait for their turn, up to most.
	Queued(ctx context.Context, workspace uuid.UUID, most int) (int, error)
}

// Plans finds compiled revisions.
type Plans interface {
	Plan(ctx context.Context, workspace, workflow uuid.UUID, revision int) (*workflow.Plan, error)
}

// Node makes starts durable and sees to it that they are carried out.
type Node interface {
	Accept(ctx context.Context, s *store.Start) (store.Started, error)
}

// Intake accepts what starts runs.
type Intake struct {
	Store Store
	Plans Plans
	Node  Node
	Items int // that start with one event, at most; 0: MaxItems
	Queue int // runs of a workspace that wait for their turn, at most; 0: MaxQueue
	// Secrets are those of a workspace, which its runs are not called by; nil: none.
	Secrets func(ctx context.Context, workspace uuid.UUID) (*call.Secrets, error)

	hooks  *kept.Values[string, store.Hook] // by address
	noted  *kept.Rates                      // of refusals, by workflow
	queues *kept.Values[uuid.UUID, *atomic.Int64]
}

// New makes an intake.
func New(s Store, p Plans, n Node) *Intake {
	return &Intake{Store: s, Plans: p, Node: n, hooks: kept.New[string, store.Hook](time.Second, 10_000), queues: kept.New[uuid.UUID, *atomic.Int64](time.Second, 10_000), noted: kept.NewRates(notedRate, notedBurst)}
}

// Refused says no to a caller, with a status and a reason for it.
type Refused struct {
	Status  int
	Message string
	After   time.Duration // when to try again; 0: not said
}

func (r *Refused) Error() string { return r.Message }

// errUnknown is the one answer to an unknown address and to a bad proof.
var errUnknown = &Refused{Status: http.StatusNotFound, Message: "Nothing is called here, or the proof is not right."}

// Received tells what a delivery set off.
type Received struct {
	Run       uuid.UUID
	Duplicate bool
	Sample    bool
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
	if h.State != "live" || plan == nil {
		why := "the workflow is not live"
		if h.State == "paused" {
			why = "the workflow is paused"
		}
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
	s := &store.Start{Workspace: h.Workspace, Workflow: h.Workflow, Run: store.NewID(), Revision: *h.Live, Trigger: triggers.Webhook, By: "its webhook", Accepted: now()}
	var err error
	if s.Key, s.Expires, err = startKey(ctx, plan, fields, s.Accepted); err != nil {
		in.note(ctx, h, "refused", err.Error(), nil, body)
		return Received{}, &Refused{Status: http.StatusUnprocessableEntity, Message: err.Error()}
	}
	if err := fill(s, plan, fields); err != nil {
		return Received{}, &Refused{Status: http.StatusBadRequest, Message: err.Error()}
	}
	if err := in.name(ctx, s, plan, fields); err != nil {
		return Received{}, err
	}
	if err := lineUp(ctx, s, plan, fields); err != nil {
		in.note(ctx, h, "refused", err.Error(), nil, body)
		return Received{}, &Refused{Status: http.StatusUnprocessableEntity, Message: err.Error()}
	}
	if err := in.room(ctx, h.Workspace); err != nil {
		return Received{}, err
	}
	started, err := in.Node.Accept(ctx, s)
	if err != nil {
		return Received{}, err
	}
	if started.Duplicate {
		in.note(ctx, h, "duplicate", fmt.Sprintf("the key %s has started run %s already", words.Key(s.Key), started.Run), &started.Run, body)
	}
	return Received{Run: started.Run, Duplicate: started.Duplicate}, nil
}

// Most is how many items start with one event.
func (in *Intake) Most() int {
	if in.Items > 0 {
		return in.Items
	}
	return MaxItems
}

func parse(contentType string, query url.Values, body []byte, most int) ([]map[string]any, error) {
	kind, _, err := mime.ParseMediaType(contentType)
	if err != nil && contentType != "" {
		return nil, fmt.Errorf("the Content-Type %q cannot be read", contentType)
	}
	switch {
	case kind == "application/json" || strings.HasSuffix(kind, "+json") || kind == "" && len(body) > 0 && (body[0] == '{' || body[0] == '['):
		if err := item.CheckJSON(body); err != nil {
			return nil, err
		}
		return parseJSON(body, most)
	case kind == "application/x-www-form-urlencoded":
		values, err := url.ParseQuery(string(body))
		if err != nil {
			return nil, fmt.Errorf("the form cannot be read: %w", err)
		}
		return formFields(values)
	case len(body) == 0:
		return formFields(query)
	case strings.HasPrefix(kind, "text/") || kind == "":
		if err := item.CheckText(string(body)); err != nil {
			return nil, err
		}
		return []map[string]any{{"body": string(body)}}, nil
	}
	return nil, fmt.Errorf("the content type %s is not taken here; send JSON, a form or text", kind)
}

// mostWrong is how many wrong fields of a start are told.
const mostWrong = 20

// asked completes the items of a start by hand with what the trigger presets, and
// refuses those that lack what it asks for. Without any there is one empty item.
func asked(asks triggers.Asked, items []map[string]any) ([]map[string]any, error) {
	if len(items) == 0 {
		items = []map[string]any{{}}
	}
	out := make([]map[string]any, len(items))
	wrong := &form.InputError{}
	for i, fields := range items {
		full, err := asks.Complete(fields)
		out[i] = full
		var of *form.InputError
		switch {
		case errors.As(err, &of) && len(items) == 1:
			return nil, of
		case errors.As(err, &of):
			for _, f := range of.Fields {
				wrong.Fields = append(wrong.Fields, form.FieldError{Field: fmt.Sprintf("items[%d].%s", i, f.Field), Message: fmt.Sprintf("Item %d: %s", i+1, f.Message)})
			}
		case err != nil:
			return nil, err
		}
		if len(wrong.Fields) >= mostWrong {
			break
		}
	}
	if len(wrong.Fields) > 0 {
		return nil, wrong
	}
	return out, nil
}
