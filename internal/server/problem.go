package server

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"youngtrellis/api"
	"youngtrellis/internal/connections"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/intake"
	"youngtrellis/internal/signin"
	"youngtrellis/internal/store"
)

// fault is an error with a status and a stable word.
type fault struct {
	status   int
	kind     string
	title    string
	detail   string
	problems []document.Problem
	fields   []form.FieldError
	after    time.Duration // when to try again
}

func (f *fault) Error() string { return f.title }

func refuse(status int, kind, title string) *fault {
	return &fault{status: status, kind: kind, title: title}
}

// problemOf words an error for a caller (RFC 9457). What is not meant for
// callers is logged and answered as internal.
func problemOf(err error) *fault {
	var f *fault
	var refused *intake.Refused
	var input *form.InputError
	var failure *call.Failure
	var parked *call.Parked
	var wrong *connections.Wrong
	var later *signin.Later
	var kept *store.KeptError
	switch {
	case errors.As(err, &f):
		return f
	case errors.As(err, &later):
		return &fault{status: http.StatusTooManyRequests, kind: "too_many", title: "Too many wrong passwords, for this account or from this address. Wait " + waitWords(later.Wait) + ", then try again.", after: later.Wait}
	case errors.As(err, &wrong):
		kind := "not_found"
		if wrong.Status != http.StatusNotFound {
			kind = "invalid_input"
		}
		return refuse(wrong.Status, kind, wrong.Message)
	case errors.As(err, &refused):
		return &fault{status: refused.Status, kind: "refused", title: refused.Message, after: refused.After}
	case errors.As(err, &input):
		return &fault{status: http.StatusUnprocessableEntity, kind: "invalid_input", title: "Some fields are not right.", fields: input.Fields}
	case errors.As(err, &failure):
		return refuse(http.StatusBadGateway, "other_side", failure.Message)
	case errors.As(err, &parked):
		return refuse(http.StatusBadGateway, "other_side", parked.Message)
	case errors.Is(err, store.ErrNotFound):
		return refuse(http.StatusNotFound, "not_found", "There is nothing with this name or id here.")
	case errors.Is(err, store.ErrConflict):
		return refuse(http.StatusPreconditionFailed, "stale", "Somebody else changed it in between. Read it again and make your change there.")
	case errors.As(err, &kept):
		return refuse(http.StatusConflict, "kept", fmt.Sprintf("%s kept while it was paused. Say whether they start now, in their order, or are dismissed: kept=start or kept=dismiss, on the command line --kept start or --kept dismiss.", wereKept(kept.Events)))
	case errors.Is(err, store.ErrPathTaken):
		return refuse(http.StatusConflict, "path_taken", "Another workflow has the path already. Choose another one, in the settings of what starts it.")
	case errors.Is(err, store.ErrSamplesFull):
		return refuse(http.StatusConflict, "full", words.Sentence(err.Error()))
	case errors.Is(err, store.ErrTaken):
		return refuse(http.StatusConflict, "taken", "The name is taken. Choose another.")
	case errors.Is(err, store.ErrText):
		return refuse(http.StatusUnprocessableEntity, "text", words.Sentence(store.ErrText.Error()+"."))
	case errors.Is(err, store.ErrSignIn):
		return refuse(http.StatusUnauthorized, "sign_in", "The address or the password is not right.")
	case errors.Is(err, store.ErrClosed), errors.Is(err, engine.ErrDropped):
		return refuse(http.StatusServiceUnavailable, "stopping", "This node of the service is stopping. Try again shortly.")
	case errors.Is(err, store.ErrUncertain):
		return refuse(http.StatusServiceUnavailable, "uncertain", "The database does not answer, so it cannot be told yet whether this started a run. Call again; where the workflow has a key, it starts once.")
	case store.IsUnavailable(err):
		return refuse(http.StatusServiceUnavailable, "database_away", "The database cannot be reached at the moment. Nothing was changed; try again shortly.")
	case errors.Is(err, context.Canceled):
		return refuse(499, "gone", "The caller went away.")
	}
	return nil
}

// waitWords words a wait in the larger unit, rounded up.
func waitWords(d time.Duration) string {
	n, unit := int(math.Ceil(d.Seconds())), "second"
	if d > time.Minute {
		n, unit = int(math.Ceil(d.Minutes())), "minute"
	}
	return words.Count(n, unit)
}

func (s *Server) fail(c *gin.Context, err error) {
	f := problemOf(err)
	if f == nil {
		s.Log.Error("a call failed", "route", c.FullPath(), "method", c.Request.Method, "error", err)
		f = refuse(http.StatusInternalServerError, "internal", "Something went wrong here. It is in the service's log.")
	}
	write(c, f)
}

func write(c *gin.Context, f *fault) {
	p := api.Problem{Type: f.kind, Title: f.title, Status: f.status}
	if f.detail != "" {
		p.Detail = &f.detail
	}
	if len(f.fields) > 0 {
		list := make([]struct {
			Field   string `json:"field"`
			Message string `json:"message"`
		}, len(f.fields))
		for i, e := range f.fields {
			list[i].Field, list[i].Message = e.Field, e.Message
		}
		p.Fields = &list
	}
	if len(f.problems) > 0 {
		p.Problems = some(findings(f.problems))
	}
	c.Header("Content-Type", "application/problem+json")
	if f.status == http.StatusServiceUnavailable {
		c.Header("Retry-After", "5")
	}
	if f.after > 0 {
		c.Header("Retry-After", strconv.Itoa(int(math.Ceil(f.after.Seconds()))))
	}
	c.AbortWithStatusJSON(f.status, p)
}

// some gives a pointer to a value, for optional fields of the contract.
func some[T any](v T) *T { return &v }

// given gives a pointer unless the value is its type's zero.
func given[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// or reads an optional field.
func or[T any](p *T, otherwise T) T {
	if p == nil {
		return otherwise
	}
	return *p
}

func wereKept(n int) string {
	if n == 1 {
		return "1 call was"
	}
	return words.Count(n, "call") + " were"
}
