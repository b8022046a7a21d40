package node

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

// opened is a connection with its secret, for a short while.
type opened struct {
	outbound.Account
	parameters map[string]any
	connector  *connector.Connector
	until      time.Time
}

type accountKey struct {
	workspace uuid.UUID
	name      string
}

// accounts keeps opened connections for two seconds, so that a run of many
// calls does not open the vault for each.
type accounts struct {
	mu   sync.Mutex
	kept map[accountKey]*opened
}

func (a *accounts) init() { a.kept = map[accountKey]*opened{} }

// Forget drops a connection that was changed.
func (n *Node) Forget(workspace uuid.UUID, name string) {
	n.account.mu.Lock()
	defer n.account.mu.Unlock()
	delete(n.account.kept, accountKey{workspace, name})
}

func (n *Node) openAccount(ctx context.Context, workspace uuid.UUID, name string) (*opened, error) {
	k := accountKey{workspace, name}
	n.account.mu.Lock()
	o, ok := n.account.kept[k]
	n.account.mu.Unlock()
	if ok && time.Now().Before(o.until) {
		return o, nil
	}
	c, err := n.Store.ConnectionForRun(ctx, workspace, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &engine.Parked{Reason: engine.ReasonConnection, Connection: name, Message: fmt.Sprintf("there is no connection %q any more", name)}
	}
	if err != nil {
		return nil, err
	}
	if o, err = n.unseal(ctx, c); err != nil {
		return nil, err
	}
	n.account.mu.Lock()
	n.account.kept[k] = o
	n.account.mu.Unlock()
	return o, nil
}

func (n *Node) unseal(ctx context.Context, c store.Connection) (*opened, error) {
	con, ok := n.Connectors[c.Connector]
	if !ok {
		return nil, fmt.Errorf("the connector %s of the connection %s is not installed", c.Connector, c.Name)
	}
	secret, err := n.Vault.Unseal(ctx, c.Workspace, "connection", "secret", c.ID, c.Secret)
	if err != nil {
		return nil, &engine.Parked{Reason: engine.ReasonConnection, Connection: c.Name, Message: fmt.Sprintf("connection %s: %v", c.Name, err)}
	}
	o := &opened{parameters: c.Account, connector: con, until: time.Now().Add(2 * time.Second)}
	o.Account = outbound.Account{Workspace: c.Workspace, Name: c.Name, Title: con.Title, Pin: c.Pin, Secret: string(secret)}
	for _, s := range con.SignIn {
		if s.Method == c.Method {
			o.SignIn = s
		}
	}
	return o, nil
}

// caller makes the calls of one workspace's runs.
type caller struct {
	node      *Node
	lease     *lease
	workspace uuid.UUID
	rehearsal bool
}

// Account implements engine.Caller.
func (c *caller) Account(ctx context.Context, name string) (map[string]any, error) {
	o, err := c.node.openAccount(ctx, c.workspace, name)
	if err != nil {
		return nil, err
	}
	return o.parameters, nil
}

// Show implements engine.Caller.
func (c *caller) Show(name string, call *connector.Call) *engine.Sent {
	o, err := c.node.openAccount(context.Background(), c.workspace, name)
	if err != nil {
		return &engine.Sent{Method: call.Method, URL: call.URL.String(), Body: string(call.Body)}
	}
	return o.Show(call)
}

// Call implements engine.Caller. A key that the other side no longer takes
// marks the connection and parks the run; it is not a failure of the item.
func (c *caller) Call(ctx context.Context, name string, call *connector.Call, key string) (*connector.Answer, *engine.Sent, error) {
	o, err := c.node.openAccount(ctx, c.workspace, name)
	if err != nil {
		return nil, nil, err
	}
	if err := c.alive(ctx); err != nil {
		return nil, nil, &engine.Failure{Class: engine.NotSent, Message: "the service was about to stop"}
	}
	answer, sent, err := c.node.Client.Send(ctx, &o.Account, call, key)
	if err != nil || answer.Status != 401 {
		return answer, sent, err
	}
	said := "the key was refused"
	if _, err := o.connector.ReadCheck(answer); err != nil {
		said = fmt.Sprintf("the key was refused: 401, %s", outbound.Mask(err.Error(), o.Secret))
	}
	c.node.Forget(c.workspace, name)
	if err := c.node.Store.MarkConnection(ctx, c.workspace, name, "broken", said); err != nil {
		c.node.Log.Warn("marking a connection", "error", err)
	}
	return nil, sent, &engine.Parked{Reason: engine.ReasonConnection, Connection: name, Message: fmt.Sprintf("connection %s: %s", name, said)}
}

// alive waits until the lease's last acknowledged beat is young enough for a
// call to begin.
func (c *caller) alive(ctx context.Context) error {
	for c.lease != nil && time.Duration(monotonic()-c.lease.beat.Load()) > callWithin {
		sleep(ctx, 100*time.Millisecond)
		if ctx.Err() != nil || c.lease.ctx.Err() != nil {
			return context.Canceled
		}
	}
	return ctx.Err()
}

// Checked is what a connection's check found.
type Checked struct {
	OK   bool
	Said string
	Took time.Duration
}

// Check makes the connector's check call and records what it found.
func (n *Node) Check(ctx context.Context, c store.Connection) (Checked, error) {
	n.Forget(c.Workspace, c.Name)
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	began := time.Now()
	said, err := n.check(ctx, c)
	out := Checked{OK: err == nil, Said: said, Took: time.Since(began)}
	state := "ok"
	if err != nil {
		state, out.Said = "broken", err.Error()
	}
	return out, n.Store.MarkConnection(context.WithoutCancel(ctx), c.Workspace, c.Name, state, out.Said)
}

func (n *Node) check(ctx context.Context, c store.Connection) (string, error) {
	o, err := n.unseal(ctx, c)
	if err != nil {
		return "", err
	}
	call, err := o.connector.BuildCheck(o.parameters)
	if err != nil {
		return "", err
	}
	answer, _, err := n.Client.Send(ctx, &o.Account, call, "")
	if err != nil {
		return "", err
	}
	said, err := o.connector.ReadCheck(answer)
	var refusal *connector.Refusal
	if errors.As(err, &refusal) {
		why := fmt.Sprintf("%s answered %d: %s", o.Title, refusal.Status, refusal.Error())
		if refusal.Status == 401 || refusal.Status == 403 {
			why = fmt.Sprintf("the key was refused: %d, %s", refusal.Status, refusal.Error())
		}
		return "", errors.New(outbound.Mask(why, o.Secret))
	}
	return outbound.Mask(said, o.Secret), err
}

// Choices loads a choice list of a connector for a picker.
func (n *Node) Choices(ctx context.Context, workspace uuid.UUID, name, list string, input map[string]any) ([]connector.Option, string, error) {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	o, err := n.openAccount(ctx, workspace, name)
	if err != nil {
		return nil, "", err
	}
	ch, ok := o.connector.Choices[list]
	if !ok {
		return nil, "", fmt.Errorf("%s has no list %q", o.Title, list)
	}
	for _, need := range ch.Needs {
		if input[need] == nil || input[need] == "" {
			return nil, fmt.Sprintf("Choose the %s first.", need), nil
		}
	}
	options, cursor := []connector.Option{}, any(nil)
	for range 20 {
		call, err := o.connector.BuildChoice(list, o.parameters, input, cursor)
		if err != nil {
			return nil, "", err
		}
		answer, _, err := n.Client.Send(ctx, &o.Account, call, "")
		if err != nil {
			return nil, "", err
		}
		page, next, err := o.connector.ReadChoice(list, answer)
		var refusal *connector.Refusal
		if errors.As(err, &refusal) {
			return nil, fmt.Sprintf("%s refused: %s", o.Title, outbound.Mask(refusal.Error(), o.Secret)), nil
		}
		if err != nil {
			return nil, "", err
		}
		options = append(options, page...)
		if cursor = next; next == nil || next == "" {
			break
		}
	}
	if len(options) == 0 {
		return options, ch.Empty, nil
	}
	return options, "", nil
}
