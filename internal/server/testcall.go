package server

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/core/item"
	proofs "youngtrellis/internal/core/proof"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// mostSaid is how much of an answer a test call shows.
const mostSaid = 4000

// TestCall implements api.StrictServerInterface: it calls an address as the other side
// would, through the same door.
func (s *Server) TestCall(ctx context.Context, r api.TestCallRequestObject) (api.TestCallResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	parsed, _, _ := workflow.Read([]byte(w.Draft))
	if w.Live != nil { // what is live is what calls prove themselves to
		if parsed, err = s.revision(ctx, sc, w, *w.Live); err != nil {
			return nil, err
		}
	}
	if parsed == nil || !isAddressed(parsed.Trigger) || isHosted(parsed.Trigger) {
		return nil, refuse(http.StatusConflict, "no_webhook", "Only a workflow that something calls can be called for a test. A form is opened at its address.")
	}
	body, err := s.testBody(ctx, sc, w, r.Body)
	if err != nil {
		return nil, err
	}
	start := parsed.Start()
	headers, err := s.proves(ctx, sc, w, start.Proof, body)
	if err != nil {
		return nil, err
	}
	method := http.MethodPost
	if !start.Entrance.Takes(method) {
		method = start.Entrance.Allowed()[0]
	}
	host := s.public.Host
	if u, err := url.Parse(s.pagesURL()); err == nil {
		host = u.Host
	}
	call, err := http.NewRequestWithContext(ctx, method, "/hooks/"+w.Hook, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	call.Host, call.RemoteAddr, call.Header = host, "127.0.0.1:0", headers
	call.Header.Set("Content-Type", "application/json")
	got := &recorded{header: http.Header{}}
	s.engine.ServeHTTP(got, call)
	out := api.TestCall200JSONResponse{Status: got.status, Said: got.said(), Sent: string(body)}
	var told struct{ Run *uuid.UUID }
	if json.Unmarshal(got.body.Bytes(), &told) == nil {
		out.Run = told.Run
	}
	return out, nil
}

// testBody is what a test call sends: what is given, else a sample.
func (s *Server) testBody(ctx context.Context, sc store.Scope, w store.Workflow, given *api.TestCallJSONRequestBody) ([]byte, error) {
	if given != nil && given.Fields != nil {
		fields, err := item.DecodeObject(*given.Fields)
		if err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_input", words.Sentence("what is to be sent is no object: "+err.Error()))
		}
		return item.Encode(fields)
	}
	list, err := s.Store.Samples(ctx, sc, w.ID)
	if err != nil {
		return nil, err
	}
	for _, x := range list {
		if given == nil || given.Sample == nil || *given.Sample == x.ID {
			return []byte(x.Fields), nil
		}
	}
	if given != nil && given.Sample != nil {
		return nil, store.ErrNotFound
	}
	return []byte(`{"test": true}`), nil
}

// proves are the headers by which a call of ours is proven.
func (s *Server) proves(ctx context.Context, sc store.Scope, w store.Workflow, rule proofs.Rule, body []byte) (http.Header, error) {
	if rule.Open() {
		return http.Header{}, nil
	}
	h, err := s.Store.HookByAddress(ctx, w.Hook)
	if err != nil {
		return nil, err
	}
	if len(h.Secrets) == 0 {
		return nil, refuse(http.StatusConflict, "no_secret", "Callers prove themselves by a secret, and none has been made yet. Make it on the call sheet.")
	}
	secret, err := s.Vault.Unseal(ctx, sc.Workspace(), "hook_secret", "secret", h.Secrets[0].ID, h.Secrets[0].Sealed)
	if err != nil {
		return nil, err
	}
	return rule.Prove(body, string(secret), "test-"+store.NewID().String(), time.Now())
}

// recorded is an answer that is looked at here.
type recorded struct {
	header http.Header
	status int
	body   bytes.Buffer
}

// Header implements http.ResponseWriter.
func (r *recorded) Header() http.Header { return r.header }

// WriteHeader implements http.ResponseWriter.
func (r *recorded) WriteHeader(status int) {
	if r.status == 0 {
		r.status = status
	}
}

// Write implements http.ResponseWriter.
func (r *recorded) Write(b []byte) (int, error) {
	r.WriteHeader(http.StatusOK)
	return r.body.Write(b)
}

// said is the body as it can be shown.
func (r *recorded) said() string {
	text := r.body.String()
	if !utf8.ValidString(text) {
		return "(no text)"
	}
	return words.Short(words.Visible(text), mostSaid)
}
