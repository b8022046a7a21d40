package vault

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/store"
)

// sealedIn is a ciphertext and where it lies.
type sealedIn struct {
	workspace, row uuid.UUID
	table, column  string
	sealed         []byte
}

// cabinet keeps data keys and what is sealed, in memory.
type cabinet struct {
	shelf
	order []uuid.UUID
	rows  []*sealedIn
	fails uuid.UUID // the workspace at which sealing anew ends
}

func newCabinet() *cabinet { return &cabinet{shelf: shelf{keys: map[uuid.UUID][]byte{}}} }

func (c *cabinet) SealedWorkspaces(context.Context) ([]uuid.UUID, error) { return c.order, nil }

// ResealAll stores all or, as a transaction does, nothing.
func (c *cabinet) ResealAll(_ context.Context, workspace uuid.UUID, key func([]byte) ([]byte, error), value func(string, string, uuid.UUID, []byte) ([]byte, error)) (int, error) {
	fresh, err := key(c.keys[workspace])
	if err != nil {
		return 0, err
	}
	var done [][]byte
	var rows []*sealedIn
	for _, r := range c.rows {
		if r.workspace != workspace {
			continue
		}
		b, err := value(r.table, r.column, r.row, r.sealed)
		if err != nil {
			return 0, err
		}
		rows, done = append(rows, r), append(done, b)
	}
	if workspace == c.fails {
		return 0, errors.New("the machine went down")
	}
	c.keys[workspace] = fresh
	for i, r := range rows {
		r.sealed = done[i]
	}
	return len(rows), nil
}

func (c *cabinet) SetVaultFingerprint(_ context.Context, print string) error {
	c.print = print
	return nil
}

// put seals a secret and stores it.
func (c *cabinet) put(t *testing.T, v *Vault, workspace uuid.UUID, secret string) *sealedIn {
	t.Helper()
	r := &sealedIn{workspace: workspace, row: uuid.New(), table: "connection", column: "secret"}
	var err error
	r.sealed, err = v.Seal(context.Background(), workspace, r.table, r.column, r.row, []byte(secret))
	require.NoError(t, err)
	if !slices.Contains(c.order, workspace) {
		c.order = append(c.order, workspace)
	}
	c.rows = append(c.rows, r)
	return r
}

func opens(v *Vault, r *sealedIn) (string, error) {
	b, err := v.Unseal(context.Background(), r.workspace, r.table, r.column, r.row, r.sealed)
	return string(b), err
}

func opened(t *testing.T, c *cabinet, path string) *Vault {
	t.Helper()
	v, err := Open(context.Background(), c, path)
	require.NoError(t, err)
	return v
}

func TestARotationSealsEverythingAnewAndNobodyStops(t *testing.T) {
	t.Parallel()
	ctx, c, path := context.Background(), newCabinet(), filepath.Join(t.TempDir(), "vault.key")
	running := opened(t, c, path)
	one, two := uuid.New(), uuid.New()
	rows := []*sealedIn{c.put(t, running, one, "a"), c.put(t, running, one, "b"), c.put(t, running, two, "c")}
	code, err := running.Code(ctx, one, "callback", []byte("x"))
	require.NoError(t, err)
	before := *rows[0]
	was, err := os.ReadFile(path)
	require.NoError(t, err)

	r, err := Rotate(ctx, c, path)
	require.NoError(t, err)
	require.Equal(t, Rotated{Fingerprint: c.print, Workspaces: 2, Secrets: 3}, r)
	require.NotEqual(t, before.sealed, rows[0].sealed)
	late := c.put(t, running, two, "sealed with what was known") // by a process that has heard nothing
	for _, v := range []*Vault{running, opened(t, c, path)} {
		for i, row := range rows {
			plain, err := opens(v, row)
			require.NoError(t, err)
			require.Equal(t, string("abc"[i]), plain)
		}
		plain, err := opens(v, late)
		require.NoError(t, err)
		require.Equal(t, "sealed with what was known", plain)
		again, err := v.Code(ctx, one, "callback", []byte("x"))
		require.NoError(t, err)
		require.Equal(t, code, again, "codes outlive every rotation")
	}
	stale := filepath.Join(t.TempDir(), "copy.key")
	require.NoError(t, os.WriteFile(stale, was, 0o600))
	_, err = Open(ctx, c, stale)
	require.ErrorIs(t, err, ErrWrongKey, "the file as it was before opens nothing any more")

	n, err := DropOld(ctx, c, path)
	require.NoError(t, err)
	require.Equal(t, 1, n)
	n, err = DropOld(ctx, c, path)
	require.NoError(t, err)
	require.Zero(t, n, "there is none left to drop")
	_, err = opens(opened(t, c, path), rows[2])
	require.NoError(t, err)

	_, err = Rotate(ctx, c, path)
	require.NoError(t, err)
	_, err = Rotate(ctx, c, path)
	require.NoError(t, err)
	_, err = opens(opened(t, c, path), &before)
	require.ErrorContains(t, err, "does not open", "what was sealed two rotations ago and not since is gone")
	_, err = opens(opened(t, c, path), late)
	require.NoError(t, err)
}

func TestARotationThatWasCutIsBegunAgain(t *testing.T) {
	t.Parallel()
	ctx, c, path := context.Background(), newCabinet(), filepath.Join(t.TempDir(), "vault.key")
	running := opened(t, c, path)
	one, two := uuid.New(), uuid.New()
	rows := []*sealedIn{c.put(t, running, one, "a"), c.put(t, running, two, "b")}
	print := c.print
	c.fails = two
	r, err := Rotate(ctx, c, path)
	require.ErrorContains(t, err, "both keys are in "+path+", and it can be begun again")
	require.Equal(t, 1, r.Workspaces)
	require.Equal(t, print, c.print)
	for _, v := range []*Vault{running, opened(t, c, path)} {
		for _, row := range rows {
			_, err := opens(v, row)
			require.NoError(t, err)
		}
	}
	_, err = DropOld(ctx, c, path)
	require.ErrorContains(t, err, "is still sealed with the key "+print)
	c.fails = uuid.Nil
	_, err = Rotate(ctx, c, path)
	require.NoError(t, err)
	n, err := DropOld(ctx, c, path)
	require.NoError(t, err)
	require.Equal(t, 2, n, "that of the rotation that was cut too")
	for _, row := range rows {
		_, err := opens(opened(t, c, path), row)
		require.NoError(t, err)
	}
}

func TestARotationStopsAtWhatDoesNotOpen(t *testing.T) {
	t.Parallel()
	ctx, c, path := context.Background(), newCabinet(), filepath.Join(t.TempDir(), "vault.key")
	v := opened(t, c, path)
	one := uuid.New()
	row := c.put(t, v, one, "a")
	good := row.sealed
	row.sealed = []byte("changed")
	_, err := Rotate(ctx, c, path)
	require.ErrorContains(t, err, "the secret of the connection "+row.row.String()+" does not open")
	row.sealed = good
	key := c.keys[one]
	c.keys[one] = []byte("changed")
	_, err = Rotate(ctx, c, path)
	require.ErrorContains(t, err, "its data key does not open")
	c.keys[one] = key
	_, err = Rotate(ctx, c, path)
	require.NoError(t, err, "nothing was lost by it")
	_, err = opens(v, row)
	require.NoError(t, err)

	other := filepath.Join(t.TempDir(), "other.key")
	_, err = Rotate(ctx, c, other)
	require.ErrorIs(t, err, ErrWrongKey)
	require.NoFileExists(t, other)
	_, err = DropOld(ctx, c, other)
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestAKeyFileThatCannotBeTrustedIsRefused(t *testing.T) {
	t.Parallel()
	ctx, c, dir := context.Background(), newCabinet(), t.TempDir()
	path := filepath.Join(dir, "vault.key")
	opened(t, c, path)
	for name, k := range map[string]struct {
		text string
		mode os.FileMode
		want string
	}{
		"others may read it": {"", 0o644, "can be read by others; mend it with: chmod 600"},
		"its group may":      {"", 0o640, "can be read by others"},
		"it is empty":        {" ", 0o600, "is not a keyset"},
		"it is no keyset":    {"a password", 0o600, "is not a keyset"},
		"it holds no key":    {`{"primaryKeyId": 1, "key": []}`, 0o600, "is not a keyset"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := []byte(k.text)
			if k.text == "" {
				var err error
				b, err = os.ReadFile(path)
				require.NoError(t, err)
			}
			at := filepath.Join(t.TempDir(), "vault.key")
			require.NoError(t, os.WriteFile(at, b, k.mode))
			require.NoError(t, os.Chmod(at, k.mode))
			_, err := Open(ctx, c, at)
			require.ErrorContains(t, err, k.want)
			require.ErrorContains(t, err, at)
			after, err := os.ReadFile(at)
			require.NoError(t, err)
			require.Equal(t, b, after, "it is not touched")
		})
	}
	_, err := Open(ctx, newCabinet(), filepath.Join(dir, "no such folder", "vault.key"))
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestCodesTellPurposesApart(t *testing.T) {
	t.Parallel()
	ctx, c := context.Background(), newCabinet()
	v := opened(t, c, filepath.Join(t.TempDir(), "vault.key"))
	one, two := uuid.New(), uuid.New()
	seen := map[string]string{}
	for name, k := range map[string]struct {
		workspace uuid.UUID
		purpose   string
		text      string
	}{
		"one": {one, "callback", "x"}, "another workspace": {two, "callback", "x"}, "another purpose": {one, "input", "x"}, "another text": {one, "callback", "y"},
		"a purpose that ends later": {one, "a b", "c"}, "a text that begins sooner": {one, "a", "b c"}, "no text": {one, "callback", ""}, "no purpose": {one, "", "callback"},
	} {
		code, err := v.Code(ctx, k.workspace, k.purpose, []byte(k.text))
		require.NoError(t, err)
		require.Len(t, code, 32)
		require.Empty(t, seen[string(code)], name)
		seen[string(code)] = name
		again, err := v.Code(ctx, k.workspace, k.purpose, []byte(k.text))
		require.NoError(t, err)
		require.Equal(t, code, again)
	}
}

// away is a database that does not answer, from the n-th question on.
type away struct {
	*cabinet
	after int
}

func (a *away) asked() error {
	if a.after--; a.after < 0 {
		return store.ErrUnavailable
	}
	return nil
}

func (a *away) DataKey(ctx context.Context, w uuid.UUID, fresh []byte) ([]byte, error) {
	if err := a.asked(); err != nil {
		return nil, err
	}
	return a.cabinet.DataKey(ctx, w, fresh)
}

func (a *away) CodeKey(ctx context.Context, w uuid.UUID, fresh []byte) ([]byte, error) {
	if err := a.asked(); err != nil {
		return nil, err
	}
	return a.cabinet.CodeKey(ctx, w, fresh)
}

func (a *away) VaultFingerprint(ctx context.Context, fresh string) (string, error) {
	if err := a.asked(); err != nil {
		return "", err
	}
	return a.cabinet.VaultFingerprint(ctx, fresh)
}

func TestWithoutTheDatabaseNothingIsMadeUp(t *testing.T) {
	t.Parallel()
	ctx, w := context.Background(), uuid.New()
	path := filepath.Join(t.TempDir(), "vault.key")
	for after := range 6 {
		c := newCabinet()
		a := &away{c, after}
		_ = os.Remove(path)
		v, err := Open(ctx, a, path)
		if err == nil {
			_, err = v.Code(ctx, w, "callback", []byte("x"))
		}
		if after == 5 { // two for the fingerprint, two for the data key, one for the code's
			require.NoError(t, err)
			continue
		}
		require.ErrorIs(t, err, store.ErrUnavailable, after)
		if after == 0 {
			require.NoFileExists(t, path)
		}
	}
}
