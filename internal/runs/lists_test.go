package runs

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/lists"
	"youngtrellis/internal/store"
)

// cupboard is a store of lists that counts how often rows are read.
type cupboard struct {
	lists map[string]store.List
	rows  map[string]*lists.Table
	err   error
	read  int
}

func (s *cupboard) CurrentList(_ context.Context, _ uuid.UUID, name string, known int) (store.List, *lists.Table, error) {
	l, ok := s.lists[name]
	switch {
	case s.err != nil:
		return store.List{}, nil, s.err
	case !ok:
		return store.List{}, nil, store.ErrNotFound
	case l.Version == known:
		return l, nil, nil
	}
	s.read++
	return l, s.rows[name], nil
}

func (s *cupboard) ListNames(context.Context, uuid.UUID) (out []string, err error) {
	for name := range s.lists {
		out = append(out, name)
	}
	return out, nil
}

func (s *cupboard) put(t *testing.T, name string, version int, csv string) {
	t.Helper()
	table, err := lists.ReadCSV([]byte(csv), nil)
	require.NoError(t, err)
	id := s.lists[name].ID
	if id == uuid.Nil {
		id = uuid.New()
	}
	s.lists[name], s.rows[name] = store.List{ID: id, Name: name, Version: version}, table
}

func TestAListIsReadAgainOnlyOnceItHasChanged(t *testing.T) {
	t.Parallel()
	s := &cupboard{lists: map[string]store.List{}, rows: map[string]*lists.Table{}}
	s.put(t, "duty", 1, "short\nwren")
	of := NewLists(s).Of(uuid.New())
	names := func() string {
		rows, err := of.List(context.Background(), "duty")
		require.NoError(t, err)
		return fmt.Sprint(rows)
	}
	require.Equal(t, "[map[short:wren]]", names())
	require.Equal(t, "[map[short:wren]]", names())
	require.Equal(t, 1, s.read)
	s.put(t, "duty", 2, "short\ntam")
	require.Equal(t, "[map[short:tam]]", names())
	require.Equal(t, 2, s.read)

	// Another list that bears the name, and has as many changes.
	delete(s.lists, "duty")
	s.put(t, "duty", 2, "short\nash")
	require.Equal(t, "[map[short:ash]]", names())

	_, err := of.List(context.Background(), "dutty")
	var why *call.Failure
	require.ErrorAs(t, err, &why)
	require.Equal(t, `There is no list "dutty". Did you mean duty?`, why.Message)
	s.err = errors.New("the database is away")
	_, err = of.List(context.Background(), "duty")
	require.ErrorIs(t, err, s.err, "what is kept is given only as long as it stands")
}

func TestListsAreKeptWithinABound(t *testing.T) {
	t.Parallel()
	s := &cupboard{lists: map[string]store.List{}, rows: map[string]*lists.Table{}}
	kept := NewLists(s)
	workspaces := []uuid.UUID{}
	big := "key,text\n"
	for i := range 300 {
		big += fmt.Sprintf("k%d,%s\n", i, strings.Repeat("x", 9000))
	}
	s.put(t, "big", 1, big)
	read := func(w uuid.UUID) {
		_, err := kept.Of(w).List(context.Background(), "big")
		require.NoError(t, err)
	}
	for range 12 {
		workspaces = append(workspaces, uuid.New())
		read(workspaces[len(workspaces)-1])
		require.LessOrEqual(t, kept.bytes, mostListBytes)
	}
	require.Equal(t, 12, s.read)
	read(workspaces[11])
	require.Equal(t, 12, s.read, "the one read last is there")
	read(workspaces[0])
	require.Equal(t, 13, s.read, "the one read longest ago made room")
}
