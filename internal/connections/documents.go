package connections

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/store"
)

// Documents finds connector documents: those that come with the program, and
// those that a workspace made, in any version that a revision names.
type Documents struct {
	Shipped map[string]*connector.Connector
	Store   *store.Store

	mu     sync.Mutex
	parsed map[string]*connector.Connector // by document
	own    map[uuid.UUID]ownConnectors
}

type ownConnectors struct {
	all   map[string]*connector.Connector
	until time.Time
}

// Of lists the newest version of everything that a workspace can connect.
func (c *Documents) Of(ctx context.Context, workspace uuid.UUID) (map[string]*connector.Connector, error) {
	c.mu.Lock()
	kept, ok := c.own[workspace]
	c.mu.Unlock()
	if ok && time.Now().Before(kept.until) {
		return kept.all, nil
	}
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
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.own == nil || len(c.own) > 1000 {
		c.own = map[uuid.UUID]ownConnectors{}
	}
	c.own[workspace] = ownConnectors{all, time.Now().Add(2 * time.Second)}
	return all, nil
}

// Forget lets a workspace's connectors be read anew.
func (c *Documents) Forget(workspace uuid.UUID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.own, workspace)
}

func (c *Documents) parse(text string) (*connector.Connector, error) {
	c.mu.Lock()
	con, ok := c.parsed[text]
	c.mu.Unlock()
	if ok {
		return con, nil
	}
	con, err := connector.Parse([]byte(text))
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.parsed == nil || len(c.parsed) > 1000 {
		c.parsed = map[string]*connector.Connector{}
	}
	c.parsed[text] = con
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

// Find finds the newest version of one connector.
func (c *Documents) Find(ctx context.Context, workspace uuid.UUID, name string) (*connector.Connector, error) {
	all, err := c.Of(ctx, workspace)
	if err != nil {
		return nil, err
	}
	if con, ok := all[name]; ok {
		return con, nil
	}
	return nil, fmt.Errorf("there is no connector %q.%s", name, near.Hint(name, slices.Sorted(maps.Keys(all))))
}
