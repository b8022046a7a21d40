// Package vault encrypts credentials. Each workspace has a data key of its
// own, wrapped by a keyset that lies outside the database; every ciphertext is
// bound to the row and column that it was made for.
package vault

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"sync"

	"github.com/google/uuid"
	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/insecurecleartextkeyset"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/tink"

	"youngtrellis/internal/store"
)

// Store keeps the wrapped data keys and the keyset's fingerprint.
type Store interface {
	DataKey(ctx context.Context, workspace uuid.UUID, fresh []byte) ([]byte, error)
	VaultFingerprint(ctx context.Context, fresh string) (string, error)
}

// Vault opens and seals secrets.
type Vault struct {
	kept   Store
	master tink.AEAD

	mu   sync.Mutex
	keys map[uuid.UUID]tink.AEAD
}

// ErrWrongKey says that the key file is not the one that the database was
// filled with.
var ErrWrongKey = errors.New("the vault key does not belong to this database")

// Open reads the keyset from a file, and makes one only if the database has
// never had any.
func Open(ctx context.Context, kept Store, path string) (*Vault, error) {
	_, err := kept.VaultFingerprint(ctx, "")
	fresh := err != nil
	if fresh && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	handle, err := load(path)
	switch {
	case errors.Is(err, os.ErrNotExist) && !fresh:
		return nil, fmt.Errorf("%w: there is no key file at %s. Put back the file that was saved when this database was made; a new one would not open what is stored", ErrWrongKey, path)
	case errors.Is(err, os.ErrNotExist):
		if handle, err = create(path); err != nil {
			return nil, err
		}
	case err != nil:
		return nil, err
	}
	print, err := fingerprint(handle)
	if err != nil {
		return nil, err
	}
	known, err := kept.VaultFingerprint(ctx, print)
	if err != nil {
		return nil, err
	}
	if known != print {
		return nil, fmt.Errorf("%w: the file %s has the fingerprint %s, and the database was filled with %s", ErrWrongKey, path, print, known)
	}
	master, err := aead.New(handle)
	if err != nil {
		return nil, err
	}
	return &Vault{kept: kept, master: master, keys: map[uuid.UUID]tink.AEAD{}}, nil
}

func load(path string) (*keyset.Handle, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the vault key %s can be read by others; mend it with: chmod 600 %s", path, path)
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	h, err := insecurecleartextkeyset.Read(keyset.NewJSONReader(bytes.NewReader(b)))
	if err != nil {
		return nil, fmt.Errorf("%w: %s is not a keyset: %v", ErrWrongKey, path, err)
	}
	return h, nil
}

func create(path string) (*keyset.Handle, error) {
	h, err := keyset.NewHandle(aead.AES256GCMKeyTemplate())
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := insecurecleartextkeyset.Write(h, keyset.NewJSONWriter(&b)); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = f.Write(b.Bytes())
	return h, errors.Join(err, f.Sync(), f.Close())
}

// fingerprint names a keyset by its first key, which rotation keeps until
// nothing is wrapped by it any more.
func fingerprint(h *keyset.Handle) (string, error) {
	var b bytes.Buffer
	if err := insecurecleartextkeyset.Write(h, keyset.NewJSONWriter(&b)); err != nil {
		return "", err
	}
	var set struct {
		Key []struct {
			KeyData struct {
				Value string `json:"value"`
			} `json:"keyData"`
		} `json:"key"`
	}
	if err := json.Unmarshal(b.Bytes(), &set); err != nil || len(set.Key) == 0 {
		return "", fmt.Errorf("%w: the keyset has no key", ErrWrongKey)
	}
	sum := sha256.Sum256([]byte("young-trellis vault " + set.Key[0].KeyData.Value))
	return hex.EncodeToString(sum[:8]), nil
}

func (v *Vault) key(ctx context.Context, workspace uuid.UUID) (tink.AEAD, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if k, ok := v.keys[workspace]; ok {
		return k, nil
	}
	bound := []byte("data key of " + workspace.String())
	sealed, err := v.kept.DataKey(ctx, workspace, nil)
	if errors.Is(err, store.ErrNotFound) {
		h, err := keyset.NewHandle(aead.AES256GCMKeyTemplate())
		if err != nil {
			return nil, err
		}
		var b bytes.Buffer
		if err := h.WriteWithAssociatedData(keyset.NewBinaryWriter(&b), v.master, bound); err != nil {
			return nil, err
		}
		if sealed, err = v.kept.DataKey(ctx, workspace, b.Bytes()); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	h, err := keyset.ReadWithAssociatedData(keyset.NewBinaryReader(bytes.NewReader(sealed)), v.master, bound)
	if err != nil {
		return nil, errors.New("the workspace's data key does not open: its row was changed or moved, or the vault key is not the right one")
	}
	k, err := aead.New(h)
	if err == nil {
		v.keys[workspace] = k
	}
	return k, err
}

// place is the associated data that binds a ciphertext to its row and column.
func place(workspace uuid.UUID, table, column string, row uuid.UUID) []byte {
	return fmt.Appendf(nil, "%s/%s/%s/%s", workspace, table, column, row)
}

// Seal encrypts a secret for one place.
func (v *Vault) Seal(ctx context.Context, workspace uuid.UUID, table, column string, row uuid.UUID, secret []byte) ([]byte, error) {
	k, err := v.key(ctx, workspace)
	if err != nil {
		return nil, err
	}
	return k.Encrypt(secret, place(workspace, table, column, row))
}

// Unseal decrypts what Seal made for the same place.
func (v *Vault) Unseal(ctx context.Context, workspace uuid.UUID, table, column string, row uuid.UUID, sealed []byte) ([]byte, error) {
	k, err := v.key(ctx, workspace)
	if err != nil {
		return nil, err
	}
	b, err := k.Decrypt(sealed, place(workspace, table, column, row))
	if err != nil {
		return nil, errors.New("the stored secret does not open: it was changed, or moved from another row; enter it again")
	}
	return b, nil
}
