package connections

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

// Owner is the node that carries a run out, as far as calls depend on it.
type Owner interface {
	// Alive waits until a call may begin, or says why none may.
	Alive(ctx context.Context) error
	Session() uuid.UUID
	// Return gives leave to call back, durably, some time soon.
	Return(store.Permitted) error
}

// Run is what one run reaches outside through: its connections, its callbacks
// and its sealer. Owner is nil where nothing of it is written.
type Run struct {
	Service   *Service
	Workspace uuid.UUID
	ID        uuid.UUID
	Owner     Owner
	Rehearsal bool
}

// Open implements engine.Connections.
func (r *Run) Open(ctx context.Context, name string) (engine.Connection, error) {
	o, err := r.Service.open(ctx, r.Workspace, name)
	if err != nil {
		return nil, err
	}
	return &connection{run: r, opened: o}, nil
}

// Sign implements engine.Connections.
func (r *Run) Sign(ctx context.Context, name, text string) ([]byte, error) {
	o, err := r.Service.open(ctx, r.Workspace, name)
	if err != nil {
		return nil, err
	}
	return o.sign(text)
}

// sign makes a message authentication code with the secret of the account.
func (o *opened) sign(text string) ([]byte, error) {
	code, err := o.SignIn.Code(o.Account.Credentials, text)
	if err != nil {
		return nil, &call.Failure{Class: call.BadInput, Message: err.Error() + ": " + o.Name}
	}
	return code, nil
}

// connection is an opened account in the hands of a run.
type connection struct {
	run *Run
	*opened
}

// Account implements engine.Connection.
func (c *connection) Account() engine.Account {
	return engine.Account{Parameters: c.parameters, Base: c.base, Secrets: c.Secrets()}
}

// Send implements call.Sender. A sign-in that the other side no longer takes
// marks the connection and parks the run; it is not a failure of the item.
func (c *connection) Send(ctx context.Context, request *call.Call, key string) (*call.Answer, *call.Sent, error) {
	s := c.run.Service
	o, err := s.open(ctx, c.run.Workspace, c.Name) // a repeat may come long after the first
	if err != nil {
		return nil, nil, err
	}
	done, err := s.gate(ctx, o, request, c.run.Owner)
	if err != nil {
		return nil, nil, err
	}
	defer done()
	if c.run.Owner != nil {
		if err := c.run.Owner.Alive(ctx); err != nil {
			return nil, nil, err
		}
	}
	if c.run.ID != uuid.Nil {
		ctx = outbound.WithTrace(ctx, c.run.ID)
	}
	return s.call(ctx, o, c.run.ID, request, key)
}

// Hold implements engine.Connection.
func (c *connection) Hold(ctx context.Context, d time.Duration, why string) error {
	if c.Name == "" || c.run.Rehearsal && d > patience {
		return nil
	}
	defer c.run.Service.Forget(c.run.Workspace, c.Name)
	return c.run.Service.Store.Hold(ctx, c.run.Workspace, c.id, d, why)
}

// Callback implements engine.Callbacks: the address's token is made of the
// place in the run, so that it is the same at every attempt.
func (r *Run) Callback(ctx context.Context, step uint16, rounds item.Rounds, address item.Address) (string, error) {
	place := fmt.Appendf(nil, "%s %d %x %x", r.ID, step, rounds, string(address))
	code, err := r.Service.Vault.Code(ctx, r.Workspace, "callback", place)
	if err != nil {
		return "", err
	}
	token := base64.RawURLEncoding.EncodeToString(code)
	err = r.Service.Store.KeepCallback(ctx, token, store.Callback{Workspace: r.Workspace, Run: r.ID, Step: step, Rounds: []byte(rounds), Address: []byte(address)})
	return r.Service.PublicURL + "/callbacks/" + token, err
}

// Seal implements engine.Sealer.
func (r *Run) Seal(ctx context.Context, plain []byte) ([]byte, error) {
	return r.Service.Vault.Seal(ctx, r.Workspace, "journal", "sealed", r.ID, plain)
}

// Unseal implements engine.Sealer.
func (r *Run) Unseal(ctx context.Context, sealed []byte) ([]byte, error) {
	return r.Service.Vault.Unseal(ctx, r.Workspace, "journal", "sealed", r.ID, sealed)
}

// Digest implements engine.Sealer.
func (r *Run) Digest(ctx context.Context, b []byte) ([]byte, error) {
	return r.Service.Vault.Code(ctx, r.Workspace, "input of "+r.ID.String(), b)
}

// call sends a call, once more with a fresh token where the old one was
// refused: such a refusal comes before anything is done.
func (s *Service) call(ctx context.Context, o *opened, run uuid.UUID, request *call.Call, key string) (*call.Answer, *call.Sent, error) {
	if request.Timeout > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, request.Timeout)
		defer cancel()
	}
	answer, sent, err := s.send(ctx, o, run, request, key)
	if o.Name == "" || !unauthorized(answer, err) {
		return answer, sent, err
	}
	c, cerr := s.Store.ConnectionForRun(ctx, o.Workspace, o.Name)
	if cerr != nil {
		return nil, sent, cerr
	}
	// A token that was refused may have been replaced meanwhile, by us or by
	// another process. Only one that is the newest and was just renewed tells
	// that the sign-in is over.
	for renewed := false; o.SignIn.Method == connector.OAuth2 && !(renewed && c.TokenVersion == o.version); {
		stale := -1
		if c.TokenVersion == o.version {
			stale, renewed = o.version, true
		}
		s.Forget(o.Workspace, o.Name)
		fresh, rerr := s.unseal(ctx, c, stale)
		if rerr != nil {
			return nil, sent, s.breaks(ctx, &c, rerr)
		}
		o = fresh
		answer, sent, err = s.send(ctx, o, run, request, key)
		if !unauthorized(answer, err) {
			return answer, sent, err
		}
		if c, cerr = s.Store.ConnectionForRun(ctx, o.Workspace, o.Name); cerr != nil { // it was refused, so it may be made again
			return nil, sent, cerr
		}
	}
	return nil, sent, s.breaks(ctx, &c, &broken{o.refused(answer, err)})
}

// send makes a call once and remembers it for the connection's page.
func (s *Service) send(ctx context.Context, o *opened, run uuid.UUID, request *call.Call, key string) (*call.Answer, *call.Sent, error) {
	began := time.Now()
	answer, sent, err := s.Client.Of(o.Account).Send(ctx, request, key)
	if o.Name != "" {
		s.record(o, run, sent, began, err)
	}
	return answer, sent, err
}

func unauthorized(answer *call.Answer, err error) bool {
	var f *call.Failure
	if errors.As(err, &f) {
		return f.Status == http.StatusUnauthorized
	}
	return err == nil && answer.Status == http.StatusUnauthorized
}
