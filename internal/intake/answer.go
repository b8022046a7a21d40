package intake

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/reply"
	"youngtrellis/internal/store"
)

// Told is what becomes of the answer of a run.
type Told struct {
	Run   uuid.UUID
	Reply *reply.Reply // nil: there is none
	Later string       // token of the address at which it will be; "" where it is there, or never will
	State engine.State // in which the run ended that said nothing
	Form  *FormPage    // the form that set it off, as it is now; nil: none did, or it is closed
}

// told waits for the answer of a run for so long at most, and gives it an address where
// it takes longer, or where the run itself waits for something.
func (in *Intake) told(ctx context.Context, h store.Hook, run uuid.UUID, within time.Duration) (*Told, error) {
	limited, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	out, err := toldBy(in.Node.Answer(limited, h.Workspace, run))
	if err != nil || out.Later == "" {
		return out, err
	}
	out.Later, err = in.place(ctx, h, run)
	return out, err
}

// waiting stands for a token that nobody has made yet.
const waiting = "…"

func toldBy(a store.Answered) (out *Told, err error) {
	out = &Told{Run: a.Run}
	switch {
	case a.Reply != nil:
		out.Reply, err = reply.Decode(a.Reply)
	case a.State == engine.Queued, a.State == engine.Running, a.State == engine.WaitingOn:
		out.Later = waiting
	default:
		out.State = a.State
	}
	return out, err
}

// place gives the answer of a run an address, whose token is the same each time.
func (in *Intake) place(ctx context.Context, h store.Hook, run uuid.UUID) (token string, err error) {
	code, err := in.Vault.Code(ctx, h.Workspace, "answer of a run", run[:])
	if err != nil {
		return "", err
	}
	token = base64.RawURLEncoding.EncodeToString(code[:16])
	return token, in.Store.PlaceAnswer(ctx, store.Placed{Workspace: h.Workspace, Workflow: h.Workflow, Run: run}, token)
}

// How long a look at an address of an answer waits for it.
const (
	lookFor     = 20 * time.Second
	lookBriefly = time.Second
)

// Answer gives what a run answers whose address this is. Patient waits a while where it
// is not there yet. The error is a *Refused where there is no such address (any more).
func (in *Intake) Answer(ctx context.Context, token string, patient bool) (*Told, error) {
	at, err := in.Store.AnswerPlaced(ctx, token)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &Refused{Status: http.StatusNotFound, Message: fmt.Sprintf("There is no answer here. Addresses of answers are good for %d days.", store.AnswerAt/(24*time.Hour))}
	}
	if err != nil {
		return nil, err
	}
	within := lookBriefly
	if patient {
		within = lookFor
	}
	limited, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	out, err := toldBy(in.Node.Answer(limited, at.Workspace, at.Run))
	if err != nil {
		return nil, err
	}
	if out.Later != "" {
		out.Later = token
	}
	if f, err := in.form(ctx, at.Hook); err == nil {
		out.Form = in.looks(f)
	}
	return out, err
}
