package server

import (
	"context"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"strings"

	"youngtrellis/api"
	"youngtrellis/internal/connections"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
)

// shownItems is how many items of a tried list are answered with.
const shownItems = 50

// TryAction implements api.StrictServerInterface.
func (s *Server) TryAction(ctx context.Context, r api.TryActionRequestObject) (api.TryActionResponseObject, error) {
	sc := scopeOf(ctx)
	input, err := item.DecodeObject(r.Body.Input)
	if err != nil {
		return nil, invalid("input", err.Error())
	}
	called, name, err := s.actionMeant(ctx, r.Body.Action, or(r.Body.Connection, ""))
	if err != nil {
		return nil, err
	}
	r.Body.Action = called
	var action *connector.Action
	if name != "" {
		c, err := s.Store.Connection(ctx, sc, name)
		if err != nil {
			return nil, err
		}
		if err := s.granted(ctx, c, r.Body.Action); err != nil {
			return nil, err
		}
		if _, builtIn := steps.Find(r.Body.Action); !builtIn {
			con, err := s.Documents.Find(ctx, sc.Workspace(), c.Connector)
			if err != nil {
				return nil, invalid("connection", err.Error())
			}
			if action, err = con.Action(r.Body.Action); err != nil {
				return nil, invalid("action", err.Error())
			}
		}
	}
	if action == nil {
		if action, input, err = freeAction(r.Body.Action, input, name); err != nil {
			return nil, err
		}
	}
	kind := connections.Shown
	if or(r.Body.Send, false) {
		kind = connections.Real
	}
	t, err := s.Connections.Try(ctx, sc.Workspace(), name, action, input, kind)
	if err != nil {
		var ie *form.InputError
		if p := problemOf(err); p == nil && !errors.As(err, &ie) {
			err = invalid("input", err.Error())
		}
		return nil, err
	}
	out := api.Tried{Sent: sent(t.Sent), Curl: curlOf(t.Sent), TookMs: given(t.Took.Milliseconds()), Why: given(t.Why)}
	if t.Answer != nil {
		kind, _, _ := mime.ParseMediaType(t.Answer.Header.Get("Content-Type"))
		out.Status, out.Type, out.Bytes = some(t.Answer.Status), given(kind), some(int64(len(t.Answer.Body)))
		if t.Answer.File != nil {
			out.Bytes = some(t.Answer.File.Size)
		}
	}
	if p := t.Page; p != nil && t.Why == "" {
		out.Units, out.Left = given(p.Units), given(p.Left)
		if action.List() {
			items := []api.Fields{}
			for _, f := range p.Items[:min(len(p.Items), shownItems)] {
				items = append(items, raw(f))
			}
			out.Items, out.More = &items, given(p.Next != nil || len(p.Items) > shownItems)
		} else {
			out.Output, out.Summary, out.Link = some(raw(p.Output)), given(action.Summarise(p.Output)), given(action.RecordLink(p.Output))
		}
	}
	return api.TryAction200JSONResponse(out), nil
}

// actionMeant finds the action and the connection of what somebody wants to try. An action may
// be written as CONNECTOR.ACTION, as a step does; then the only connection of that
// application need not be named.
func (s *Server) actionMeant(ctx context.Context, action, connection string) (called, with string, err error) {
	of, called, ok := strings.Cut(action, ".")
	if !ok {
		return action, connection, nil
	}
	list, err := s.Store.Connections(ctx, scopeOf(ctx))
	if err != nil {
		return "", "", err
	}
	var there []string
	for i := range list {
		switch c := &list[i]; {
		case c.Name == connection && c.Connector != of:
			return "", "", invalid("action", fmt.Sprintf("%s is an action of %s, and the connection %s is one of %s", action, of, connection, c.Connector))
		case c.Connector == of:
			there = append(there, c.Name)
		}
	}
	switch {
	case connection != "":
		return called, connection, nil
	case len(there) == 1:
		return called, there[0], nil
	case len(there) == 0:
		if _, err := s.Documents.Find(ctx, scopeOf(ctx).Workspace(), of); err != nil {
			return "", "", invalid("action", err.Error())
		}
		return "", "", invalid("connection", fmt.Sprintf("nothing of %s is connected yet; add a connection first", of))
	}
	return "", "", invalid("connection", fmt.Sprintf("say which: %s", strings.Join(there, ", ")))
}

// freeAction makes the action of an http or sql step that is tried by itself.
func freeAction(kind string, settings map[string]any, connection string) (*connector.Action, map[string]any, error) {
	k, ok := steps.Find(kind)
	if !ok || !k.Connects {
		return nil, nil, invalid("action", fmt.Sprintf("%q is not an action; without a connection there is http", kind))
	}
	if k.Needs != "" && connection == "" {
		return nil, nil, invalid("connection", "a connection to a database is needed")
	}
	compiled, errs := k.Compile(settings)
	var wrong []form.FieldError
	for _, err := range errs {
		var placed *form.Error
		if errors.As(err, &placed) {
			wrong = append(wrong, form.FieldError{Field: placed.Field, Message: placed.Error()})
		} else {
			wrong = append(wrong, form.FieldError{Field: "input", Message: err.Error()})
		}
	}
	if len(wrong) > 0 {
		return nil, nil, &fault{status: http.StatusUnprocessableEntity, kind: "invalid_input", title: "Some fields are not right.", fields: wrong}
	}
	c, ok := compiled.Operator.(*steps.Call)
	if !ok {
		return nil, nil, invalid("action", fmt.Sprintf("%q calls nobody", kind))
	}
	values, err := c.Input.Eval(&expr.Scope{Item: map[string]any{}, Names: map[string]any{}})
	if err != nil {
		return nil, nil, invalid("input", err.Error())
	}
	m, _ := values.(map[string]any)
	return c.Action, m, nil
}
