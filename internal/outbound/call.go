package outbound

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"sync/atomic"

	"github.com/google/uuid"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/engine"
)

// MaxResponse is the most that is read of an answer that becomes items.
const MaxResponse = 32 << 20

const shownBody = 4 << 10

// Account is a stored account, opened, for the length of a call.
type Account struct {
	Workspace uuid.UUID
	Name      string
	Title     string // of the connector
	Pin       string // scheme://host:port to which the secret may go
	SignIn    connector.SignIn
	Secret    string
}

// Origin gives an address's scheme, host and port, as a pin is written.
func Origin(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return u.Scheme + "://" + net.JoinHostPort(u.Hostname(), port)
}

func (a *Account) sign(h http.Header) {
	switch a.SignIn.Method {
	case "api_key":
		h.Set(a.SignIn.Header, a.Secret)
	case "bearer":
		prefix := a.SignIn.Prefix
		if prefix == "" {
			prefix = "Bearer"
		}
		h.Set("Authorization", prefix+" "+a.Secret)
	}
}

// Show gives a call as it may be shown.
func (a *Account) Show(c *connector.Call) *engine.Sent {
	body := string(c.Body)
	if len(body) > shownBody {
		body = body[:shownBody] + "…"
	}
	return &engine.Sent{Method: c.Method, URL: Mask(c.URL.String(), a.Secret), Body: Mask(body, a.Secret)}
}

// Send signs a call in and sends it once. The error is an *engine.Failure.
func (c *Client) Send(ctx context.Context, a *Account, call *connector.Call, key string) (*connector.Answer, *engine.Sent, error) {
	sent := a.Show(call)
	if Origin(call.URL) != a.Pin {
		return nil, sent, &engine.Failure{Class: engine.BadInput, Message: fmt.Sprintf("the call would go to %s, and the connection %s may only be used with %s", Origin(call.URL), a.Name, a.Pin)}
	}
	var written atomic.Bool
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{WroteHeaders: func() { written.Store(true) }})
	// A body that is there but cannot be had again: the transport then never
	// repeats a request by itself when a reused connection is cut.
	req, err := http.NewRequestWithContext(ctx, call.Method, call.URL.String(), io.NopCloser(bytes.NewReader(call.Body)))
	if err != nil {
		return nil, sent, &engine.Failure{Class: engine.BadInput, Message: err.Error()}
	}
	req.ContentLength, req.GetBody = int64(len(call.Body)), nil
	req.Header = call.Header.Clone()
	req.Header.Set("User-Agent", "young-trellis")
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	a.sign(req.Header)
	res, err := c.pool(a.Workspace).Do(req)
	if err != nil {
		return nil, sent, a.failure(err, written.Load(), ctx)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, MaxResponse+1))
	sent.Status = res.StatusCode
	if err != nil {
		return nil, sent, a.failure(err, true, ctx)
	}
	if len(body) > MaxResponse {
		return nil, sent, &engine.Failure{Class: engine.InDoubt, Status: res.StatusCode, Message: fmt.Sprintf("%s sent more than %d MiB; ask it for less", a.Title, MaxResponse>>20)}
	}
	return &connector.Answer{Status: res.StatusCode, Header: res.Header, Body: body}, sent, nil
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
		f.Class, f.Message = engine.Refused, Mask(a.Title+" could not be called: "+sentOn.why, a.Secret)
		return f
	case errors.Is(err, ErrForbidden):
		f.Class, f.Message = engine.BadInput, Mask(fmt.Sprintf("%s cannot be called: %v", a.Title, ErrForbidden), a.Secret)
		return f
	case errors.Is(err, context.DeadlineExceeded) || ctx.Err() != nil:
		f.Message = fmt.Sprintf("%s did not answer in time", a.Title)
	case errors.As(err, &dns):
		f.Message = fmt.Sprintf("%s cannot be reached: its name %s is not known", a.Title, dns.Name)
	case errors.As(err, &op) && op.Op == "dial":
		f.Message = fmt.Sprintf("%s cannot be reached at %s: nobody answers there", a.Title, a.Pin)
	case written:
		f.Message = fmt.Sprintf("%s cut the connection before it answered", a.Title)
	default:
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		f.Message = fmt.Sprintf("%s could not be called: %v", a.Title, err)
	}
	f.Message = Mask(f.Message, a.Secret)
	return f
}
