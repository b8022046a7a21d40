package runs

import (
	"context"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/store"
	"youngtrellis/internal/vault"
)

// mostRecordings is how many recordings are at hand; others are read again.
const mostRecordings = 32

// Recordings keeps what rehearsals have read, sealed, so that what is computed of
// it can be shown anew after every edit, on every node.
type Recordings struct {
	Store *store.Store
	Vault *vault.Vault

	kept *lru.Cache[uuid.UUID, madeRecording]
}

type madeRecording struct {
	made time.Time
	*engine.Recording
}

// NewRecordings makes them ready.
func NewRecordings(s *store.Store, v *vault.Vault) *Recordings {
	kept, _ := lru.New[uuid.UUID, madeRecording](mostRecordings) // fails only without a size
	return &Recordings{Store: s, Vault: v, kept: kept}
}

// Save keeps a rehearsal with what it has read. Of one that went only so far, what
// an earlier one has read beyond stays.
func (r *Recordings) Save(ctx context.Context, sc store.Scope, workflow uuid.UUID, body []byte, read *engine.Recording, partly bool) error {
	if partly {
		before, err := r.Of(ctx, sc, workflow)
		if err != nil {
			return err
		}
		read.Beside(before)
	}
	text, err := read.Encode()
	if err != nil {
		return err
	}
	sealed, err := r.Vault.Seal(ctx, sc.Workspace(), "rehearsal", "recording", workflow, store.Pack(text))
	if err != nil {
		return err
	}
	made, err := r.Store.SaveRehearsal(ctx, sc, workflow, body, sealed)
	if err != nil {
		return err
	}
	r.kept.Add(workflow, madeRecording{made, read})
	return nil
}

// Of is what the last rehearsal has read; nil if there was none.
func (r *Recordings) Of(ctx context.Context, sc store.Scope, workflow uuid.UUID) (*engine.Recording, error) {
	kept, _ := r.kept.Get(workflow)
	sealed, made, err := r.Store.Recording(ctx, sc, workflow, kept.made)
	if err != nil || made.IsZero() {
		return nil, err
	}
	if made.Equal(kept.made) {
		return kept.Recording, nil
	}
	packed, err := r.Vault.Unseal(ctx, sc.Workspace(), "rehearsal", "recording", workflow, sealed)
	if err != nil {
		return nil, err
	}
	text, err := store.Unpack(packed)
	if err != nil {
		return nil, err
	}
	read, err := engine.ReadRecording(text)
	if err != nil {
		return nil, err
	}
	r.kept.Add(workflow, madeRecording{made, read})
	return read, nil
}
