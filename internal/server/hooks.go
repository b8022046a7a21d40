package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"youngtrellis/api"
	"youngtrellis/internal/core/item"
	proofs "youngtrellis/internal/core/proof"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// isCalled tells whether something calls a trigger's address.
func isCalled(t workflow.Trigger) bool {
	k, ok := triggers.Find(t.Type)
	return ok && k.Called
}

// ruleOf is how callers of a workflow prove themselves, as its draft says.
func ruleOf(w store.Workflow) proofs.Rule {
	if parsed, _, _ := workflow.Read([]byte(w.Draft)); parsed != nil {
		return parsed.Start().Proof
	}
	return proofs.Rule{}
}

// CallSheet implements api.StrictServerInterface.
func (s *Server) CallSheet(ctx context.Context, r api.CallSheetRequestObject) (api.CallSheetResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	secrets, err := s.Store.HookSecrets(ctx, scopeOf(ctx), w.ID)
	if err != nil {
		return nil, err
	}
	rule := ruleOf(w)
	address := strings.TrimSuffix(s.PublicURL, "/") + "/hooks/" + w.Hook
	out := api.CallSheet200JSONResponse{Address: address, Verify: api.CallSheetVerify(rule.By()), Proof: rule.Words(), Secrets: []api.HookSecret{}, Curl: some(rule.Curl(address))}
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
