// Package intake starts runs, with one file for each kind of trigger. A start is
// durable before it is acknowledged.
package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/lists"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/kept"
	"youngtrellis/internal/store"
)

// MaxItems is how many items start with one event, or by hand, unless it is set.
const MaxItems = 100_000

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
	HookSecretUsed(ctx context.Context, h store.Hook, id uuid.UUID) error
	Workflow(ctx context.Context, sc store.Scope, name string) (store.Workflow, error)
	AddSample(ctx context.Context, sc store.Scope, workflow uuid.UUID, fields, source string, taken bool) (store.Sample, error)
	AddDelivery(ctx context.Context, sc store.Scope, workflow uuid.UUID, d store.Delivery) error
	Schedules(ctx context.Context, sc store.Scope, workflow uuid.UUID) ([]store.Scheduled, time.Time, error)
	// KeepEvent keeps the items of an event of a paused workflow.
	KeepEvent(ctx context.Context, h store.Hook, items []byte, keys ...string) error
	// Filled counts that a form was filled in, and gives how often it was today.
	Filled(ctx context.Context, h store.Hook) (int, error)
	CurrentList(ctx context.Context, workspace uuid.UUID, name string, known int) (store.List, *lists.Table, error)
	// KnownKeys tells which of these keys have started runs of a workflow, and which.
	KnownKeys(ctx context.Context, workspace, workflow uuid.UUID, keys []string) (map[string]uuid.UUID, error)
	// Queued counts a workspace's runs that wait for their turn, up to most.
	Queued(ctx context.Context, workspace uuid.UUID, most int) (int, error)
	// PlaceAnswer lets the answer of a run be found by a token; AnswerPlaced finds it.
	PlaceAnswer(ctx context.Context, p store.Placed, token string) error
	AnswerPlaced(ctx context.Context, token string) (store.Placed, error)
}

// Plans finds compiled revisions.
type Plans interface {
	Plan(ctx context.Context, workspace, workflow uuid.UUID, revision int) (*workflow.Plan, error)
}

// Files keeps files that come in, with their type by what they hold.
type Files interface {
	Incoming(ctx context.Context, workspace uuid.UUID, name, kind string, content io.Reader) (*item.File, error)
}

// Vault opens the secrets that callers prove, and makes codes that only we can make.
type Vault interface {
	Code(ctx context.Context, workspace uuid.UUID, purpose string, text []byte) ([]byte, error)
	Unseal(ctx context.Context, workspace uuid.UUID, table, column string, row uuid.UUID, sealed []byte) ([]byte, error)
}

// Node makes starts durable and sees to it that they are carried out.
type Node interface {
	Accept(ctx context.Context, s *store.Start) (store.Started, error)
	// AcceptAll does that with several of one workspace, all of them or none.
	AcceptAll(ctx context.Context, list []*store.Start) ([]store.Started, error)
	// Answer waits until a run has answered, has ended, or waits for something itself;
	// when ctx ends it gives what is known.
	Answer(ctx context.Context, workspace, run uuid.UUID) store.Answered
}

// Intake accepts what starts runs.
type Intake struct {
	Store Store
	Plans Plans
	Node  Node
	Vault Vault
	Files Files // nil: none are taken
	Items int   // that start with one event, at most; 0: MaxItems
	Queue int   // runs of a workspace that wait for their turn, at most; 0: MaxQueue
	// Secrets are those of a workspace, which its runs are not called by; nil: none.
	Secrets func(ctx context.Context, workspace uuid.UUID) (*call.Secrets, error)

	hooks  *kept.Values[string, hook]    // by address
	inUse  *kept.Values[uuid.UUID, bool] // secrets of addresses, that this was noted
	noted  *kept.Rates                   // of refusals, by workflow
	queues *kept.Values[uuid.UUID, *atomic.Int64]
}

// New makes an intake.
func New(s Store, p Plans, n Node, v Vault) *Intake {
	return &Intake{Store: s, Plans: p, Node: n, Vault: v, hooks: kept.New[string, hook](time.Second, 10_000), inUse: kept.New[uuid.UUID, bool](time.Minute, 10_000), queues: kept.New[uuid.UUID, *atomic.Int64](time.Second, 10_000), noted: kept.NewRates(notedRate, notedBurst)}
}

// Refused says no to a caller, with a status and a reason for it.
type Refused struct {
	Status  int
	Message string
	After   time.Duration // when to try again; 0: not said
	Allow   string        // the methods that are taken, where another came
}

func (r *Refused) Error() string { return r.Message }

// Most is how many items start with one event.
func (in *Intake) Most() int {
	if in.Items > 0 {
		return in.Items
	}
	return MaxItems
}

func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

func startKey(ctx context.Context, plan *workflow.Plan, first map[string]any, accepted time.Time) (string, time.Time, error) {
	if plan.Start.Key == nil {
		return "", accepted, nil
	}
	ctx, cancel := context.WithTimeoutCause(ctx, tellWithin, errors.New("it takes longer than "+expr.Words(tellWithin)))
	defer cancel()
	v, err := plan.Start.Key.Eval(&expr.Scope{Item: first, Now: accepted, Context: ctx})
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		return "", accepted, fmt.Errorf("the key of the call cannot be told: %w", err)
	}
	key, err := item.Key(v)
	if err != nil {
		return "", accepted, fmt.Errorf("the key of the call cannot be told: %w", err)
	}
	switch {
	case key == "":
		return "", accepted, fmt.Errorf("the key is empty: %s gives nothing", plan.Start.Key.Source)
	case len(key) > 500+len(`"`):
		return "", accepted, errors.New("the key of the call is longer than 500 characters")
	case item.StorableText(key) != key:
		return "", accepted, errors.New("the key of the call holds a character that cannot be stored (U+0000, or broken UTF-8)")
	}
	return key, accepted.Add(plan.Start.KeyLasts), nil
}

// queueAgain is after how long a start is offered again that found the queue full.
const queueAgain = 10 * time.Second

// room refuses a start where as many of its workspace wait already as may. They are
// counted once a second; what comes here meanwhile is added, so that only what other
// nodes take in that second goes beyond the limit.
func (in *Intake) room(ctx context.Context, workspace uuid.UUID, starts int) error {
	most := in.MostQueued()
	n, err := in.queues.Get(workspace, func() (*atomic.Int64, error) {
		waiting, err := in.Store.Queued(ctx, workspace, most)
		n := &atomic.Int64{}
		n.Store(int64(waiting))
		return n, err
	})
	if err != nil {
		return err
	}
	if n.Add(int64(starts)) > int64(most) {
		return &Refused{Status: http.StatusTooManyRequests, After: queueAgain, Message: fmt.Sprintf("%s runs of this workspace wait for their turn, as many as may (--queue-limit of the service). Nothing was started; send it again in some seconds.", words.Number(most))}
	}
	return nil
}

// MostQueued is how many runs of a workspace may wait for their turn.
func (in *Intake) MostQueued() int {
	if in.Queue > 0 {
		return in.Queue
	}
	return MaxQueue
}

// tellWithin is how long it may take to tell the key or the lane of a start: what is
// looked at comes from whoever calls.
const tellWithin = 2 * time.Second

// lineUp tells in which lines the run stands.
func lineUp(ctx context.Context, s *store.Start, plan *workflow.Plan, fields []map[string]any) (err error) {
	ctx, cancel := context.WithTimeoutCause(ctx, tellWithin, errors.New("it takes longer than "+expr.Words(tellWithin)))
	defer cancel()
	s.Line.Limited = plan.Limits.Parallel > 0
	s.Line.Lane, err = plan.LaneOf(ctx, fields, s.Accepted)
	return err
}

// launch starts a run with these items, by its trigger unless another is said. The
// error is a *Refused where it is no fault of ours.
func (in *Intake) launch(ctx context.Context, s *store.Start, plan *workflow.Plan, items []map[string]any) (store.Started, error) {
	if err := in.prepare(ctx, s, plan, items); err != nil {
		return store.Started{}, err
	}
	if err := in.room(ctx, s.Workspace, 1); err != nil {
		return store.Started{}, err
	}
	return in.Node.Accept(ctx, s)
}

// prepare puts into a start what it needs to be made.
func (in *Intake) prepare(ctx context.Context, s *store.Start, plan *workflow.Plan, items []map[string]any) error {
	if s.Trigger == "" {
		s.Trigger = plan.Workflow.Trigger.Type
		if k, ok := triggers.Find(s.Trigger); ok {
			s.By = k.By
		}
	}
	if err := fill(s, plan, items); err != nil {
		return &Refused{Status: http.StatusBadRequest, Message: err.Error()}
	}
	if err := in.name(ctx, s, plan, items); err != nil {
		return err
	}
	if err := lineUp(ctx, s, plan, items); err != nil {
		return &Refused{Status: http.StatusUnprocessableEntity, Message: err.Error()}
	}
	return nil
}

// fill puts the items into a start, page by page.
func fill(s *store.Start, plan *workflow.Plan, fields []map[string]any) error {
	for i := 0; i < len(fields); i += itemsPerPage {
		text, err := item.EncodeList(fields[i:min(len(fields), i+itemsPerPage)])
		if err != nil {
			return err
		}
		s.Items, s.Ordinals = append(s.Items, text), append(s.Ordinals, uint32(i))
	}
	if len(s.Items) == 1 && len(s.Items[0]) <= decodedBytes {
		s.Decoded = fields
	}
	return nil
}

// name tells what the run is called, by its first item.
func (in *Intake) name(ctx context.Context, s *store.Start, plan *workflow.Plan, fields []map[string]any) (err error) {
	if len(fields) == 0 {
		return nil
	}
	var secrets *call.Secrets
	if in.Secrets != nil {
		if secrets, err = in.Secrets(ctx, s.Workspace); err != nil {
			return err
		}
	}
	s.Label = engine.Label(plan, item.New(0, fields[0], s.Accepted), secrets)
	return nil
}
