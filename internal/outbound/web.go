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
	"net/http"
	"net/http/httptrace"
	"net/url"
	"path"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
)

// web speaks HTTP.
type web struct{}

func (web) send(ctx context.Context, c *Client, a *Account, request *call.Call, key string, sent *call.Sent) (*call.Answer, error) {
	var written atomic.Bool
	traced := httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{WroteHeaders: func() { written.Store(true) }})
	req, err := c.request(traced, a, request, key)
	if err != nil {
		return nil, bad("%s", a.Hide(err.Error()))
	}
	// Asked for at each call, not only where one is dialled: a kept connection ends
	// with the allowance that it was made by.
	if _, err := c.list(ctx, a.Workspace); err != nil {
		return nil, a.failure(ctx, ours{err}, false)
	}
	res, err := c.pool(a.Workspace).Do(req)
	if err != nil {
		return nil, a.failure(ctx, err, written.Load())
	}
	defer res.Body.Close()
	sent.Status = res.StatusCode
	answer := &call.Answer{Status: res.StatusCode, Header: res.Header}
	if c.asFile(request, answer) {
		answer.File, err = c.keep(ctx, a, req.URL, res)
		return answer, err
	}
	if answer.Body, err = io.ReadAll(io.LimitReader(res.Body, MaxResponse+1)); err != nil {
		return nil, a.failure(ctx, err, true)
	}
	if len(answer.Body) > MaxResponse {
		return nil, &call.Failure{Class: call.InDoubt, Status: res.StatusCode, Message: fmt.Sprintf("%s sent more than %d MiB; ask it for less, or keep the answer as a file", a.title(), MaxResponse>>20)}
	}
	return answer, nil
}

func (c *Client) asFile(request *call.Call, answer *call.Answer) bool {
	good := answer.Status >= 200 && answer.Status < 300
	return c.files != nil && good && (request.Answer == "file" || (request.Answer == "" || request.Answer == "auto") && connector.Binary(answer.Header))
}

// request makes the request with its proof. Where it goes on being redirected,
// the proof stays behind unless the host is the same.
func (c *Client) request(ctx context.Context, a *Account, request *call.Call, key string) (*http.Request, error) {
	address := *request.URL
	signed := &connector.Signed{Method: request.Method, URL: &address, Header: request.Header.Clone(), Body: request.Body, Stream: request.Pieces != nil, Now: time.Now(), Nonce: uuid.NewString()}
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
	proven := *request
	proven.Body = signed.Body
	req, err := http.NewRequestWithContext(ctx, request.Method, address.String(), c.content(ctx, a.Workspace, &proven))
	if err != nil {
		return nil, err
	}
	req.ContentLength, req.GetBody = proven.Size(), nil
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
func (c *Client) content(ctx context.Context, workspace uuid.UUID, request *call.Call) io.ReadCloser {
	if request.Pieces == nil {
		return io.NopCloser(bytes.NewReader(request.Body))
	}
	return &pieces{ctx: ctx, files: c.files, workspace: workspace, rest: request.Pieces}
}

type pieces struct {
	ctx       context.Context
	files     Files
	workspace uuid.UUID
	rest      []call.Piece
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
					return 0, fileFault(next.File.Name, err)
				}
				p.open = ownReader{f}
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

// fileFault tells a file that is gone, which is the item's fault, from one that
// we cannot read at the moment.
func fileFault(name string, err error) error {
	err = fmt.Errorf("the file %s cannot be read: %w", name, err)
	if errors.Is(err, item.ErrFileGone) {
		return err
	}
	return ours{err}
}

// ownReader marks the errors of reading our own files.
type ownReader struct{ io.ReadCloser }

func (o ownReader) Read(b []byte) (int, error) {
	n, err := o.ReadCloser.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		err = ours{err}
	}
	return n, err
}

func (p *pieces) Close() error {
	if p.open != nil {
		return p.open.Close()
	}
	return nil
}

// keep saves an answer as a file, named as the other side says. The other side
// may cut it short; that we cannot keep it is our own fault, and the call was
// made.
func (c *Client) keep(ctx context.Context, a *Account, u *url.URL, res *http.Response) (*item.File, error) {
	tooLarge := func() error {
		return &call.Failure{Class: call.InDoubt, Status: res.StatusCode, Message: fmt.Sprintf("%s sent a file of more than %s; that is the most that is kept", a.title(), item.Bytes(item.MaxFile))}
	}
	if res.ContentLength > item.MaxFile {
		return nil, tooLarge()
	}
	name := path.Base(u.Path)
	if _, params, err := mime.ParseMediaType(res.Header.Get("Content-Disposition")); err == nil && params["filename"] != "" {
		name = params["filename"]
	}
	kind, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type"))
	body := &counted{Reader: io.LimitReader(res.Body, item.MaxFile+1)}
	file, err := c.files.Save(ctx, a.Workspace, name, kind, body)
	switch {
	case err == nil:
		return file, nil
	case body.n > item.MaxFile:
		return nil, tooLarge()
	case body.err != nil:
		return nil, a.failure(ctx, body.err, true)
	case ctx.Err() != nil:
		return nil, a.failure(ctx, err, true)
	}
	return nil, &call.Lost{Err: err}
}

// counted remembers how much was read, and what ended it but its end.
type counted struct {
	io.Reader
	n   int64
	err error
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	c.n += int64(n)
	if err != nil && !errors.Is(err, io.EOF) {
		c.err = err
	}
	return n, err
}
