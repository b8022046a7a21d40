package runs

import (
	"container/list"
	"context"
	"errors"
	"fmt"
	"sync"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/lists"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/store"
)

// ListStore has workspace lists.
type ListStore interface {
	// CurrentList gives a list; one of the version that is known is given without rows.
	CurrentList(ctx context.Context, workspace uuid.UUID, name string, known int) (store.List, *lists.Table, error)
	ListNames(ctx context.Context, workspace uuid.UUID) ([]string, error)
}

// Lists reads workspace lists for runs, and keeps those that are read often. What is
// kept is given only as long as it stands. It is safe for concurrent use.
type Lists struct {
	Store ListStore

	mu    sync.Mutex // protects what follows
	known map[listKey]*list.Element
	order *list.List // the one read last at the front
	bytes int
}

type listKey struct {
	workspace uuid.UUID
	name      string
}

type keptList struct {
	key     listKey
	id      uuid.UUID // another list may bear the name by now
	version int
	rows    []any
	bytes   int
}

// mostListBytes is how much of lists is kept, by the size of their fields.
const mostListBytes = 16 << 20

// NewLists makes one.
func NewLists(s ListStore) *Lists {
	return &Lists{Store: s, known: map[listKey]*list.Element{}, order: list.New()}
}

// Of are the lists of a workspace.
func (l *Lists) Of(workspace uuid.UUID) engine.Lists { return workspaceLists{l, workspace} }

type workspaceLists struct {
	*Lists
	workspace uuid.UUID
}

// List implements engine.Lists.
func (l workspaceLists) List(ctx context.Context, name string) ([]any, error) {
	key := listKey{l.workspace, name}
	k := l.find(key)
	now, table, err := l.Store.CurrentList(ctx, l.workspace, name, k.version)
	if err == nil && table == nil && now.ID != k.id {
		now, table, err = l.Store.CurrentList(ctx, l.workspace, name, 0)
	}
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, l.none(ctx, name)
	case err != nil:
		return nil, err
	case table == nil:
		return k.rows, nil
	}
	rows := table.Items()
	l.keep(keptList{key: key, id: now.ID, version: now.Version, rows: rows, bytes: item.Size(rows)})
	return rows, nil
}

func (l workspaceLists) none(ctx context.Context, name string) error {
	all, err := l.Store.ListNames(ctx, l.workspace)
	if err != nil {
		return err
	}
	return &call.Failure{Class: call.BadInput, Message: fmt.Sprintf("There is no list %q.%s", name, near.Hint(name, all))}
}

func (l *Lists) find(key listKey) keptList {
	l.mu.Lock()
	defer l.mu.Unlock()
	e := l.known[key]
	if e == nil {
		return keptList{}
	}
	l.order.MoveToFront(e)
	k, _ := e.Value.(keptList)
	return k
}

func (l *Lists) keep(k keptList) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if e := l.known[k.key]; e != nil {
		l.drop(e)
	}
	l.known[k.key] = l.order.PushFront(k)
	for l.bytes += k.bytes; l.bytes > mostListBytes; {
		l.drop(l.order.Back())
	}
}

func (l *Lists) drop(e *list.Element) {
	k, _ := l.order.Remove(e).(keptList)
	delete(l.known, k.key)
	l.bytes -= k.bytes
}
