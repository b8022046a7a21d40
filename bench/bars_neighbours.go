package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// neighbours is bar 13: what one workspace, or nobody in particular, offers in excess
// does not slow another. The same quiet stream of events is measured alone and beside
// each flood. Floods come from addresses of their own, with the limits that the
// service has unless it is told otherwise.
func neighbours(ctx context.Context, w *world) ([]Result, error) {
	w.service.stop()
	if err := w.serve("--hook-rate", "2000"); err != nil {
		return nil, err
	}
	loud, quiet := *w, *w
	if err := quiet.workspace(ctx, "The workshop next door", "ines@ottermere.example"); err != nil {
		return nil, err
	}
	for _, x := range []*world{&loud, &quiet} {
		if _, err := x.live(ctx, done); err != nil {
			return nil, err
		}
	}
	address, secret, err := loud.hook(ctx, "bar-done")
	if err != nil {
		return nil, err
	}
	if _, err := loud.live(ctx, waits); err != nil {
		return nil, err
	}
	watched, err := ottermere.Answer[api.Started](loud.client.StartWorkflow(ctx, "bar-waits", api.Items{}))
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if _, err = load(3000, callers, address, secret, reports(60)); err == nil {
		err = w.carriedOut(ctx)
	}
	if err != nil {
		return nil, err
	}
	capacity := 3000 / time.Since(began).Seconds() // from event to done
	large := `{"call_id": "large", "text": "` + strings.Repeat("x", 1<<20-100) + `"}`
	// Each is offered to an address of the service, or to one of the bare server, which
	// answers at once that nothing is there.
	floods := []struct {
		what  string
		flood func(ctx context.Context, t *tally, at string)
	}{
		{"another workspace offers as much as can be sent", func(ctx context.Context, t *tally, at string) {
			body := reports(60)
			t.many(ctx, 256, func(c *http.Client, i int) (int, error) { return post(ctx, c, at, secret, body(i)) })
		}},
		{"500 slow connections", func(ctx context.Context, t *tally, at string) { t.slow(ctx, at, 500) }},
		{"400 streams", func(ctx context.Context, t *tally, at string) {
			if at == address {
				at = w.service.address + "/api/v1/runs/" + watched.Run.String() + "/events"
			}
			t.streams(ctx, at, loud.token, 400)
		}},
		{"a flood of bad keys", func(ctx context.Context, t *tally, at string) {
			t.many(ctx, 128, func(c *http.Client, _ int) (int, error) { return post(ctx, c, at, "a-key-that-is-none", "{}") })
		}},
		{"a flood of bodies of 1 MiB", func(ctx context.Context, t *tally, at string) {
			t.many(ctx, 32, func(c *http.Client, _ int) (int, error) { return post(ctx, c, at, "a-key-that-is-none", large) })
		}},
	}
	const n, rounds = 400, 3
	var out []Result
	for _, f := range floods {
		var againstQuiet, againstBare []pair
		t := &tally{answers: map[int]int{}}
		for range rounds {
			var p95 []float64
			for _, at := range []string{"", w.bare.address + "/nowhere", address} {
				if err := w.rested(ctx); err != nil {
					return nil, err
				}
				flood, stop := context.WithCancel(ctx)
				var wait sync.WaitGroup
				if at != "" {
					noted := t
					if at != address {
						noted = &tally{answers: map[int]int{}}
					}
					wait.Go(func() { f.flood(flood, noted, at) })
					pause(ctx, time.Second) // until it is in full flow
				}
				list, err := quiet.delays(ctx, n, capacity/10)
				stop()
				wait.Wait()
				if err != nil {
					return nil, fmt.Errorf("beside %s: %w", f.what, err)
				}
				p95 = append(p95, percentile(list, 0.95))
			}
			againstQuiet, againstBare = append(againstQuiet, pair{p95[2], p95[0]}), append(againstBare, pair{p95[2], p95[1]})
		}
		work := "from acceptance to the effect begun, p95 in ms, beside " + f.what
		r := compare(Result{Bar: 13, Work: work + ", against quiet", Wanted: "at most 2"}, againstQuiet)
		r.Notes = []string{fmt.Sprintf("%.0f events a second; the flood was answered %s", capacity/10, t), fmt.Sprintf("%.0f MiB of memory then", memory(w.service.Process.Pid, "VmRSS"))}
		b := compare(Result{Bar: 13, Work: work + ", against the same offered to a bare server on the same processors"}, againstBare)
		out = append(out, r, b)
	}
	return append(out, figure(Result{Bar: 13, Work: "the most memory of the service through all of it", Wanted: "at most 300"}, "MiB", memory(w.service.Process.Pid, "VmHWM"))), nil
}

// carriedOut waits until nothing is queued or carried out.
func (w *world) carriedOut(ctx context.Context) error {
	for left := true; left; pause(ctx, 2*time.Millisecond) {
		if err := w.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM live WHERE state <> 'waiting')").Scan(&left); err != nil {
			return err
		}
	}
	return nil
}

// rested waits for that, and until the database has written.
func (w *world) rested(ctx context.Context) error {
	if err := w.carriedOut(ctx); err != nil {
		return err
	}
	return w.cluster.Admin(ctx, "CHECKPOINT")
}

// tally counts how a flood was answered; 0 is for what was not.
type tally struct {
	mu      sync.Mutex
	answers map[int]int
}

func (t *tally) add(status int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.answers[status]++
}

func (t *tally) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return strings.TrimPrefix(fmt.Sprint(t.answers), "map")
}

// from is a client that calls from one of the addresses of the loopback network.
func from(i int) *http.Client {
	d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(1+i%200))}}
	return &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 1000, DialContext: d.DialContext}}
}

// many calls from many callers at once, of sixteen addresses, until ctx ends.
func (t *tally) many(ctx context.Context, callers int, call func(c *http.Client, i int) (int, error)) {
	clients := make([]*http.Client, 16)
	for i := range clients {
		clients[i] = from(i)
		defer clients[i].CloseIdleConnections()
	}
	var wait sync.WaitGroup
	for k := range callers {
		wait.Go(func() {
			for i := k; ctx.Err() == nil; i += callers {
				status, err := call(clients[k%len(clients)], i)
				if ctx.Err() == nil {
					if err != nil {
						status = 0
					}
					t.add(status)
				}
			}
		})
	}
	wait.Wait()
}

func post(ctx context.Context, c *http.Client, address, secret, body string) (int, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(body))
	if err != nil {
		return 0, err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+secret)
	res, err := c.Do(req)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	_, err = io.Copy(io.Discard, res.Body)
	return res.StatusCode, err
}

// slow opens connections that send a byte of their headers each second, and opens
// another one for each that is closed.
func (t *tally) slow(ctx context.Context, address string, n int) {
	u, err := url.Parse(address)
	if err != nil {
		return
	}
	var wait sync.WaitGroup
	for i := range n {
		wait.Go(func() {
			d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 2, byte(1+i%4))}}
			for ctx.Err() == nil {
				if c, err := d.DialContext(ctx, "tcp", u.Host); err == nil {
					_, err = c.Write([]byte("POST " + u.Path + " HTTP/1.1\r\nHost: " + u.Host + "\r\nX-Slow: "))
					for err == nil && ctx.Err() == nil {
						pause(ctx, time.Second)
						_, err = c.Write([]byte("x"))
					}
					c.Close()
					t.add(0)
				}
				pause(ctx, 100*time.Millisecond)
			}
		})
	}
	wait.Wait()
}

// streams watches a run that goes on, and asks anew where that is refused.
func (t *tally) streams(ctx context.Context, address, token string, n int) {
	var wait sync.WaitGroup
	for i := range n {
		wait.Go(func() {
			c := from(i)
			defer c.CloseIdleConnections()
			for ctx.Err() == nil {
				req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
				if err != nil {
					return
				}
				req.Header.Set("Authorization", "Bearer "+token)
				if res, err := c.Do(req); err == nil {
					t.add(res.StatusCode)
					_, _ = io.Copy(io.Discard, res.Body)
					res.Body.Close()
				}
				pause(ctx, 500*time.Millisecond)
			}
		})
	}
	wait.Wait()
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
