package workflow

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/triggers"
)

// Catalog is what a workflow can be made of.
type Catalog struct {
	Connectors  map[string]*connector.Connector
	Connections []Connection
	Lists       []List
	// Rows gives those of a list as they stand, for samples that go through the steps;
	// nil where they may not be seen.
	Rows func(ctx context.Context, list string) ([]any, error)
}

// List is what the checker knows of a workspace list.
type List struct {
	Name    string
	Columns []string
}

// Digest tells catalogs apart: two of the same digest let Check find the same.
func (c *Catalog) Digest() [32]byte {
	h := sha256.New()
	e := json.NewEncoder(h)
	for _, name := range slices.Sorted(maps.Keys(c.Connectors)) {
		_ = e.Encode([2]string{name, c.Connectors[name].Text})
	}
	_ = e.Encode(c.Connections)
	_ = e.Encode(c.Lists)
	return [32]byte(h.Sum(nil))
}

// Connection is what the checker knows of a stored account.
type Connection struct {
	Name, Connector, State string
	Method                 string   // by which it signs in
	Scopes                 []string // granted; nil if they are not known
	// Granted lists the actions that whoever edits may use it for; nil is all.
	Granted   []string
	Forbidden bool // to whoever edits
}

// may tells whether the connection may be used for a step.
func (k *Connection) may(s *Step) bool {
	_, action, _ := s.IsAction()
	return !k.Forbidden && (k.Granted == nil || slices.Contains(k.Granted, action))
}

// Action finds the action that a step's type names.
func (c *Catalog) Action(s *Step) (*connector.Action, error) {
	name, action, ok := s.IsAction()
	if !ok {
		return nil, fmt.Errorf("%q is not an action", s.Type)
	}
	con, ok := c.Connectors[name]
	if !ok {
		return nil, fmt.Errorf("there is no connector %q.%s", name, near.Hint(name, c.connectorNames()))
	}
	return con.Action(action)
}

// Called is the action that a step calls; nil where it calls none.
func (c *Catalog) Called(s *Step) *connector.Action {
	if a, err := c.Action(s); err == nil {
		return a
	}
	if k, ok := steps.Find(s.Type); ok {
		if o, _ := k.Compile(s.Settings); o != nil {
			if x, ok := o.Operator.(*steps.Call); ok {
				return x.Action
			}
		}
	}
	return nil
}

func (c *Catalog) connectorNames() []string {
	names := make([]string, 0, len(c.Connectors))
	for n := range c.Connectors {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// Types lists every type that a step can have.
func (c *Catalog) Types() []string {
	types := steps.Types()
	for _, n := range c.connectorNames() {
		for _, a := range c.Connectors[n].Order {
			types = append(types, n+"."+a)
		}
	}
	return types
}

// Sentence words a step as a line of the outline. Its first word is the verb.
func (c *Catalog) Sentence(s *Step) string {
	if k, ok := steps.Find(s.Type); ok {
		return k.Sentence(s.Settings)
	}
	a, err := c.Action(s)
	if err != nil {
		return "Do something unknown: " + s.Type
	}
	return a.Say(s.Input)
}

// TriggerSentence words what starts the workflow.
func TriggerSentence(t Trigger) string {
	if k, ok := triggers.Find(t.Type); ok {
		return k.Sentence(t.Settings)
	}
	return "Started by something unknown: " + t.Type
}
