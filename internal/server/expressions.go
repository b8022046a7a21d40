package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"youngtrellis/api"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/words"
)

// ListFunctions implements api.StrictServerInterface.
func (s *Server) ListFunctions(context.Context, api.ListFunctionsRequestObject) (api.ListFunctionsResponseObject, error) {
	out := api.ListFunctions200JSONResponse{}
	for _, f := range expr.Functions() {
		g := api.Function{Name: f.Name, Group: f.Group, Usage: f.Usage, Gives: f.Gives, Help: f.Help, Errors: f.Errors, Example: f.Example, Result: f.Result, Words: f.Words, Parameters: []api.FunctionParameter{}}
		for _, p := range f.Parameters {
			g.Parameters = append(g.Parameters, api.FunctionParameter{Name: p.Name, Type: p.Type, Optional: p.Optional, Several: p.Several})
		}
		out.Functions = append(out.Functions, g)
	}
	return out, nil
}

// Evaluate implements api.StrictServerInterface.
func (s *Server) Evaluate(ctx context.Context, r api.EvaluateRequestObject) (api.EvaluateResponseObject, error) {
	fields, err := item.DecodeObject(r.Body.Item)
	if err != nil {
		return nil, refuse(http.StatusUnprocessableEntity, "invalid_item", err.Error())
	}
	trigger := map[string]any{}
	if r.Body.Trigger != nil {
		if trigger, err = item.DecodeObject(*r.Body.Trigger); err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_item", err.Error())
		}
	}
	scope := &expr.Scope{Item: fields, Now: time.Now().UTC(), Names: map[string]any{"trigger": trigger}, Context: ctx}
	if sc := scopeOf(ctx); sc.SeesItems() {
		scope.Lists = listsHere{ctx, s.Runs.Lists.Of(sc.Workspace())}
	}
	out := api.Evaluated{}
	v, why, err := evaluate(r.Body.Source, or(r.Body.Template, false), scope)
	var later unknown
	switch {
	case errors.As(err, &later):
		out.Unknown = some(string(later))
		return api.Evaluate200JSONResponse(out), nil
	case err != nil:
		var e *expr.Error
		out.Error = some(err.Error())
		if errors.As(err, &e) {
			out.Error, out.Position = some(e.Message), some(e.Pos)
		}
		return api.Evaluate200JSONResponse(out), nil
	}
	out.Value, out.Text, out.Why = some(raw(v)), some(words.Line(expr.Brief(v))), given(why)
	return api.Evaluate200JSONResponse(out), nil
}

// listsHere are those of the caller's workspace.
type listsHere struct {
	ctx context.Context //nolint:containedctx // of the one evaluation
	of  engine.Lists
}

// List implements expr.Lists.
func (l listsHere) List(name string) ([]any, error) { return l.of.List(l.ctx, name) }

// unknown is a path of which it is known only in a run what it gives.
type unknown string

func (u unknown) Error() string { return string(u) + " is known only in a run" }

// known tells whether all that an expression reads is in scope.
func known(refs []expr.Ref, scope *expr.Scope) error {
	for _, r := range refs {
		if _, ok := scope.Names[r.Path[0]]; ok || r.Path[0] == "item" {
			continue
		}
		if r.Path[0] == "list" && scope.Lists != nil {
			continue
		}
		if slices.Contains([]string{"column", "hmac", "list"}, r.Path[0]) {
			return unknown(fmt.Sprintf("%s(%q)", r.Path[0], r.Path[1]))
		}
		return unknown(strings.Join(r.Path, "."))
	}
	return nil
}

func evaluate(source string, template bool, scope *expr.Scope) (v any, why string, err error) {
	if template {
		t, err := expr.CompileTemplate(source, steps.Reads)
		if err != nil {
			return nil, "", err
		}
		if err := known(t.Refs(), scope); err != nil {
			return nil, "", err
		}
		v, err = t.Eval(scope)
		return v, "", err
	}
	p, err := expr.Compile(source, steps.Reads)
	if err != nil {
		return nil, "", err
	}
	if err := known(p.Refs, scope); err != nil {
		return nil, "", err
	}
	if v, err = p.Eval(scope); err != nil {
		return nil, "", err
	}
	if v == false || v == nil {
		why = p.Why(scope)
	}
	return v, why, nil
}
