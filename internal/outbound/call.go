package outbound

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"path"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
)

// MaxResponse is the most that is read of an answer that becomes items.
const MaxResponse = 32 << 20

const shownBody = 4 << 10

// Files keeps what is too large for fields.
type Files interface {
	Open(ctx context.Context, workspace uuid.UUID, id string) (io.ReadCloser, error)
	Save(ctx context.Context, workspace uuid.UUID, name, kind string, content io.Reader) (*item.File, error)
}

// Account is a stored account, opened, for the length of a call. The zero
// account signs nothing in and is pinned nowhere.
type Account struct {
	Workspace   uuid.UUID
	Name        string
	Title       string // of the connector
	Pin         string // scheme://host:port to which the credentials may go
	SignIn      *connector.SignIn
	Credentials *connector.Credentials
}

var ports = map[string]string{"http": "80", "https": "443", "smtp": "25", "smtps": "465", "postgres": "5432"}

// Origin gives an address's scheme, host and port, as a pin is written.
func Origin(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = ports[u.Scheme]
	}
	return u.Scheme + "://" + net.JoinHostPort(strings.ToLower(u.Hostname()), port)
}

func (a *Account) secrets() []string {
	if a.SignIn == nil {
		return nil
	}
	return a.Credentials.All(a.SignIn)
}

// Hide masks the account's secrets in a text.
func (a *Account) Hide(text string) string { return Mask(text, a.secrets()...) }

// Show gives a call as it may be shown.
func (a *Account) Show(c *connector.Call) *engine.Sent {
	body := string(c.Body)
	for _, p := range c.Pieces {
		if p.File != nil {
			body += fmt.Sprintf("[%s, %s, %s]", p.File.Name, p.File.Type, connector.Bytes(p.File.Size))
		} else {
			body += string(p.Bytes)
		}
	}
	if len(body) > shownBody {
		body = strings.ToValidUTF8(body[:shownBody], "") + "…"
	}
	return &engine.Sent{Method: c.Method, URL: a.Hide(c.URL.String()), Body: a.Hide(body)}
}

// Send signs a call in and sends it once. The error is an *engine.Failure.
func (c *Client) Send(ctx context.Context, a *Account, call *connector.Call, key string) (*connector.Answer, *engine.Sent, error) {
	sent := a.Show(call)
	if a.SignIn != nil && Origin(call.URL) != a.Pin {
		return nil, sent, &engine.Failure{Class: engine.BadInput, Message: fmt.Sprintf("the call would go to %s, and the connection %s may only be used with %s", Origin(call.URL), a.Name, a.Pin)}
	}
	switch call.URL.Scheme {
	case "smtp", "smtps":
		return c.mail(ctx, a, call, key, sent)
	case "postgres":
		return c.query(ctx, a, call, sent)
	case "http", "https":
	default:
		return nil, sent, &engine.Failure{Class: engine.BadInput, Message: fmt.Sprintf("%q is not an address that can be called", call.URL.Scheme)}
	}
	var written atomic.Bool
	traced := httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{WroteHeaders: func() { written.Store(true) }})
	req, err := c.request(traced, a, call, key)
	if err != nil {
		return nil, sent, &engine.Failure{Class: engine.BadInput, Message: a.Hide(err.Error())}
	}
	res, err := c.pool(a.Workspace).Do(req)
	if err != nil {
		return nil, sent, a.failure(err, written.Load(), ctx)
	}
	defer res.Body.Close()
	sent.Status = res.StatusCode
	answer := &connector.Answer{Status: res.StatusCode, Header: res.Header}
	if c.asFile(call, answer) {
		if answer.File, err = c.keep(ctx, a, req.URL, res); err == nil {
			return answer, sent, nil
		}
	} else {
		answer.Body, err = io.ReadAll(io.LimitReader(res.Body, MaxResponse+1))
	}
	if err != nil {
		return nil, sent, a.failure(err, true, ctx)
	}
	if len(answer.Body) > MaxResponse {
		return nil, sent, &engine.Failure{Class: engine.InDoubt, Status: res.StatusCode, Message: fmt.Sprintf("%s sent more than %d MiB; ask it for less, or keep the answer as a file", a.title(), MaxResponse>>20)}
	}
	return answer, sent, nil
}

func (c *Client) asFile(call *connector.Call, answer *connector.Answer) bool {
	good := answer.Status >= 200 && answer.Status < 300
	return c.files != nil && good && (call.Answer == "file" || (call.Answer == "" || call.Answer == "auto") && connector.Binary(answer.Header))
}

// request makes the request with its proof. Where it goes on being redirected,
// the proof stays behind unless the host is the same.
func (c *Client) request(ctx context.Context, a *Account, call *connector.Call, key string) (*http.Request, error) {
	address := *call.URL
	signed := &connector.Signed{Method: call.Method, URL: &address, Header: call.Header.Clone(), Body: call.Body, Stream: call.Pieces != nil, Now: time.Now(), Nonce: uuid.NewString()}
	if signed.Header == nil {
		signed.Header = http.Header{}
	}
	if a.SignIn != nil {
		before := signed.Header.Clone()
		if err := a.SignIn.Apply(signed, a.Credentials); err != nil {
			return nil, err
		}
		added := []string{}
		for name := range signed.Header {
			if before.Get(name) != signed.Header.Get(name) {
				added = append(added, name)
			}
		}
		ctx = context.WithValue(ctx, proofKey{}, added)
	}
	// A body that is there but cannot be had again: the transport then never
	// repeats a request by itself when a reused connection is cut.
	req, err := http.NewRequestWithContext(ctx, call.Method, address.String(), c.content(ctx, a.Workspace, call))
	if err != nil {
		return nil, err
	}
	req.ContentLength, req.GetBody = call.Size(), nil
	req.Header = signed.Header
	req.Header.Set("User-Agent", "young-trellis")
	req.Header.Set("Traceparent", traceparent(ctx))
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	return req, nil
}

type (
	proofKey struct{}
	traceKey struct{}
)

// WithTrace lets every call under ctx belong to the trace of a run.
func WithTrace(ctx context.Context, run uuid.UUID) context.Context {
	return context.WithValue(ctx, traceKey{}, run)
}

// traceparent names the trace and this call in it (W3C Trace Context).
func traceparent(ctx context.Context) string {
	var trace [16]byte
	var span [8]byte
	_, _ = rand.Read(span[:])
	if run, ok := ctx.Value(traceKey{}).(uuid.UUID); ok {
		trace = run
	} else {
		_, _ = rand.Read(trace[:])
	}
	return "00-" + hex.EncodeToString(trace[:]) + "-" + hex.EncodeToString(span[:]) + "-01"
}

// content reads the body piece by piece; files are opened when they are due.
func (c *Client) content(ctx context.Context, workspace uuid.UUID, call *connector.Call) io.ReadCloser {
	if call.Pieces == nil {
		return io.NopCloser(bytes.NewReader(call.Body))
	}
	return &pieces{ctx: ctx, files: c.files, workspace: workspace, rest: call.Pieces}
}

type pieces struct {
	ctx       context.Context
	files     Files
	workspace uuid.UUID
	rest      []connector.Piece
	open      io.ReadCloser
}

func (p *pieces) Read(b []byte) (int, error) {
	for {
		if p.open == nil {
			if len(p.rest) == 0 {
				return 0, io.EOF
			}
			next := p.rest[0]
			p.rest = p.rest[1:]
			if next.File == nil {
				p.open = io.NopCloser(bytes.NewReader(next.Bytes))
			} else {
				f, err := p.files.Open(p.ctx, p.workspace, next.File.ID)
				if err != nil {
					return 0, fmt.Errorf("the file %s cannot be read: %w", next.File.Name, err)
				}
				p.open = f
			}
		}
		n, err := p.open.Read(b)
		if errors.Is(err, io.EOF) {
			_ = p.open.Close()
			p.open = nil
			err = nil
			if n == 0 {
				continue
			}
		}
		return n, err
	}
}

func (p *pieces) Close() error {
	if p.open != nil {
		return p.open.Close()
	}
	return nil
}

// keep saves an answer as a file, named as the other side says.
func (c *Client) keep(ctx context.Context, a *Account, u *url.URL, res *http.Response) (*item.File, error) {
	if res.ContentLength > item.MaxFile {
		return nil, fmt.Errorf("the file has %s; at most %s are kept", connector.Bytes(res.ContentLength), connector.Bytes(item.MaxFile))
	}
	name := path.Base(u.Path)
	if _, params, err := mime.ParseMediaType(res.Header.Get("Content-Disposition")); err == nil && params["filename"] != "" {
		name = params["filename"]
	}
	kind, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type"))
	return c.files.Save(ctx, a.Workspace, name, kind, res.Body)
}

func (a *Account) title() string {
	if a.Title == "" {
		return "The other side"
	}
	return a.Title
}

func (a *Account) failure(err error, written bool, ctx context.Context) error {
	f := &engine.Failure{Class: engine.NotSent}
	if written {
		f.Class = engine.InDoubt
	}
	var op *net.OpError
	var dns *net.DNSError
	var sentOn *redirected
	switch {
	case errors.As(err, &sentOn):
		f.Class, f.Message = engine.Refused, a.Hide(a.title()+" could not be called: "+sentOn.why)
		return f
	case errors.Is(err, ErrForbidden):
		f.Class, f.Message = engine.BadInput, a.Hide(fmt.Sprintf("%s cannot be called: %v", a.title(), ErrForbidden))
		return f
	case errors.Is(err, context.DeadlineExceeded) || ctx.Err() != nil:
		f.Message = fmt.Sprintf("%s did not answer in time", a.title())
	case errors.As(err, &dns):
		f.Message = fmt.Sprintf("%s cannot be reached: its name %s is not known", a.title(), dns.Name)
	case errors.As(err, &op) && op.Op == "dial":
		f.Message = fmt.Sprintf("%s cannot be reached at %s: nobody answers there", a.title(), a.Pin)
		if a.Pin == "" {
			f.Message = a.title() + " cannot be reached: nobody answers at this address"
		}
	case written:
		f.Message = fmt.Sprintf("%s cut the connection before it had answered whole", a.title())
	default:
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		f.Message = fmt.Sprintf("%s could not be called: %v", a.title(), err)
	}
	f.Message = a.Hide(f.Message)
	return f
}
