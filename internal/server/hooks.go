package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"youngtrellis/api"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	proofs "youngtrellis/internal/core/proof"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// isAddressed tells whether a trigger has an address that others call, or open.
func isAddressed(t workflow.Trigger) bool {
	k, ok := triggers.Find(t.Type)
	return ok && k.Addressed()
}

// ruleOf is how callers of a workflow prove themselves, as its draft says.
func ruleOf(w store.Workflow) proofs.Rule {
	if parsed, _, _ := workflow.Read([]byte(w.Draft)); parsed != nil {
		return parsed.Start().Proof
	}
	return proofs.Rule{}
}

// isHosted tells whether a page of ours stands at a trigger's address.
func isHosted(t workflow.Trigger) bool {
	k, ok := triggers.Find(t.Type)
	return ok && k.Hosted
}

// addressless refuses what is about an address, for a workflow that has none: neither its
// draft nor what is live is called.
func (s *Server) addressless(ctx context.Context, w store.Workflow, draft *workflow.Workflow) error {
	if draft == nil || isAddressed(draft.Trigger) {
		return nil
	}
	if w.Live != nil {
		if live, err := s.revision(ctx, scopeOf(ctx), w, *w.Live); err == nil && isAddressed(live.Trigger) {
			return nil
		}
	}
	return refuse(http.StatusConflict, "no_webhook", fmt.Sprintf("Nothing calls %s: %s. Only a workflow of a webhook or a form has an address.", w.Name, lowered(workflow.TriggerSentence(draft.Trigger))))
}

func lowered(s string) string { return strings.ToLower(s[:1]) + s[1:] }

// answerWords says what a call is answered.
func answerWords(w *workflow.Workflow) string {
	if w == nil || !w.Answers() {
		return `202 {"run": "the id of its run"}`
	}
	within := w.Start().AnswerWithin
	if within == 0 {
		return `202 {"run": "the id of its run", "answer": "where its answer will be"}`
	}
	return "what its run answers, or after " + expr.Words(within) + ` 202 {"run": "…", "answer": "where it will be"}`
}

// addressOf is what a workflow is called by: the path of its own where the draft says the
// one that is live, else random letters.
func addressOf(w store.Workflow, parsed *workflow.Workflow) string {
	if parsed != nil && w.Path != "" && parsed.Start().Path == w.Path {
		return w.Path
	}
	return w.Hook
}

// formSheet is the call sheet of a form: its page.
func (s *Server) formSheet(w store.Workflow, parsed *workflow.Workflow) api.CallSheet200JSONResponse {
	return api.CallSheet200JSONResponse{Address: s.pagesURL() + "/forms/" + addressOf(w, parsed), Verify: api.None, Proof: "Whoever knows the address can open it and fill it in.", Secrets: []api.HookSecret{}, Answer: "a page",
		Page: some(true), Open: some(w.State != "draft" || w.Taking != nil && w.Taking.After(time.Now()))}
}

// mostExample is how long a sample may be that stands in an example.
const mostExample = 2000

// CallSheet implements api.StrictServerInterface.
func (s *Server) CallSheet(ctx context.Context, r api.CallSheetRequestObject) (api.CallSheetResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	parsed, _, _ := workflow.Read([]byte(w.Draft))
	if err := s.addressless(ctx, w, parsed); err != nil {
		return nil, err
	}
	if parsed != nil && isHosted(parsed.Trigger) {
		return s.formSheet(w, parsed), nil
	}
	secrets, err := s.Store.HookSecrets(ctx, scopeOf(ctx), w.ID)
	if err != nil {
		return nil, err
	}
	rule, x := ruleOf(w), proofs.Example{Method: http.MethodPost, Address: s.pagesURL() + "/hooks/" + addressOf(w, parsed), Body: `{"example": 1}`}
	if parsed != nil {
		if door := parsed.Start().Entrance; !door.Takes(x.Method) {
			x.Method = door.Allowed()[0]
		}
	}
	samples, err := s.samples(ctx, scopeOf(ctx), w)
	if err != nil {
		return nil, err
	}
	if len(samples) > 0 {
		if text, err := item.Encode(samples[0]); err == nil && len(text) <= mostExample {
			x.Body = string(text)
		}
	}
	out := api.CallSheet200JSONResponse{Address: x.Address, Verify: api.CallSheetVerify(rule.By()), Proof: rule.Words(), Secrets: []api.HookSecret{}, Answer: answerWords(parsed)}
	for _, c := range []struct {
		in   api.CallSheetCallsIn
		text string
	}{{api.Curl, rule.Curl(x)}, {api.Python, rule.Python(x)}, {api.Javascript, rule.JavaScript(x)}} {
		out.Calls = append(out.Calls, struct {
			In   api.CallSheetCallsIn `json:"in"`
			Text string               `json:"text"`
		}{c.in, c.text})
	}
	for _, x := range secrets {
		out.Secrets = append(out.Secrets, api.HookSecret{Id: x.ID, Made: x.Made, MadeBy: x.MadeBy, Used: x.Used})
	}
	return out, nil
}

// MakeHookSecret implements api.StrictServerInterface.
func (s *Server) MakeHookSecret(ctx context.Context, r api.MakeHookSecretRequestObject) (api.MakeHookSecretResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	draft, _, _ := workflow.Read([]byte(w.Draft))
	if err := s.addressless(ctx, w, draft); err != nil {
		return nil, err
	}
	rule, out := ruleOf(w), api.MakeHookSecret201JSONResponse{}
	text := ""
	if r.Body != nil {
		text = or(r.Body.Secret, "")
	}
	if text == "" {
		text = store.NewSecret("yth_", false)
		if rule.By() == proofs.Standard {
			text = store.NewSecret(proofs.StandardPrefix, true)
		}
		out.Secret = &text
	} else if err := errors.Join(item.CheckText(text), rule.Fits(text)); err != nil {
		return nil, refuse(http.StatusUnprocessableEntity, "invalid_input", "This cannot be the secret: "+err.Error()+".")
	}
	out.Id = store.NewID()
	sealed, err := s.Vault.Seal(ctx, sc.Workspace(), "hook_secret", "secret", out.Id, []byte(text))
	if err != nil {
		return nil, err
	}
	err = s.Store.AddHookSecret(ctx, sc, r.Workflow, store.HookSecret{ID: out.Id, Sealed: sealed})
	if errors.Is(err, store.ErrFull) {
		return nil, refuse(http.StatusConflict, "full", fmt.Sprintf("%d secrets are in use already, as many as may be at once. End the one that callers use no more, then make another.", store.MostHookSecrets))
	}
	if err != nil {
		return nil, err
	}
	s.Intake.Forget(w.Hook)
	return out, nil
}

// EndHookSecret implements api.StrictServerInterface.
func (s *Server) EndHookSecret(ctx context.Context, r api.EndHookSecretRequestObject) (api.EndHookSecretResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	if err := s.Store.EndHookSecret(ctx, scopeOf(ctx), r.Workflow, r.Secret); err != nil {
		return nil, err
	}
	s.Intake.Forget(w.Hook)
	return api.EndHookSecret204Response{}, nil
}
