package main

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// said is an answer of the other side. It depends on the request only, so that
// the twin can be given the same.
type said struct {
	Status int
	Body   string
}

// says is what the other side answers when it is well.
func says(u *url.URL, body []byte) said {
	if u.Path == "/look" {
		return said{http.StatusOK, `{"glaze": "celadon"}`}
	}
	if count, ok := strings.CutPrefix(u.Path, "/pieces/"); ok {
		return pieces(count, u.Query().Get("page"))
	}
	var in struct {
		ID  string `json:"id"`
		Bad bool   `json:"bad"`
	}
	if err := json.Unmarshal(body, &in); err != nil {
		return said{http.StatusBadRequest, `{"message": "this is no order"}`}
	}
	if in.Bad {
		return said{http.StatusUnprocessableEntity, `{"message": "there is no such piece"}`}
	}
	return said{http.StatusOK, fmt.Sprintf(`{"done": %q}`, in.ID)}
}

// pieces is a page of so many pieces, two at a time.
func pieces(count, page string) said {
	n, _ := strconv.Atoi(count)
	p, _ := strconv.Atoi(page)
	list := []string{}
	for i := 2 * max(0, p-1); i < min(n, 2*p); i++ {
		list = append(list, fmt.Sprintf(`{"n": %d}`, i))
	}
	return said{http.StatusOK, fmt.Sprintf(`{"pieces": [%s], "more": %v}`, strings.Join(list, ", "), n > 2*p)}
}

// side is the other side. What is posted under /keyed is known again by its
// Idempotency-Key; what is posted under /once happens as often as it arrives.
type side struct {
	*httptest.Server
	rough atomic.Bool // it errs, cuts, dawdles and asks to wait

	mu      sync.Mutex // protects the following fields
	dice    *rand.Rand
	effects map[string]int   // by path and id: how often it happened
	keys    map[string]*kept // by Idempotency-Key
	repeats int              // keys that came again
	clashes int              // keys that came again with something else
	faults  map[string]int
}

// kept is the answer to a key, and to what.
type kept struct {
	body string
	said said
}

func newSide(seed uint64) *side {
	s := &side{dice: rand.New(rand.NewPCG(seed, 2)), effects: map[string]int{}, keys: map[string]*kept{}, faults: map[string]int{}}
	s.Server = httptest.NewServer(s)
	return s
}

func (s *side) host() string { return strings.TrimPrefix(s.URL, "http://") }

// fault says what goes wrong with this call, before its effect and after.
func (s *side) fault() string {
	if !s.rough.Load() {
		return ""
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.dice.Float64()
	name := ""
	for _, f := range []struct {
		name  string
		share float64
	}{{"an error before the effect", 0.05}, {"an error after the effect", 0.02}, {"a cut before the effect", 0.02}, {"a cut after the effect", 0.02}, {"a slow answer", 0.04}, {"asked to wait", 0.01}} {
		if p < f.share {
			name = f.name
			break
		}
		p -= f.share
	}
	if name != "" {
		s.faults[name]++
	}
	return name
}

// ServeHTTP implements http.Handler.
func (s *side) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return // it did not arrive whole: nothing happens
	}
	cut := func() { panic(http.ErrAbortHandler) }
	fault := s.fault()
	switch fault {
	case "an error before the effect":
		http.Error(w, `{"message": "something broke"}`, http.StatusServiceUnavailable)
		return
	case "a cut before the effect":
		cut()
	case "a slow answer":
		select {
		case <-time.After(300 * time.Millisecond):
		case <-r.Context().Done():
		}
	case "asked to wait":
		w.Header().Set("Retry-After", "1")
		http.Error(w, `{"message": "not so fast"}`, http.StatusTooManyRequests)
		return
	}
	answer := s.effect(r.URL, r.Header.Get("Idempotency-Key"), body)
	switch fault {
	case "an error after the effect":
		http.Error(w, `{"message": "something broke"}`, http.StatusInternalServerError)
		return
	case "a cut after the effect":
		cut()
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(answer.Status)
	_, _ = io.WriteString(w, answer.Body)
}

// effect lets it happen, unless it is known by its key.
func (s *side) effect(u *url.URL, key string, body []byte) said {
	answer := says(u, body)
	path := u.Path
	if !strings.HasPrefix(path, "/keyed") && !strings.HasPrefix(path, "/once") {
		return answer
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if strings.HasPrefix(path, "/keyed") {
		if known, ok := s.keys[key]; ok && key != "" {
			s.repeats++
			if known.body != string(body) {
				s.clashes++
			}
			return known.said
		}
		s.keys[key] = &kept{body: string(body), said: answer}
	}
	if answer.Status == http.StatusOK {
		s.effects[named(path, body)]++
	}
	return answer
}

// named is what happens: where, and with what.
func named(path string, body []byte) string {
	var in struct {
		ID string `json:"id"`
	}
	_ = json.Unmarshal(body, &in)
	return path + " " + in.ID
}

// happened is how often something happened.
func (s *side) happened(path, id string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.effects[path+" "+id]
}
