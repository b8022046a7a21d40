package vault

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/tink"
)

// Rotator is what rotation needs of the store.
type Rotator interface {
	Store
	SealedWorkspaces(ctx context.Context) ([]uuid.UUID, error)
	// ResealAll stores what key makes of a workspace's data key and value of
	// each of its ciphertexts, in one transaction.
	ResealAll(ctx context.Context, workspace uuid.UUID, key func([]byte) ([]byte, error), value func(table, column string, row uuid.UUID, sealed []byte) ([]byte, error)) (int, error)
	SetVaultFingerprint(ctx context.Context, fingerprint string) error
}

// Rotated says what a rotation did.
type Rotated struct {
	Fingerprint string `json:"fingerprint"` // of the new key
	Workspaces  int    `json:"workspaces"`
	Secrets     int    `json:"secrets"` // sealed anew
}

// Rotate puts a new key into the keyset file, makes a new data key for every
// workspace, and seals every secret anew. Services that run go on: they find
// the new keys when they meet the first thing that their old ones do not open.
// The old key stays in the file until DropOld; it opens nothing any more.
func Rotate(ctx context.Context, kept Rotator, path string) (Rotated, error) {
	if _, err := Open(ctx, kept, path); err != nil {
		return Rotated{}, err
	}
	old, err := load(path)
	if err != nil {
		return Rotated{}, err
	}
	manager := keyset.NewManagerFromHandle(old)
	id, err := manager.Add(aead.AES256GCMKeyTemplate())
	if err != nil {
		return Rotated{}, err
	}
	if err := manager.SetPrimary(id); err != nil {
		return Rotated{}, err
	}
	both, err := manager.Handle()
	if err != nil {
		return Rotated{}, err
	}
	if err := replace(path, both); err != nil {
		return Rotated{}, err
	}
	prints, err := fingerprints(both)
	if err != nil {
		return Rotated{}, err
	}
	master, err := aead.New(both)
	if err != nil {
		return Rotated{}, err
	}
	out := Rotated{Fingerprint: prints[0]}
	spaces, err := kept.SealedWorkspaces(ctx)
	if err != nil {
		return out, err
	}
	for _, w := range spaces {
		n, err := rotateWorkspace(ctx, kept, w, master)
		if err != nil {
			return out, fmt.Errorf("workspace %s: %w; both keys are in %s, and it can be begun again", w, err, path)
		}
		out.Workspaces++
		out.Secrets += n
	}
	return out, kept.SetVaultFingerprint(ctx, prints[0])
}

// rotateWorkspace gives a workspace a new data key and seals its secrets with
// it. The old data key stays in the wrapped set until the next rotation, so
// that a process that sealed something with it meanwhile loses nothing.
func rotateWorkspace(ctx context.Context, kept Rotator, workspace uuid.UUID, master tink.AEAD) (int, error) {
	var old, key tink.AEAD
	return kept.ResealAll(ctx, workspace, func(sealed []byte) ([]byte, error) {
		h, err := keyset.ReadWithAssociatedData(keyset.NewBinaryReader(bytes.NewReader(sealed)), master, bound(workspace))
		if err != nil {
			return nil, errors.New("its data key does not open")
		}
		// What was sealed with the key before the last one, by a process that had not
		// heard of it, is opened now and sealed anew with all the rest.
		if old, err = aead.New(h); err != nil {
			return nil, err
		}
		manager := keyset.NewManagerFromHandle(h)
		for _, k := range h.KeysetInfo().KeyInfo { // those before the last rotation
			if k.KeyId != h.KeysetInfo().PrimaryKeyId {
				if err := manager.Delete(k.KeyId); err != nil {
					return nil, err
				}
			}
		}
		id, err := manager.Add(aead.AES256GCMKeyTemplate())
		if err != nil {
			return nil, err
		}
		if err := manager.SetPrimary(id); err != nil {
			return nil, err
		}
		if h, err = manager.Handle(); err != nil {
			return nil, err
		}
		if key, err = aead.New(h); err != nil {
			return nil, err
		}
		var b bytes.Buffer
		err = h.WriteWithAssociatedData(keyset.NewBinaryWriter(&b), master, bound(workspace))
		return b.Bytes(), err
	}, func(table, column string, row uuid.UUID, sealed []byte) ([]byte, error) {
		p := place(workspace, table, column, row)
		plain, err := old.Decrypt(sealed, p)
		if err != nil {
			return nil, fmt.Errorf("the %s of the %s %s does not open", column, table, row)
		}
		return key.Encrypt(plain, p)
	})
}

// DropOld takes every key but the primary one out of the keyset file, once the
// file has reached every machine.
func DropOld(ctx context.Context, kept Store, path string) (int, error) {
	h, err := load(path)
	if err != nil {
		return 0, err
	}
	prints, err := fingerprints(h)
	if err != nil {
		return 0, err
	}
	known, err := kept.VaultFingerprint(ctx, "")
	if err != nil {
		return 0, err
	}
	if known != prints[0] {
		return 0, fmt.Errorf("the database is still sealed with the key %s; run trellis vault rotate to its end first", known)
	}
	manager := keyset.NewManagerFromHandle(h)
	n := 0
	for _, k := range h.KeysetInfo().KeyInfo {
		if k.KeyId != h.KeysetInfo().PrimaryKeyId {
			if err := manager.Delete(k.KeyId); err != nil {
				return n, err
			}
			n++
		}
	}
	if n == 0 {
		return 0, nil
	}
	if h, err = manager.Handle(); err != nil {
		return 0, err
	}
	return n, replace(path, h)
}
