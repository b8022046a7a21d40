package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/payload"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// MaxBody is how much text a webhook's body may hold, unpacked, in bytes, and how much
// may come at all from who proves nothing.
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
	Here      string // it only asked whether somebody is here; that is what it is answered
	Kept      bool   // it starts nothing for now: the workflow is paused
	Told      *Told  // what the run answers; nil: nobody answers
}

// Forget drops what is remembered of a hook after its workflow changed.
func (in *Intake) Forget(address string) {
	in.hooks.Forget(address)
}

// hook is an address with the secrets that its callers prove.
type hook struct {
	store.Hook
	secrets []string
}

// hook finds an address; what it finds is kept for a second.
func (in *Intake) hook(ctx context.Context, address string) (hook, error) {
	if len(address) != 22 && !triggers.IsPath(address) {
		return hook{}, store.ErrNotFound
	}
	return in.hooks.Get(address, func() (hook, error) {
		h, err := in.Store.HookByAddress(ctx, address)
		out := hook{Hook: h}
		for _, s := range h.Secrets {
			text, err := in.Vault.Unseal(ctx, h.Workspace, "hook_secret", "secret", s.ID, s.Sealed)
			if err != nil {
				return out, err
			}
			out.secrets = append(out.secrets, string(text))
		}
		return out, err
	})
}

// Call is what somebody sends to an address.
type Call struct {
	Address string
	Method  string
	From    string // the caller's address
	Header  http.Header
	Query   url.Values
	Body    io.Reader
	Length  int64 // of the body, as the caller says; -1: it does not
	// Long lets it take as long as files take; nil: it does anyway.
	Long func()
}

// Receive takes a webhook's delivery. The body of a caller that has not proved itself
// is not read, but for its beginning, which the call sheet shows. The error is a
// *Refused, a *payload.TooLarge, store.ErrUnavailable, or that of the body.
func (in *Intake) Receive(ctx context.Context, c Call) (Received, error) {
	h, err := in.hook(ctx, c.Address)
	if errors.Is(err, store.ErrNotFound) {
		return Received{}, errUnknown
	}
	if err != nil {
		return Received{}, err
	}
	start, plan, err := in.start(ctx, h.Hook)
	if err != nil {
		return Received{}, err
	}
	if start.Hosted != nil { // its page takes what is sent
		return Received{}, errUnknown
	}
	door := start.Entrance
	if !door.Lets(c.From) {
		return Received{}, in.unproven(ctx, h, "it came from "+c.From+", which is none of the addresses that may call", excerpt{length: int(max(c.Length, 0))})
	}
	if text := c.Query.Get(door.Challenge); door.Challenge != "" && c.Method == http.MethodGet && text != "" {
		return in.answer(ctx, h, text)
	}
	proven, body, err := in.prove(ctx, h, start.Proof, c)
	if err != nil {
		return Received{}, err
	}
	if !door.Takes(c.Method) {
		allowed := strings.Join(door.Allowed(), ", ")
		why := "the method " + c.Method + " is not taken here; taken is " + allowed
		in.note(ctx, h.Hook, "refused", why, nil, body.excerpt)
		return Received{}, &Refused{Status: http.StatusMethodNotAllowed, Message: words.Sentence(why), Allow: allowed}
	}
	fields, err := payload.Items(payload.Body{ContentType: c.Header.Get("Content-Type"), Encoding: c.Header.Get("Content-Encoding"), Query: c.Query, Content: body,
		Files: in.filesOf(ctx, h.Workspace), Most: body.most, MostBytes: MaxBody, MostItems: in.Most()})
	if err != nil {
		return Received{}, in.unread(ctx, h.Hook, body, err)
	}
	door.Keep(c.Header, fields)
	if text, ok := fields[0][door.Challenge].(string); ok && door.Challenge != "" && len(fields) == 1 {
		return in.answer(ctx, h, text)
	}
	got, err := in.deliver(ctx, h.Hook, plan, fields, proven.ID, body.excerpt)
	if err == nil && got.Run != uuid.Nil && plan.Answers {
		got.Told, err = in.told(ctx, h.Hook, got.Run, plan.Start.AnswerWithin)
	}
	return got, err
}

// mostAnswer is how long what is answered to a call may be that asks whether somebody is
// here.
const mostAnswer = 500

// answer answers a call that only asks whether somebody is here with what it brought.
func (in *Intake) answer(ctx context.Context, h hook, text string) (Received, error) {
	if len(text) > mostAnswer || words.Visible(text) != text || strings.ContainsAny(text, "<>\r\n") {
		return Received{}, in.unproven(ctx, h, fmt.Sprintf("it asked whether somebody is here, with what is not answered: more than %d bytes, or other than plain characters", mostAnswer), excerptOf([]byte(text)))
	}
	if in.noted.Allow(h.Workflow.String()) {
		in.note(ctx, h.Hook, "answered", "it asked whether somebody is here", nil, excerptOf([]byte(text)))
	}
	return Received{Here: text}, nil
}

// deliver is what becomes of a call that is proven and read.
func (in *Intake) deliver(ctx context.Context, h store.Hook, plan *workflow.Plan, fields []map[string]any, id string, body excerpt) (out Received, err error) {
	if h.Taking {
		if err := in.sample(ctx, h, fields, body); err != nil {
			return Received{}, err
		}
		if out.Sample = true; h.State != "live" || plan == nil || !called(plan) {
			return out, nil
		}
	}
	refuse := func(status int, why string) (Received, error) {
		in.note(ctx, h, "refused", why, nil, body.with(fields))
		return out, &Refused{Status: status, Message: "Taken note of, but nothing was started: " + why + "."}
	}
	if plan != nil && !called(plan) {
		return refuse(http.StatusGone, "what is live is not started by calls any more")
	}
	if h.State == "paused" && plan != nil {
		got, err := in.keep(ctx, h, plan, fields, body)
		if !errors.Is(err, store.ErrConflict) {
			return got, err
		}
		in.Forget(h.Address) // it goes on since
		h.State = "live"
	}
	if h.State != "live" || plan == nil {
		return refuse(http.StatusConflict, "the workflow is not live")
	}
	taken := out.Sample
	out, err = in.begin(ctx, h, plan, fields, id, body)
	out.Sample = taken
	return out, err
}

// MostBody is how much may come in one call, files and all.
const MostBody = item.MaxFile + MaxBody

// filesOf keeps files that come in; nil: none are taken.
func (in *Intake) filesOf(ctx context.Context, workspace uuid.UUID) payload.Saver {
	if in.Files == nil {
		return nil
	}
	return func(name, kind string, content io.Reader) (*item.File, error) {
		return in.Files.Incoming(ctx, workspace, name, kind, content)
	}
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

// remembered is how long the id of a delivery is: its sender may send it again for days,
// each time with a time of its own.
const remembered = 30 * 24 * time.Hour

// begin starts the runs of a call; id is that of its delivery, where it is proven.
func (in *Intake) begin(ctx context.Context, h store.Hook, plan *workflow.Plan, fields []map[string]any, id string, body excerpt) (Received, error) {
	runs, repeated, err := in.apart(ctx, delivery(h), plan, fields)
	if err != nil {
		in.note(ctx, h, "refused", err.Error(), nil, body.with(fields))
		return Received{}, &Refused{Status: http.StatusUnprocessableEntity, Message: err.Error()}
	}
	if id != "" && plan.Start.Key == nil {
		for i := range runs {
			runs[i].start.Key, runs[i].start.Expires = fmt.Sprintf("delivery %d %s", i, id), runs[i].start.Accepted.Add(remembered)
		}
	}
	got, err := in.startAll(ctx, plan, runs)
	var refused *Refused
	if errors.As(err, &refused) && refused.After == 0 {
		in.note(ctx, h, "refused", err.Error(), nil, body.with(fields))
	}
	if err != nil {
		return Received{}, err
	}
	if got.key != "" {
		in.note(ctx, h, "duplicate", fmt.Sprintf("the key %s has started run %s already", words.Key(got.key), got.known), &got.known, body.with(fields))
	}
	return got.settle(repeated), nil
}
