package vault

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/store"
)

// shelf keeps data keys in memory.
type shelf struct {
	codes map[uuid.UUID][]byte
	keys  map[uuid.UUID][]byte
	print string
}

func (s *shelf) DataKey(_ context.Context, w uuid.UUID, fresh []byte) ([]byte, error) {
	if _, ok := s.keys[w]; !ok && fresh != nil {
		s.keys[w] = fresh
	}
	if k, ok := s.keys[w]; ok {
		return k, nil
	}
	return nil, store.ErrNotFound
}

func (s *shelf) CodeKey(_ context.Context, w uuid.UUID, fresh []byte) ([]byte, error) {
	if s.codes == nil {
		s.codes = map[uuid.UUID][]byte{}
	}
	if s.codes[w] == nil {
		s.codes[w] = fresh
	}
	return s.codes[w], nil
}

func (s *shelf) VaultFingerprint(_ context.Context, fresh string) (string, error) {
	if s.print == "" {
		s.print = fresh
	}
	if s.print == "" {
		return "", store.ErrNotFound
	}
	return s.print, nil
}

func TestASecretOpensOnlyInItsPlace(t *testing.T) {
	t.Parallel()
	ctx, s := context.Background(), &shelf{keys: map[uuid.UUID][]byte{}}
	path := filepath.Join(t.TempDir(), "vault.key")
	v, err := Open(ctx, s, path)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	one, two, row := uuid.New(), uuid.New(), uuid.New()
	sealed, err := v.Seal(ctx, one, "connection", "secret", row, []byte("the key"))
	require.NoError(t, err)
	require.NotContains(t, string(sealed), "the key")
	plain, err := v.Unseal(ctx, one, "connection", "secret", row, sealed)
	require.NoError(t, err)
	require.Equal(t, "the key", string(plain))

	changed := append([]byte(nil), sealed...)
	changed[len(changed)-1] ^= 1
	for name, try := range map[string]func() error{
		"a changed byte":    func() error { _, err := v.Unseal(ctx, one, "connection", "secret", row, changed); return err },
		"another row":       func() error { _, err := v.Unseal(ctx, one, "connection", "secret", uuid.New(), sealed); return err },
		"another column":    func() error { _, err := v.Unseal(ctx, one, "connection", "account", row, sealed); return err },
		"another workspace": func() error { _, err := v.Unseal(ctx, two, "connection", "secret", row, sealed); return err },
	} {
		require.ErrorContains(t, try(), "does not open", name)
	}
	again, err := Open(ctx, s, path)
	require.NoError(t, err)
	plain, err = again.Unseal(ctx, one, "connection", "secret", row, sealed)
	require.NoError(t, err)
	require.Equal(t, "the key", string(plain))
	s.keys[two], s.keys[one] = s.keys[one], s.keys[two]
	moved, err := Open(ctx, s, path)
	require.NoError(t, err)
	_, err = moved.Unseal(ctx, one, "connection", "secret", row, sealed)
	require.ErrorContains(t, err, "data key does not open")

	_, err = Open(ctx, s, filepath.Join(t.TempDir(), "other.key"))
	require.ErrorIs(t, err, ErrWrongKey)
	fresh := &shelf{keys: map[uuid.UUID][]byte{}}
	other := filepath.Join(t.TempDir(), "third.key")
	_, err = Open(ctx, fresh, other)
	require.NoError(t, err)
	_, err = Open(ctx, s, other)
	require.ErrorIs(t, err, ErrWrongKey)
	require.ErrorContains(t, err, "fingerprint")
}
