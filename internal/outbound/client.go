// Package outbound is the only way out: one client, one guarded dialler for
// every protocol. Credentials are attached only where their connection is
// pinned, no call is sent twice, and errors say what is known of the call.
//
// A protocol is a file of its own and one line in protocols.
package outbound

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/kept"
)

// MaxResponse is the most that is read of an answer that becomes items.
const MaxResponse = 32 << 20

// protocol makes a call once in the way of its kind. What is known of the call
// goes into sent. The errors are those of call.Sender.
type protocol interface {
	send(ctx context.Context, c *Client, a *Account, request *call.Call, key string, sent *call.Sent) (*call.Answer, error)
}

// protocols by the scheme of an address, with the port that is used where the
// address names none.
var protocols = map[string]struct {
	protocol
	port string
}{
	"http":     {web{}, "80"},
	"https":    {web{}, "443"},
	"smtp":     {mailing{}, "25"},
	"smtps":    {mailing{}, "465"},
	"postgres": {database{}, "5432"},
}

// Files keeps what is too large for fields.
type Files interface {
	// Open reads a file; item.ErrFileGone says that it is not kept any more.
	Open(ctx context.Context, workspace uuid.UUID, id string) (io.ReadCloser, error)
	Save(ctx context.Context, workspace uuid.UUID, name, kind string, content io.Reader) (*item.File, error)
}

// Client sends calls for all workspaces. Each has a pool of its own.
type Client struct {
	allowed Allowed
	files   Files
	// Own are our listeners and database (ip:port), which only an allowance opens.
	Own []string
	// OwnSystem is the system identifier of our database's server; Excepted are
	// the databases on it that a workspace may ask all the same.
	OwnSystem string
	Excepted  []string

	resolver *net.Resolver // nil for the machine's

	lists *kept.Values[uuid.UUID, []string] // allowances

	mu    sync.Mutex // protects the following fields
	pools map[uuid.UUID]*http.Client
	last  map[uuid.UUID][]string // allowances as they were asked for last
}

// New makes the client. Files may be nil where no call has any.
func New(allowed Allowed, files Files) *Client {
	return &Client{allowed: allowed, files: files, pools: map[uuid.UUID]*http.Client{}, lists: kept.New[uuid.UUID, []string](2*time.Second, 10_000), last: map[uuid.UUID][]string{}}
}

// Origin gives an address's scheme, host and port, as a pin is written.
func Origin(u *url.URL) string { return u.Scheme + "://" + hostPort(u) }

func hostPort(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = protocols[u.Scheme].port
	}
	return net.JoinHostPort(strings.ToLower(u.Hostname()), port)
}

// Of gives a sender for one opened account.
func (c *Client) Of(a *Account) call.Sender { return sender{c, a} }

type sender struct {
	client  *Client
	account *Account
}

// Send implements call.Sender: it signs the call in and sends it once.
func (s sender) Send(ctx context.Context, request *call.Call, key string) (*call.Answer, *call.Sent, error) {
	a, sent := s.account, request.Show(s.account.Secrets())
	if a.SignIn != nil && Origin(request.URL) != a.Pin {
		return nil, sent, bad("the call would go to %s, and the connection %s may only be used with %s", Origin(request.URL), a.Name, a.Pin)
	}
	p, ok := protocols[request.URL.Scheme]
	if !ok {
		return nil, sent, bad("%q is not an address that can be called", request.URL.Scheme)
	}
	answer, err := p.send(ctx, s.client, a, request, key, sent)
	var f *call.Failure
	if errors.As(err, &f) && f.Guarded {
		sent.Guarded = hostPort(request.URL)
	}
	return answer, sent, err
}

func bad(format string, args ...any) *call.Failure {
	return &call.Failure{Class: call.BadInput, Message: fmt.Sprintf(format, args...)}
}
