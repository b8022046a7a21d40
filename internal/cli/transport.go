package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/term"

	api "youngtrellis/api/client"
)

// serviceHeader stands in every answer of the service, so that another program that
// happens to answer is not taken for it.
const serviceHeader = "Young-Trellis"

// notOurs says that whatever answers at the address is no Young Trellis.
type notOurs struct {
	address string
	status  int
}

func (n *notOurs) Error() string {
	if n.status >= 500 {
		return fmt.Sprintf("%s answers %d, and not by Young Trellis: the service does not run, or what stands before it does not reach it", n.address, n.status)
	}
	return fmt.Sprintf("%s is answered by something that is no Young Trellis. Sign in where it runs: trellis login ADDRESS", n.address)
}

// caller sends the calls to the service. On a terminal it tells of a call that takes
// more than a second that it is under way, and how far.
type caller struct {
	app  *app
	next api.HttpRequestDoer
}

// Do implements api.HttpRequestDoer.
func (t *caller) Do(r *http.Request) (*http.Response, error) {
	sent := &atomic.Int64{}
	if r.Body != nil && r.ContentLength > 1<<20 {
		r = r.Clone(r.Context())
		r.Body = &counted{r.Body, sent}
	}
	end := t.app.progress(func(d time.Duration) string {
		if n := sent.Load(); n > 0 && n < r.ContentLength {
			return fmt.Sprintf("sending: %d %% of %.1f MB", n*100/r.ContentLength, float64(r.ContentLength)/1e6)
		}
		return fmt.Sprintf("waiting for the service, %d s", int(d.Seconds()))
	})
	res, err := t.next.Do(r)
	end()
	if err == nil && res.Header.Get(serviceHeader) == "" {
		res.Body.Close()
		return nil, &notOurs{r.URL.Scheme + "://" + r.URL.Host, res.StatusCode}
	}
	return res, err
}

type counted struct {
	io.ReadCloser
	n *atomic.Int64
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.ReadCloser.Read(b)
	c.n.Add(int64(n))
	return n, err
}

// progress says every quarter of a second how far something is that takes more than a
// second, in one line that is gone afterwards; only where a person sees it.
func (a *app) progress(said func(time.Duration) string) (end func()) {
	f, ok := a.errOut.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return func() {}
	}
	room := 60
	if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 1 {
		room = min(room, w-1)
	}
	began, stop, done := time.Now(), make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(250 * time.Millisecond)
		defer tick.Stop()
		shown := false
		for {
			select {
			case <-stop:
				if shown {
					fmt.Fprint(f, "\r\x1b[K")
				}
				return
			case <-tick.C:
				if d := time.Since(began); d >= time.Second {
					shown = true
					fmt.Fprint(f, "\r\x1b[K"+fit(said(d), room))
				}
			}
		}
	}()
	return func() { close(stop); <-done }
}

// clientAt calls the service at an address; edit puts in what proves who calls.
func (a *app) clientAt(address string, edit func(*http.Request)) (*api.Client, error) {
	cl, err := api.NewClient(strings.TrimSuffix(address, "/")+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		edit(r)
		return nil
	}))
	if err != nil {
		return nil, usage("%q is not an address: %v", address, err)
	}
	cl.Client = &caller{app: a, next: cl.Client}
	return cl, nil
}
