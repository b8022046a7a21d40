package connections

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/store"
)

// Known opens accounts as far as they are known here: nobody is asked for a
// token, and no call can be made. Requests can be made with them, to be looked at.
type Known struct {
	Service   *Service
	Workspace uuid.UUID
}

// Open implements engine.Connections.
func (k Known) Open(ctx context.Context, name string) (engine.Connection, error) {
	o, err := k.open(ctx, name)
	if err != nil {
		return nil, err
	}
	return knownConnection{o}, nil
}

// Sign implements engine.Connections.
func (k Known) Sign(ctx context.Context, name, text string) ([]byte, error) {
	o, err := k.open(ctx, name)
	if err != nil {
		return nil, err
	}
	return o.sign(text)
}

func (k Known) open(ctx context.Context, name string) (*opened, error) {
	if name == "" {
		return k.Service.open(ctx, k.Workspace, "")
	}
	c, err := k.Service.Store.ConnectionForRun(ctx, k.Workspace, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &call.Parked{Reason: call.ReasonConnection, Connection: name, Message: fmt.Sprintf("there is no connection %q any more", name)}
	}
	if err != nil {
		return nil, err
	}
	o, _, err := k.Service.unlocked(ctx, &c)
	return o, err
}

// knownConnection is an account that makes no calls.
type knownConnection struct{ *opened }

func (c knownConnection) Account() engine.Account {
	return engine.Account{Parameters: c.parameters, Base: c.base, Secrets: c.Secrets()}
}

func (c knownConnection) Send(context.Context, *call.Call, string) (*call.Answer, *call.Sent, error) {
	return nil, nil, &call.Parked{Reason: call.ReasonUnread, Connection: c.Name, Message: "nothing is read here"}
}

func (knownConnection) Hold(context.Context, time.Duration, string) error { return nil }
