package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"youngtrellis/internal/store"
)

const callers = 64

// bare is the program without an engine: Gin handlers over the same server.
type bare struct {
	pool    *pgxpool.Pool
	trellis *pgxpool.Pool // the service's own database, to read its journal
	posted  string        // where it posts to
	client  *http.Client
}

// serveBare is the bare program's process: its database, the other side's
// address, and the service's database.
func serveBare(ctx context.Context, args []string) error {
	b := &bare{posted: args[1], client: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}}}
	var err error
	for _, p := range []struct {
		address string
		to      **pgxpool.Pool
	}{{args[0], &b.pool}, {args[2], &b.trellis}} {
		cfg, err := pgxpool.ParseConfig(p.address)
		if err != nil {
			return err
		}
		cfg.MaxConns = 32
		if *p.to, err = pgxpool.NewWithConfig(ctx, cfg); err != nil {
			return err
		}
	}
	if _, err = b.pool.Exec(ctx, "CREATE TABLE IF NOT EXISTS event (id uuid PRIMARY KEY, body jsonb NOT NULL, done timestamptz, answer jsonb)"); err != nil {
		return err
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.POST("/accept", func(c *gin.Context) {
		body, err := io.ReadAll(c.Request.Body)
		if err == nil {
			_, err = b.pool.Exec(c, "INSERT INTO event (id, body) VALUES ($1, $2)", uuid.New(), body)
		}
		answer(c, err)
	})
	r.POST("/do", func(c *gin.Context) { answer(c, b.do(c)) })
	r.POST("/records", func(c *gin.Context) { answer(c, b.records(c.Request.Body)) })
	r.POST("/replay/:run", func(c *gin.Context) { answer(c, b.replay(c, c.Param("run"))) })
	return serve(ctx, r)
}

// serve says where a handler is reached and serves it until ctx ends.
func serve(ctx context.Context, h http.Handler) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println("http://" + l.Addr().String())
	s := &http.Server{Handler: h}
	context.AfterFunc(ctx, func() { _ = s.Close() })
	if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func answer(c *gin.Context, err error) {
	if err != nil {
		c.String(http.StatusInternalServerError, err.Error())
		return
	}
	c.Status(http.StatusAccepted)
}

type report struct {
	Number  string `json:"number"`
	Seconds int    `json:"duration_s"`
	Caller  string `json:"caller"`
	Ended   string `json:"ended"`
	ID      string `json:"call_id"`
}

// do inserts, filters, posts and updates, one after the other.
func (b *bare) do(c *gin.Context) error {
	body, err := io.ReadAll(c.Request.Body)
	if err != nil {
		return err
	}
	var in report
	if err := json.Unmarshal(body, &in); err != nil {
		return err
	}
	id := uuid.New()
	if _, err := b.pool.Exec(c, "INSERT INTO event (id, body) VALUES ($1, $2)", id, body); err != nil {
		return err
	}
	if in.Seconds < 20 {
		return nil
	}
	got, err := b.post(map[string]any{"number": in.Number, "name": in.Caller, "minutes": float64(in.Seconds) / 60})
	if err != nil {
		return err
	}
	_, err = b.pool.Exec(c, "UPDATE event SET done = now(), answer = $2 WHERE id = $1", id, got)
	return err
}

func (b *bare) post(values any) ([]byte, error) {
	return b.send("/v1/tabs/tb_h4m9xa/rows", map[string]any{"values": values})
}

func (b *bare) send(path string, v any) ([]byte, error) {
	body, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequest(http.MethodPost, b.posted+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("X-Tables-Key", otherKey)
	req.Header.Set("Content-Type", "application/json")
	res, err := b.client.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	got, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode != http.StatusCreated {
		err = fmt.Errorf("answered %d: %s", res.StatusCode, got)
	}
	return got, err
}

// records is a loop with encoding/json and net/http, sixteen posts at once.
func (b *bare) records(in io.Reader) error {
	var lines []json.RawMessage
	if err := json.NewDecoder(in).Decode(&lines); err != nil {
		return err
	}
	slots := make(chan struct{}, 16)
	var batch []any
	var wait sync.WaitGroup
	var mu sync.Mutex
	var failed error
	flush := func() {
		full := batch
		batch = nil
		slots <- struct{}{}
		wait.Go(func() {
			defer func() { <-slots }()
			if _, err := b.send("/v1/batch", full); err != nil {
				mu.Lock()
				failed = err
				mu.Unlock()
			}
		})
	}
	for _, line := range lines {
		var in map[string]any
		if err := json.Unmarshal(line, &in); err != nil {
			return err
		}
		seconds, _ := in["duration_s"].(float64)
		six := map[string]any{"number": in["number"], "name": in["caller"], "minutes": seconds / 60, "ended": in["ended"], "long": seconds > 100, "id": in["call_id"]}
		if six["minutes"].(float64) < 0.1 {
			continue
		}
		if batch = append(batch, six); len(batch) == 500 {
			flush()
		}
	}
	if len(batch) > 0 {
		flush()
	}
	wait.Wait()
	return failed
}

// replay reads the journal of a run and decodes it.
func (b *bare) replay(ctx context.Context, run string) error {
	rows, err := b.trellis.Query(ctx, "SELECT step, address, part, outcome, ended, result, request FROM journal WHERE run_id = $1 ORDER BY step, address, part", run)
	if err != nil {
		return err
	}
	n := 0
	var step, part int
	var address, result, request []byte
	var outcome string
	var ended time.Time
	_, err = pgx.ForEachRow(rows, []any{&step, &address, &part, &outcome, &ended, &result, &request}, func() error {
		n++
		for _, packed := range [][]byte{result, request} {
			text, err := store.Unpack(packed)
			if err != nil || text == nil {
				return err
			}
			var v any
			if err := json.Unmarshal(text, &v); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil && n < 1000 {
		err = fmt.Errorf("only %d entries were there", n)
	}
	return err
}

// serveOther is the other side's process: it takes rows and remembers when each
// call's came.
func serveOther(ctx context.Context, _ []string) error {
	var mu sync.Mutex
	came := map[string]time.Time{}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/me", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, `{"name": "Ottermere Clayworks", "plan": "workshop"}`)
	})
	mux.HandleFunc("POST /v1/tabs/{tab}/rows", func(w http.ResponseWriter, r *http.Request) {
		at := time.Now()
		if r.Header.Get("X-Tables-Key") != otherKey {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		var in struct {
			Values struct {
				ID string `json:"id"`
			} `json:"values"`
		}
		body, err := io.ReadAll(r.Body)
		if err == nil {
			err = json.Unmarshal(body, &in)
		}
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		if in.Values.ID != "" {
			mu.Lock()
			came[in.Values.ID] = at
			mu.Unlock()
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusCreated)
		_, _ = io.WriteString(w, `{"id": "rw_1", "number": 1, "link": "http://127.0.0.1/rows/1"}`)
	})
	mux.HandleFunc("POST /v1/batch", func(w http.ResponseWriter, r *http.Request) {
		_, err := io.Copy(io.Discard, r.Body)
		if err != nil || r.Header.Get("X-Tables-Key") != otherKey {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusCreated)
		_, _ = io.WriteString(w, `{"taken": true}`)
	})
	mux.HandleFunc("GET /v1/pages", pages)
	mux.HandleFunc("GET /came", func(w http.ResponseWriter, _ *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		_ = json.NewEncoder(w).Encode(came)
		clear(came)
	})
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if strings.HasSuffix(r.URL.Path, "columns") {
			_, _ = io.WriteString(w, `{"columns": []}`)
			return
		}
		_, _ = io.WriteString(w, `{}`)
	})
	return serve(ctx, mux)
}

// pages is a list of so many reports, a thousand at a time.
func pages(w http.ResponseWriter, r *http.Request) {
	of, _ := strconv.Atoi(r.URL.Query().Get("of"))
	from, _ := strconv.Atoi(r.URL.Query().Get("cursor"))
	to := min(of, from+1000)
	w.Header().Set("Content-Type", "application/json")
	_, _ = io.WriteString(w, `{"items": [`)
	for i := from; i < to; i++ {
		if i > from {
			_, _ = io.WriteString(w, ",")
		}
		fmt.Fprintf(w, `{"call_id": "l-%d", "number": "+441632960141", "caller": "Hollowbank Pottery", "duration_s": %d, "ended": "2026-11-20T13:12:04Z"}`, i, i%66)
	}
	_, _ = io.WriteString(w, "]")
	if to < of {
		fmt.Fprintf(w, `, "next": "%d"`, to)
	}
	_, _ = io.WriteString(w, "}")
}
