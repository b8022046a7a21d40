package connector

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
)

// Refusal is an answer that says no.
type Refusal struct {
	Status  int
	Message string        // the other side's own words
	Field   string        // the field that it names, if it names one
	Code    string        // its own word for the error
	Wait    time.Duration // how long it says to wait
	Retry   *bool         // whether the connector says that another try is worth it
}

func (r *Refusal) Error() string {
	if r.Message == "" {
		return fmt.Sprintf("answered %d %s", r.Status, http.StatusText(r.Status))
	}
	return r.Message
}

func (c *Connector) refusal(a *call.Answer, body any, scope *expr.Scope) *Refusal {
	f := &c.Failure
	r := &Refusal{Status: a.Status, Message: c.message(body, scope)}
	if to := a.Header.Get("Location"); to != "" && a.Status >= 300 && a.Status < 400 {
		r.Message = fmt.Sprintf("it was sent on to %s, and a call that writes is not sent on; use that address", to)
	}
	if f.field != nil {
		if v, err := f.field.Eval(scope); err == nil {
			r.Field = expr.Text(v)
		}
	}
	if f.code != nil {
		if v, err := f.code.Eval(scope); err == nil {
			r.Code = expr.Text(v)
		}
	}
	for _, known := range []struct {
		list  []any
		retry bool
	}{{f.Retry, true}, {f.Final, false}} {
		for _, v := range known.list {
			if s := expr.Text(v); s == fmt.Sprint(a.Status) || r.Code != "" && s == r.Code {
				retry := known.retry
				r.Retry = &retry
			}
		}
	}
	return r
}

func (c *Connector) message(body any, scope *expr.Scope) string {
	if c.Failure.message != nil {
		if v, err := c.Failure.message.Eval(scope); err == nil {
			if s := strings.TrimSpace(expr.Text(v)); s != "" {
				return s
			}
		}
	}
	switch b := body.(type) {
	case string:
		if len(b) < 300 && !strings.Contains(b, "<") {
			return strings.TrimSpace(b)
		}
	case map[string]any:
		return usualMessage(b, 0)
	}
	return ""
}

// usualMessage looks where most applications put their words.
func usualMessage(m map[string]any, depth int) string {
	for _, name := range []string{"message", "detail", "error_description", "error", "title", "description", "reason", "errors"} {
		switch v := m[name].(type) {
		case string:
			if v != "" && len(v) < 500 {
				return v
			}
		case map[string]any:
			if s := usualMessage(v, depth+1); s != "" && depth < 3 {
				return s
			}
		case []any:
			if len(v) == 0 || depth >= 3 {
				continue
			}
			if s, ok := v[0].(string); ok {
				return s
			}
			if e, ok := v[0].(map[string]any); ok {
				return usualMessage(e, depth+1)
			}
		}
	}
	return ""
}

// Unreadable is an answer that is not as it was declared.
type Unreadable struct {
	Status int
	Err    error
}
