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
	took, err := load(3000, callers, address, secret, reports(60))
	if err == nil {
		err = w.rested(ctx)
	}
	if err != nil {
		return nil, err
	}
	capacity := 3000 / took.Seconds()
	floods := []struct {
		what  string
		flood func(ctx context.Context, note *tally)
	}{
		{"another workspace offers as much as can be sent", func(ctx context.Context, t *tally) {
			body := reports(60)
			t.many(ctx, 256, func(c *http.Client, i int) (int, error) { return post(ctx, c, address, secret, body(i)) })
		}},
		{"500 slow connections", func(ctx context.Context, t *tally) { t.slow(ctx, address, 500) }},
		{"400 streams", func(ctx context.Context, t *tally) { t.streams(ctx, &loud, watched.Run.String(), 400) }},
		{"a flood of bad keys", func(ctx context.Context, t *tally) {
			t.many(ctx, 128, func(c *http.Client, _ int) (int, error) { return post(ctx, c, address, "a-key-that-is-none", "{}") })
		}},
		{"a flood of bodies of 1 MiB", func(ctx context.Context, t *tally) {
			large := `{"call_id": "large", "text": "` + strings.Repeat("x", 1<<20-100) + `"}`
			t.many(ctx, 32, func(c *http.Client, _ int) (int, error) { return post(ctx, c, address, "a-key-that-is-none", large) })
		}},
	}
	const n, rounds = 400, 3
	var out []Result
	for _, f := range floods {
		var list []pair
		t := &tally{answers: map[int]int{}}
		for range rounds {
			if err := w.rested(ctx); err != nil {
				return nil, err
			}
			alone, err := quiet.delays(ctx, n, capacity/10)
			if err != nil {
				return nil, err
			}
			flood, stop := context.WithCancel(ctx)
			var wait sync.WaitGroup
			wait.Go(func() { f.flood(flood, t) })
			time.Sleep(time.Second) // until it is in full flow
			beside, err := quiet.delays(ctx, n, capacity/10)
			stop()
			wait.Wait()
			if err != nil {
				return nil, fmt.Errorf("beside %s: %w", f.what, err)
			}
			list = append(list, pair{percentile(beside, 0.95), percentile(alone, 0.95)})
		}
		r := compare(Result{Bar: 13, Work: "from acceptance to the effect begun, p95 in ms, beside " + f.what + ", against quiet", Wanted: "at most 2"}, list)
		r.Notes = []string{fmt.Sprintf("%.0f events a second; the flood was answered %s", capacity/10, t)}
		out = append(out, r)
	}
	return append(out, figure(Result{Bar: 13, Work: "the most memory of the service through all of it", Wanted: "at most 300"}, "MiB", memory(w.service.Process.Pid, "VmHWM"))), nil
}

// rested waits until nothing is queued or carried out, and the database has written.
func (w *world) rested(ctx context.Context) error {
	for left := true; left; pause(ctx, 2*time.Millisecond) {
		if err := w.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM live WHERE state <> 'waiting')").Scan(&left); err != nil {
			return err
		}
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
func (t *tally) streams(ctx context.Context, w *world, run string, n int) {
	var wait sync.WaitGroup
	for i := range n {
		wait.Go(func() {
			c := from(i)
			defer c.CloseIdleConnections()
			for ctx.Err() == nil {
				req, err := http.NewRequestWithContext(ctx, http.MethodGet, w.service.address+"/api/v1/runs/"+run+"/events", nil)
				if err != nil {
					return
				}
				req.Header.Set("Authorization", "Bearer "+w.token)
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
