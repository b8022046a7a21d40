package test

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/store"
)

// callers repeat what they send until it is answered, wherever the service is.
type callers struct {
	ctx     context.Context
	address atomic.Pointer[string] // of the service, as it is now
	client  *http.Client
}

// call sends once, and gives what came of it; status 0 where nothing did.
func (c *callers) call(method, path, kind, body string) (status int, where, text string) {
	ctx, cancel := context.WithTimeout(c.ctx, 20*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, *c.address.Load()+path, strings.NewReader(body))
	if err != nil {
		return 0, "", err.Error()
	}
	r.Header.Set("Content-Type", kind)
	r.Header.Set("Accept", "text/html;q=0.1, */*")
	if kind == "application/json" {
		r.Header.Del("Accept")
	}
	res, err := c.client.Do(r)
	if err != nil {
		return 0, "", err.Error()
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		return 0, "", err.Error()
	}
	where = res.Header.Get("Location")
	if u, err := url.Parse(where); err == nil {
		where = u.Path
	}
	return res.StatusCode, where, string(b)
}

// until sends again and again until the status is one of these.
func (c *callers) until(method, path, kind, body string, these ...int) (status int, where, text string) {
	for c.ctx.Err() == nil {
		status, where, text = c.call(method, path, kind, body)
		for _, s := range these {
			if s == status {
				return status, where, text
			}
		}
		time.Sleep(20 * time.Millisecond)
	}
	return status, where, text
}

// answer is what a call is answered in the end.
func (c *callers) answer(path, body string) string {
	status, where, text := c.until(http.MethodPost, path, "application/json", body, 200, 202)
	if status == 202 {
		_, _, text = c.until(http.MethodGet, where, "application/json", "", 200)
	}
	return text
}

// form fills a form in, and gives the id of its view and where its answer is.
func (c *callers) form(path, who string) (id, where string) {
	for c.ctx.Err() == nil {
		_, _, page := c.until(http.MethodGet, path, "", "", 200)
		found := submissionID.FindStringSubmatch(page)
		if found == nil {
			continue
		}
		id = found[1]
		return id, c.fill(path, id, who)
	}
	return "", ""
}

func (c *callers) fill(path, id, who string) (where string) {
	_, where, _ = c.until(http.MethodPost, path, "application/x-www-form-urlencoded", url.Values{"form-submission": {id}, "who": {who}}.Encode(), 303)
	return where
}

// A service that is killed again and again, under callers that repeat whatever was not
// answered: every call that was answered has exactly one run, and every repeat the same
// answer. TRELLIS_KILLS says how often it is killed.
func TestAKilledServiceAnswersEachCallOnce(t *testing.T) {
	kills := 8
	if n, err := strconv.Atoi(os.Getenv("TRELLIS_KILLS")); err == nil {
		kills = n
	}
	ctx := within(t, 3*time.Minute+time.Duration(kills)*4*time.Second)
	database, data := clustertest.Database(t), clustertest.Folder(t)
	p := serve(t, database, data, "--hook-rate", "100000")
	s, err := store.Open(ctx, database, "")
	require.NoError(t, err)
	t.Cleanup(s.Close)
	sc, err := s.CreateOwner(ctx, "Ottermere Clayworks", "mara@ottermere.example", "Mara Quill", "a password to test")
	require.NoError(t, err)
	token, _, err := s.CreateToken(ctx, sc, store.NewToken{Name: "test", Role: store.Owner})
	require.NoError(t, err)
	w := &ottermere.World{Client: clientOf(t, p.address, token)}
	steps := `
  - {name: seen, type: shape, settings: {set: {seen: true}}}
  - {name: told, type: answer, settings: {body: "(= item.n ) by (= run.id )"}}
  - {name: after, type: wait, settings: {for: 1s}}`
	hook := answers(ctx, t, w, "calls", ", key: item.n", steps)
	hook = hook[strings.Index(hook, "/hooks/"):]
	form := formed(ctx, t, w, "forms", "fields: [{name: who, type: string, required: true}], most: 1000000", strings.Replace(steps, `body: "(= item.n )`, `page: "(= item.who )`, 1))
	form = form[strings.Index(form, "/forms/"):]

	c := &callers{ctx: ctx, client: &http.Client{CheckRedirect: followsNothing.CheckRedirect}}
	c.address.Store(&p.address)
	var stop atomic.Bool
	var wait sync.WaitGroup
	var mu sync.Mutex
	said := map[string]string{}   // answers, by what was sent
	ids := map[string][2]string{} // of forms: the id of the view, and where the answer is
	for worker := range 8 {
		wait.Go(func() {
			for i := 0; !stop.Load() && ctx.Err() == nil; i++ {
				n := fmt.Sprintf("%d-%d", worker, i)
				if worker%2 == 0 {
					body := fmt.Sprintf(`{"n": %q}`, n)
					answer := c.answer(hook, body)
					mu.Lock()
					said[body] = answer
					mu.Unlock()
					continue
				}
				id, where := c.form(form, n)
				mu.Lock()
				ids[n] = [2]string{id, where}
				mu.Unlock()
			}
		})
	}
	for range kills {
		time.Sleep(time.Duration(rand.IntN(1500)) * time.Millisecond)
		require.NoError(t, p.Process.Kill())
		_ = p.Wait()
		p = serve(t, database, data, "--hook-rate", "100000")
		c.address.Store(&p.address)
	}
	stop.Store(true)
	wait.Wait()
	require.NoError(t, ctx.Err())
	require.Greater(t, len(said), 20, "calls were answered")
	require.Greater(t, len(ids), 20, "and forms")
	t.Logf("%d kills, %d calls, %d forms", kills, len(said), len(ids))

	for body, answer := range said {
		require.Equal(t, answer, c.answer(hook, body), "a repeat gets the same answer")
	}
	for who, x := range ids {
		require.Equal(t, x[1], c.fill(form, x[0], who), "a repeat gets to the same address")
		_, _, page := c.until(http.MethodGet, x[1], "", "", 200)
		require.Contains(t, page, "<h1>"+who+" by ", "and there is its answer")
	}
	db, err := pgx.Connect(ctx, database)
	require.NoError(t, err)
	defer func() { _ = db.Close(context.Background()) }()
	for name, want := range map[string]int{"calls": len(said), "forms": len(ids)} {
		eventually(t, "the end of all runs", time.Minute, func() bool {
			var live int
			err := db.QueryRow(ctx, "SELECT count(*) FROM live").Scan(&live)
			return err == nil && live == 0
		})
		var runs, keys int
		require.NoError(t, db.QueryRow(ctx, "SELECT count(*) FROM run r JOIN workflow w ON w.id = r.workflow_id WHERE w.name = $1 AND r.state = 'succeeded'", name).Scan(&runs))
		require.NoError(t, db.QueryRow(ctx, "SELECT count(DISTINCT run_id) FROM start_key k JOIN workflow w ON w.id = k.workflow_id WHERE w.name = $1", name).Scan(&keys))
		require.Equal(t, want, runs, "%s: each has one run", name)
		require.Equal(t, want, keys, name)
	}
}
