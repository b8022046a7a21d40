// Package vault encrypts credentials. Each workspace has a data key of its
// own, wrapped by a keyset that lies outside the database; every ciphertext is
// bound to the row and column that it was made for.
package vault

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
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
	CodeKey(ctx context.Context, workspace uuid.UUID, fresh []byte) ([]byte, error)
	VaultFingerprint(ctx context.Context, fresh string) (string, error)
}

// Vault opens and seals secrets.
type Vault struct {
	kept Store
	path string

	mu     sync.Mutex // protects the following fields
	master tink.AEAD
	keys   map[uuid.UUID]tink.AEAD
	codes  map[uuid.UUID][]byte // keys for codes; they outlive every rotation
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
	prints, err := fingerprints(handle)
	if err != nil {
		return nil, err
	}
	known, err := kept.VaultFingerprint(ctx, prints[0])
	if err != nil {
		return nil, err
	}
	if !slices.Contains(prints, known) {
		return nil, fmt.Errorf("%w: the file %s has the fingerprint %s, and the database was filled with %s", ErrWrongKey, path, strings.Join(prints, ", "), known)
	}
	master, err := aead.New(handle)
	if err != nil {
		return nil, err
	}
	return &Vault{kept: kept, path: path, master: master, keys: map[uuid.UUID]tink.AEAD{}, codes: map[uuid.UUID][]byte{}}, nil
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

// replace writes a changed keyset in place of the old one, whole or not at all.
func replace(path string, h *keyset.Handle) error {
	fresh := path + ".new"
	_ = os.Remove(fresh)
	var b bytes.Buffer
	if err := insecurecleartextkeyset.Write(h, keyset.NewJSONWriter(&b)); err != nil {
		return err
	}
	f, err := os.OpenFile(fresh, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(b.Bytes())
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(fresh, path)
}

// fingerprints names the keys of a keyset, the primary one first.
func fingerprints(h *keyset.Handle) ([]string, error) {
	var b bytes.Buffer
	if err := insecurecleartextkeyset.Write(h, keyset.NewJSONWriter(&b)); err != nil {
		return nil, err
	}
	var set struct {
		Primary uint32 `json:"primaryKeyId"`
		Key     []struct {
			ID      uint32 `json:"keyId"`
			KeyData struct {
				Value string `json:"value"`
			} `json:"keyData"`
		} `json:"key"`
	}
	if err := json.Unmarshal(b.Bytes(), &set); err != nil || len(set.Key) == 0 {
		return nil, fmt.Errorf("%w: the keyset has no key", ErrWrongKey)
	}
	var out []string
	for _, k := range set.Key {
		sum := sha256.Sum256([]byte("young-trellis vault " + k.KeyData.Value))
		print := hex.EncodeToString(sum[:8])
		if k.ID == set.Primary {
			out = append([]string{print}, out...)
		} else {
			out = append(out, print)
		}
	}
	return out, nil
}

func bound(workspace uuid.UUID) []byte { return []byte("data key of " + workspace.String()) }

// key gives the workspace's data key; anew reads it from the database although
// it is known, since another process may have changed it.
func (v *Vault) key(ctx context.Context, workspace uuid.UUID, anew bool) (tink.AEAD, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if k, ok := v.keys[workspace]; ok && !anew {
		return k, nil
	}
	sealed, err := v.kept.DataKey(ctx, workspace, nil)
	if errors.Is(err, store.ErrNotFound) {
		h, err := keyset.NewHandle(aead.AES256GCMKeyTemplate())
		if err != nil {
			return nil, err
		}
		var b bytes.Buffer
		if err := h.WriteWithAssociatedData(keyset.NewBinaryWriter(&b), v.master, bound(workspace)); err != nil {
			return nil, err
		}
		if sealed, err = v.kept.DataKey(ctx, workspace, b.Bytes()); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	h, err := v.unwrap(workspace, sealed)
	if err != nil {
		return nil, err
	}
	k, err := aead.New(h)
	if err == nil {
		v.keys[workspace] = k
	}
	return k, err
}

// unwrap opens a data key; if our keyset does not, the file may have got a new
// key since it was read.
func (v *Vault) unwrap(workspace uuid.UUID, sealed []byte) (*keyset.Handle, error) {
	h, err := keyset.ReadWithAssociatedData(keyset.NewBinaryReader(bytes.NewReader(sealed)), v.master, bound(workspace))
	if err == nil {
		return h, nil
	}
	if fresh, lerr := load(v.path); lerr == nil {
		if master, aerr := aead.New(fresh); aerr == nil {
			if h, err = keyset.ReadWithAssociatedData(keyset.NewBinaryReader(bytes.NewReader(sealed)), master, bound(workspace)); err == nil {
				v.master = master
				return h, nil
			}
		}
	}
	return nil, errors.New("the workspace's data key does not open: its row was changed or moved, or the vault key is not the right one")
}

// place is the associated data that binds a ciphertext to its row and column.
func place(workspace uuid.UUID, table, column string, row uuid.UUID) []byte {
	return fmt.Appendf(nil, "%s/%s/%s/%s", workspace, table, column, row)
}

// Seal encrypts a secret for one place.
func (v *Vault) Seal(ctx context.Context, workspace uuid.UUID, table, column string, row uuid.UUID, secret []byte) ([]byte, error) {
	k, err := v.key(ctx, workspace, false)
	if err != nil {
		return nil, err
	}
	return k.Encrypt(secret, place(workspace, table, column, row))
}

// Unseal decrypts what Seal made for the same place.
func (v *Vault) Unseal(ctx context.Context, workspace uuid.UUID, table, column string, row uuid.UUID, sealed []byte) ([]byte, error) {
	for _, anew := range []bool{false, true} {
		k, err := v.key(ctx, workspace, anew)
		if err != nil {
			return nil, err
		}
		if b, err := k.Decrypt(sealed, place(workspace, table, column, row)); err == nil {
			return b, nil
		}
	}
	return nil, errors.New("the stored secret does not open: it was changed, or moved from another row; enter it again")
}

// Code computes an authentication code (HMAC-SHA-256, RFC 2104) over something
// for a purpose, with a key of the workspace that no rotation changes: the same
// text has the same code for as long as the workspace lives.
func (v *Vault) Code(ctx context.Context, workspace uuid.UUID, purpose string, text []byte) ([]byte, error) {
	key, err := v.codeKey(ctx, workspace)
	if err != nil {
		return nil, err
	}
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%d %s ", len(purpose), purpose)
	mac.Write(text)
	return mac.Sum(nil), nil
}

func (v *Vault) codeKey(ctx context.Context, workspace uuid.UUID) ([]byte, error) {
	v.mu.Lock()
	key, ok := v.codes[workspace]
	v.mu.Unlock()
	if ok {
		return key, nil
	}
	fresh := make([]byte, 32)
	_, _ = rand.Read(fresh)
	ours, err := v.Seal(ctx, workspace, "data_key", "mac", workspace, fresh) // makes the data key where there is none
	if err != nil {
		return nil, err
	}
	sealed, err := v.kept.CodeKey(ctx, workspace, ours)
	if err != nil {
		return nil, err
	}
	if key, err = v.Unseal(ctx, workspace, "data_key", "mac", workspace, sealed); err != nil {
		return nil, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.codes[workspace] = key
	return key, nil
}
