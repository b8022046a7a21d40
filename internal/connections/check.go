package connections

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/store"

	"github.com/google/uuid"
)

// Checked is what a connection's check found.
type Checked struct {
	OK   bool
	Took time.Duration
	store.Health
}

// Check makes the connector's check call and records what it found.
func (s *Service) Check(ctx context.Context, c store.Connection) (Checked, error) {
	s.Forget(c.Workspace, c.Name)
	defer s.Forget(c.Workspace, c.Name) // once what was found is stored
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	began := time.Now()
	found, err := s.check(ctx, c)
	took := time.Since(began)
	millis := int(took.Milliseconds())
	out := Checked{OK: err == nil, Took: took, Health: store.Health{State: store.ConnectionOK, Said: found.Said, Scopes: found.Scopes, Missing: found.Missing, Left: found.Left, TookMS: &millis}}
	if c.State == store.ConnectionConfirm {
		out.State = store.ConnectionConfirm
	}
	var over *broken
	switch {
	case err == nil:
	case errors.As(err, &over):
		out.State, out.Said = store.ConnectionBroken, over.why
		if c.State == store.ConnectionConsent {
			out.State = store.ConnectionConsent
		}
	default: // it could not be asked, which says nothing of the credentials
		out.State, out.Said = store.ConnectionUnchecked, err.Error()
	}
	return out, s.Store.MarkConnection(context.WithoutCancel(ctx), c.Workspace, c.Name, out.Health)
}

func (s *Service) check(ctx context.Context, c store.Connection) (connector.Checked, error) {
	o, err := s.unseal(ctx, c, -1)
	if err != nil {
		return connector.Checked{}, err
	}
	request, err := o.connector.BuildCheck(o.parameters)
	if err != nil {
		return connector.Checked{}, err
	}
	answer, _, err := s.send(ctx, o, uuid.Nil, request, "")
	if unauthorized(answer, err) {
		return connector.Checked{}, &broken{o.refused(answer, err)}
	}
	if err != nil {
		return connector.Checked{}, err
	}
	found, err := o.connector.ReadCheck(answer)
	var refusal *connector.Refusal
	if errors.As(err, &refusal) {
		why := o.Hide(fmt.Sprintf("%s answered %d: %s", o.Title, refusal.Status, refusal.Error()))
		if refusal.Status == http.StatusForbidden || refusal.Status < 300 {
			return found, &broken{why}
		}
		return found, errors.New(why)
	}
	found.Said, found.Left = o.Hide(item.StorableText(found.Said)), o.Hide(item.StorableText(found.Left))
	return found, err
}
