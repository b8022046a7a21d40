package node

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

// opened is a connection with its credentials, for a short while.
type opened struct {
	outbound.Account
	id         uuid.UUID
	base       *url.URL
	parameters map[string]any
	connector  *connector.Connector
	version    int // of the token
	spacing    time.Duration
	parallel   int
	held       time.Time
	why        string
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

func parked(name, format string, args ...any) error {
	return &engine.Parked{Reason: engine.ReasonConnection, Connection: name, Message: fmt.Sprintf("connection "+name+": "+format, args...)}
}

func (n *Node) openAccount(ctx context.Context, workspace uuid.UUID, name string) (*opened, error) {
	if name == "" {
		return &opened{Account: outbound.Account{Workspace: workspace}, connector: &connector.Connector{}}, nil
	}
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
	switch c.State {
	case store.ConnectionBroken:
		return nil, parked(name, "%s", c.Said)
	case store.ConnectionConsent:
		return nil, parked(name, "nobody has signed in yet; open the consent page from the connection")
	case store.ConnectionConfirm:
		return nil, parked(name, "it is to be confirmed that %s is the right account", c.Said)
	}
	if o, err = n.unseal(ctx, c, -1); err != nil {
		return nil, n.breaks(ctx, &c, err)
	}
	n.account.mu.Lock()
	n.account.kept[k] = o
	n.account.mu.Unlock()
	return o, nil
}

// breaks marks a connection whose sign-in is over, and parks whoever needed it.
func (n *Node) breaks(ctx context.Context, c *store.Connection, err error) error {
	var over *broken
	if !errors.As(err, &over) {
		return err
	}
	n.Forget(c.Workspace, c.Name)
	if err := n.Store.MarkConnection(context.WithoutCancel(ctx), c.Workspace, c.Name, store.Health{State: store.ConnectionBroken, Said: over.why}); err != nil {
		n.Log.Warn("marking a connection", "error", err)
	}
	return parked(c.Name, "%s", over.why)
}

// unseal opens a connection. Stale is the version of a token that was refused,
// or -1.
func (n *Node) unseal(ctx context.Context, c store.Connection, stale int) (*opened, error) {
	con, way, values, err := n.credentials(ctx, &c)
	if err != nil {
		return nil, err
	}
	o := &opened{id: c.ID, parameters: c.Account, connector: con, spacing: con.Limits.Spacing, parallel: con.Limits.Parallel, until: time.Now().Add(2 * time.Second)}
	o.Account = outbound.Account{Workspace: c.Workspace, Name: c.Name, Title: con.Title, Pin: c.Pin, SignIn: way, Credentials: &connector.Credentials{Values: values}}
	if o.base, err = con.BaseURL(c.Account); err != nil {
		return nil, parked(c.Name, "%v", err)
	}
	if l := c.Limits; l != nil {
		o.spacing, o.parallel = 0, l.Parallel
		if l.Calls > 0 {
			o.spacing = time.Duration(l.Seconds * float64(time.Second) / float64(l.Calls))
		}
	}
	// A little slower than allowed: what was sent evenly may arrive unevenly.
	o.spacing += o.spacing / 32
	if o.spacing == 0 && o.parallel == 0 {
		if o.held, o.why, err = n.Store.HeldUntil(ctx, c.Workspace, c.ID); err != nil {
			return nil, err
		}
	}
	if way.Method == connector.OAuth2 {
		t, version, err := n.access(ctx, &c, way, values, stale)
		if err != nil {
			return nil, err
		}
		o.Credentials.Token, o.version = t.Access, version
		if !t.Expires.IsZero() && t.Expires.Add(-t.early()).Before(o.until) {
			o.until = t.Expires.Add(-t.early())
		}
	}
	return o, nil
}

// caller makes the calls of one workspace's runs.
type caller struct {
	node      *Node
	lease     *lease
	workspace uuid.UUID
	run       uuid.UUID
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

// at gives a call the connection's own address where it names none.
func (o *opened) at(call *connector.Call) *connector.Call {
	if call.URL.Host != "" || o.base == nil {
		return call
	}
	own := *call
	u := *o.base
	path := strings.TrimSuffix(u.EscapedPath(), "/") + call.URL.EscapedPath()
	u.RawPath = path
	u.Path, _ = url.PathUnescape(path)
	u.RawQuery = call.URL.RawQuery
	own.URL = &u
	return &own
}

// Show implements engine.Caller.
func (c *caller) Show(name string, call *connector.Call) *engine.Sent {
	o, err := c.node.openAccount(context.Background(), c.workspace, name)
	if err != nil {
		return (&outbound.Account{}).Show(call)
	}
	return o.Show(o.at(call))
}

// Call implements engine.Caller. A sign-in that the other side no longer takes
// marks the connection and parks the run; it is not a failure of the item.
func (c *caller) Call(ctx context.Context, name string, call *connector.Call, key string) (*connector.Answer, *engine.Sent, error) {
	o, err := c.node.openAccount(ctx, c.workspace, name)
	if err != nil {
		return nil, nil, err
	}
	call = o.at(call)
	if call.URL.Host == "" {
		return nil, nil, &engine.Failure{Class: engine.BadInput, Message: "the address has no host; write it whole, or choose a connection"}
	}
	done, err := c.node.gate(ctx, o, call.Timeout)
	if err != nil {
		return nil, nil, err
	}
	defer done()
	if err := c.alive(ctx); err != nil {
		return nil, nil, &engine.Failure{Class: engine.NotSent, Message: "the service was about to stop"}
	}
	if c.run != uuid.Nil {
		ctx = outbound.WithTrace(ctx, c.run)
	}
	return c.node.call(ctx, o, c.run, call, key)
}

// call sends a call, once more with a fresh token where the old one was
// refused.
func (n *Node) call(ctx context.Context, o *opened, run uuid.UUID, call *connector.Call, key string) (*connector.Answer, *engine.Sent, error) {
	if call.Timeout > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, call.Timeout)
		defer cancel()
	}
	began := time.Now()
	answer, sent, err := n.Client.Send(ctx, &o.Account, call, key)
	if o.Name == "" {
		return answer, sent, err
	}
	n.record(o, run, sent, began, err)
	if !unauthorized(answer, err) {
		return answer, sent, err
	}
	c, cerr := n.Store.ConnectionForRun(ctx, o.Workspace, o.Name)
	if cerr != nil {
		return answer, sent, err
	}
	// A token that was refused may have been replaced meanwhile, by us or by
	// another process. Only one that is the newest and was just renewed tells
	// that the sign-in is over.
	for renewed := false; o.SignIn.Method == connector.OAuth2 && !(renewed && c.TokenVersion == o.version); {
		stale := -1
		if c.TokenVersion == o.version {
			stale, renewed = o.version, true
		}
		n.Forget(o.Workspace, o.Name)
		fresh, rerr := n.unseal(ctx, c, stale)
		if rerr != nil {
			return nil, sent, n.breaks(ctx, &c, rerr)
		}
		began, o = time.Now(), fresh
		answer, sent, err = n.Client.Send(ctx, &o.Account, call, key)
		n.record(o, run, sent, began, err)
		if !unauthorized(answer, err) {
			return answer, sent, err
		}
		if c, cerr = n.Store.ConnectionForRun(ctx, o.Workspace, o.Name); cerr != nil || ctx.Err() != nil {
			return answer, sent, err
		}
	}
	return nil, sent, n.breaks(ctx, &c, &broken{o.refused(answer, err)})
}

func unauthorized(answer *connector.Answer, err error) bool {
	var f *engine.Failure
	if errors.As(err, &f) {
		return f.Status == http.StatusUnauthorized
	}
	return err == nil && answer.Status == http.StatusUnauthorized
}

// refused words what the other side said of the credentials.
func (o *opened) refused(answer *connector.Answer, err error) string {
	what := map[string]string{connector.OAuth2: "the sign-in was refused", connector.Basic: "the user name or password was refused", connector.Login: "the user name or password was refused", connector.Bearer: "the token was refused"}[o.SignIn.Method]
	if what == "" {
		what = "the key was refused"
	}
	if err != nil {
		return o.Hide(fmt.Sprintf("%s: %v", what, err))
	}
	if _, err := o.connector.ReadCheck(answer); err != nil {
		return o.Hide(fmt.Sprintf("%s: %d, %v", what, answer.Status, err))
	}
	return what
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
	Took time.Duration
	store.Health
}

// Check makes the connector's check call and records what it found.
func (n *Node) Check(ctx context.Context, c store.Connection) (Checked, error) {
	n.Forget(c.Workspace, c.Name)
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	began := time.Now()
	found, err := n.check(ctx, c)
	took := time.Since(began)
	millis := int(took.Milliseconds())
	out := Checked{OK: err == nil, Took: took, Health: store.Health{State: store.ConnectionOK, Said: found.Said, Scopes: found.Scopes, Missing: found.Missing, Left: found.Left, TookMS: &millis}}
	if c.State == store.ConnectionConfirm {
		out.State = store.ConnectionConfirm
	}
	var over *broken
	switch {
	case err == nil:
	case errors.As(err, &over):
		out.State, out.Said = store.ConnectionBroken, over.why
		if c.State == store.ConnectionConsent {
			out.State = store.ConnectionConsent
		}
	default: // it could not be asked, which says nothing of the credentials
		out.State, out.Said = store.ConnectionUnchecked, err.Error()
	}
	return out, n.Store.MarkConnection(context.WithoutCancel(ctx), c.Workspace, c.Name, out.Health)
}

func (n *Node) check(ctx context.Context, c store.Connection) (connector.Checked, error) {
	o, err := n.unseal(ctx, c, -1)
	if err != nil {
		return connector.Checked{}, err
	}
	call, err := o.connector.BuildCheck(o.parameters)
	if err != nil {
		return connector.Checked{}, err
	}
	began := time.Now()
	answer, sent, err := n.Client.Send(ctx, &o.Account, call, "")
	n.record(o, uuid.Nil, sent, began, err)
	if unauthorized(answer, err) {
		return connector.Checked{}, &broken{o.refused(answer, err)}
	}
	if err != nil {
		return connector.Checked{}, err
	}
	found, err := o.connector.ReadCheck(answer)
	var refusal *connector.Refusal
	if errors.As(err, &refusal) {
		why := o.Hide(fmt.Sprintf("%s answered %d: %s", o.Title, refusal.Status, refusal.Error()))
		if refusal.Status == http.StatusForbidden || refusal.Status < 300 {
			return found, &broken{why}
		}
		return found, errors.New(why)
	}
	found.Said = o.Hide(found.Said)
	return found, err
}

// Choices loads a choice list of a connector for a picker. Where it is empty,
// why says so in words.
func (n *Node) Choices(ctx context.Context, workspace uuid.UUID, name, list string, input map[string]any, search string) (options []connector.Option, why string, err error) {
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
			return nil, fmt.Sprintf("Choose the %s first.", strings.ReplaceAll(need, "_", " ")), nil
		}
	}
	if id, found := ch.FromAddress(search); found {
		return []connector.Option{{ID: id, Name: id + ", from the address"}}, "", nil
	}
	options = []connector.Option{}
	cursor := any(nil)
	for range 20 {
		call, err := o.connector.BuildChoice(list, o.parameters, input, search, cursor)
		if err != nil {
			return nil, "", err
		}
		answer, _, err := n.call(ctx, o, uuid.Nil, call, "")
		if err != nil {
			return nil, "", err
		}
		page, next, err := o.connector.ReadChoice(list, answer, cursor)
		var refusal *connector.Refusal
		if errors.As(err, &refusal) {
			if refusal.Status == http.StatusForbidden {
				if ch.Refused != "" {
					return nil, ch.Refused, nil
				}
				return nil, fmt.Sprintf("This account may not read that list: %s", o.Hide(refusal.Error())), nil
			}
			return nil, fmt.Sprintf("%s refused: %s", o.Title, o.Hide(refusal.Error())), nil
		}
		if err != nil {
			return nil, "", err
		}
		options = append(options, page...)
		if cursor = next; next == nil || len(options) >= 2000 {
			break
		}
	}
	switch {
	case len(options) > 0:
		return options, "", nil
	case search != "" && ch.Search != "":
		return options, fmt.Sprintf("Nothing there is called %q.", search), nil
	case ch.Empty != "":
		return options, ch.Empty, nil
	}
	return options, fmt.Sprintf("There is nothing yet in %s.", o.Title), nil
}

// Tried is what a single try of an action gave.
type Tried struct {
	Sent   *engine.Sent
	Answer *connector.Answer
	Page   *connector.Page
	Took   time.Duration
	Why    string // it failed
}

// Try makes one call of an action outside of any run. Without real, nothing is
// sent and the request is shown as it would be.
func (n *Node) Try(ctx context.Context, workspace uuid.UUID, name string, a *connector.Action, input map[string]any, real bool) (*Tried, error) {
	o, err := n.openAccount(ctx, workspace, name)
	if err != nil {
		return nil, err
	}
	call, err := a.Build(o.parameters, input, nil)
	if err != nil {
		return nil, err
	}
	call = o.at(call)
	t := &Tried{Sent: o.Show(call)}
	if !real {
		t.Sent.Prepared = true
		return t, nil
	}
	call.Timeout = 2 * time.Minute
	done, err := n.gate(ctx, o, call.Timeout)
	if err != nil {
		return nil, err
	}
	defer done()
	began := time.Now()
	answer, sent, err := n.call(ctx, o, uuid.Nil, call, uuid.NewString())
	t.Took = time.Since(began)
	if sent != nil {
		t.Sent = sent
	}
	if err != nil {
		t.Why = err.Error()
		return t, nil //nolint:nilerr // that the call failed is what the try found
	}
	t.Answer = answer
	if a.Job != nil {
		v, err := a.ReadSubmitted(answer, time.Now())
		t.Page = &connector.Page{Output: v}
		if err != nil {
			t.Why = o.Hide(err.Error())
		}
		return t, nil
	}
	if t.Page, err = a.Read(answer, connector.Asked{Call: call, Input: input, Now: time.Now()}); err != nil {
		t.Why = o.Hide(err.Error())
	}
	return t, nil
}
