package connections

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/kept"
	"youngtrellis/internal/store"
)

// Documents finds connector documents: those that come with the program, and
// those that a workspace made, in any version that a revision names.
type Documents struct {
	Shipped map[string]*connector.Connector
	Store   *store.Store

	parsed *lru.Cache[string, *connector.Connector] // by document
	own    *kept.Values[uuid.UUID, map[string]*connector.Connector]
}

// NewDocuments finds what comes with the program and what is in the store.
func NewDocuments(shipped map[string]*connector.Connector, s *store.Store) *Documents {
	parsed, err := lru.New[string, *connector.Connector](1000)
	if err != nil {
		panic(err) // only for a size below one
	}
	return &Documents{Shipped: shipped, Store: s, parsed: parsed, own: kept.New[uuid.UUID, map[string]*connector.Connector](2*time.Second, 1000)}
}

// Of lists the newest version of everything that a workspace can connect.
func (c *Documents) Of(ctx context.Context, workspace uuid.UUID) (map[string]*connector.Connector, error) {
	return c.own.Get(workspace, func() (map[string]*connector.Connector, error) { return c.read(ctx, workspace) })
}

func (c *Documents) read(ctx context.Context, workspace uuid.UUID) (map[string]*connector.Connector, error) {
	list, err := c.Store.OwnConnectors(ctx, workspace)
	if err != nil {
		return nil, err
	}
	all := maps.Clone(c.Shipped)
	for _, v := range list {
		con, err := c.parse(v.Document)
		if err != nil {
			return nil, fmt.Errorf("connector %s: %w", v.Name, err)
		}
		if _, ok := all[v.Name]; !ok {
			all[v.Name] = con
		}
	}
	return all, nil
}

// Forget lets a workspace's connectors be read anew, after they changed.
func (c *Documents) Forget(workspace uuid.UUID) { c.own.Forget(workspace) }

func (c *Documents) parse(text string) (*connector.Connector, error) {
	if con, ok := c.parsed.Get(text); ok {
		return con, nil
	}
	con, err := connector.Parse([]byte(text))
	if err != nil {
		return nil, err
	}
	c.parsed.Add(text, con)
	return con, nil
}

// At finds connectors as a revision was made with them: name to version.
func (c *Documents) At(ctx context.Context, workspace uuid.UUID, versions map[string]int) (map[string]*connector.Connector, error) {
	all, err := c.Of(ctx, workspace)
	if err != nil {
		return nil, err
	}
	out := maps.Clone(all)
	for name, version := range versions {
		if now, ok := all[name]; ok && now.Version == version {
			continue
		}
		v, err := c.Store.ConnectorVersion(ctx, workspace, name, version)
		if errors.Is(err, store.ErrNotFound) {
			return nil, fmt.Errorf("version %d of the connector %s is not kept any more", version, name)
		}
		if err != nil {
			return nil, err
		}
		if out[name], err = c.parse(v.Document); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Find finds the newest version of one connector. One that is not remembered is
// looked for once more: another node may have stored it a moment ago.
func (c *Documents) Find(ctx context.Context, workspace uuid.UUID, name string) (*connector.Connector, error) {
	all, err := c.Of(ctx, workspace)
	if err == nil && all[name] == nil {
		c.Forget(workspace)
		all, err = c.Of(ctx, workspace)
	}
	if err != nil {
		return nil, err
	}
	if con, ok := all[name]; ok {
		return con, nil
	}
	return nil, fmt.Errorf("there is no connector %q.%s", name, near.Hint(name, slices.Sorted(maps.Keys(all))))
}
