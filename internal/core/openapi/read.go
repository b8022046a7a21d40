// Package openapi makes a connector document of an OpenAPI document, version
// 3.0 or 3.1: operations become actions, schemas fields, security schemes ways
// to sign in, servers the base address. What cannot be taken is listed. No
// reference is followed out of the document.
package openapi

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/document"
)

// Bounds of a document.
const (
	MaxBytes      = 20 << 20
	MaxDepth      = 64
	MaxOperations = 10_000
)

// patient is a text whose reader gives up with its context.
type patient struct {
	ctx  context.Context
	text *bytes.Reader
}

// Read implements io.Reader.
func (p *patient) Read(b []byte) (int, error) {
	if p.ctx.Err() != nil {
		return 0, context.Cause(p.ctx)
	}
	return p.text.Read(b)
}

// node is a value of the document, in the order of its text.
type node = yaml.Node

// parse reads the text. Aliases are written out, at most to ten times the size.
func parse(ctx context.Context, text []byte) (*node, error) {
	if len(text) > MaxBytes {
		return nil, fmt.Errorf("the document has %d bytes; at most %d are read", len(text), MaxBytes)
	}
	if len(bytes.TrimSpace(text)) == 0 {
		return nil, errors.New("the document is empty")
	}
	if document.IsJSON(text) {
		root, err := document.JSON(text)
		if err == nil {
			return root, nil
		}
		var loose node
		if yaml.NewDecoder(&patient{ctx, bytes.NewReader(text)}).Decode(&loose) != nil {
			return nil, err
		}
	}
	var root node
	if err := yaml.NewDecoder(&patient{ctx, bytes.NewReader(text)}).Decode(&root); err != nil {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, fmt.Errorf("this is neither JSON nor YAML: %s", strings.TrimPrefix(err.Error(), "yaml: "))
	}
	if len(root.Content) == 0 {
		return nil, errors.New("the document is empty")
	}
	n, aliases := count(&root)
	if aliases == 0 { // nothing to write out: the tree is taken as it is
		return root.Content[0], shallow(root.Content[0], 0)
	}
	e := &expander{budget: 10 * (n + 100)}
	return e.expand(root.Content[0], 0)
}

func count(n *node) (all, aliases int) {
	all = 1
	if n.Kind == yaml.AliasNode {
		aliases++
	}
	for _, k := range n.Content {
		a, b := count(k)
		all, aliases = all+a, aliases+b
	}
	return all, aliases
}

func tooDeep(n *node) error {
	return fmt.Errorf("the document is nested deeper than %d levels, at line %d", MaxDepth, n.Line)
}

// shallow refuses what is nested too deep.
func shallow(n *node, depth int) error {
	if depth > MaxDepth {
		return tooDeep(n)
	}
	for _, k := range n.Content {
		if err := shallow(k, depth+1); err != nil {
			return err
		}
	}
	return nil
}

type expander struct{ budget int }

func (e *expander) expand(n *node, depth int) (*node, error) {
	if depth > MaxDepth {
		return nil, tooDeep(n)
	}
	if e.budget--; e.budget < 0 {
		return nil, errors.New("the document's aliases make it more than ten times as large")
	}
	if n.Kind == yaml.AliasNode {
		return e.expand(n.Alias, depth+1)
	}
	if len(n.Content) == 0 {
		return n, nil
	}
	out := *n
	out.Content = make([]*node, len(n.Content))
	for i, c := range n.Content {
		k, err := e.expand(c, depth+1)
		if err != nil {
			return nil, err
		}
		out.Content[i] = k
	}
	return &out, nil
}

// at finds a key of an object, or nil.
func at(n *node, key string) *node {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

// text reads a scalar.
func text(n *node, path ...string) string {
	for _, p := range path {
		n = at(n, p)
	}
	if n == nil || n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		return ""
	}
	return n.Value
}

func yes(n *node, key string) bool { return text(n, key) == "true" }

// each goes through the entries of an object in order.
func each(n *node, visit func(key string, value *node)) {
	if n == nil || n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		visit(n.Content[i].Value, n.Content[i+1])
	}
}

func items(n *node) []*node {
	if n == nil || n.Kind != yaml.SequenceNode {
		return nil
	}
	return n.Content
}

// plain turns a value into the one that connector documents are made of.
func plain(n *node) any {
	var v any
	if n == nil || n.Decode(&v) != nil {
		return nil
	}
	return v
}

// resolve follows a reference within the document. The error says why one
// cannot be followed.
func (im *importer) resolve(n *node) (*node, string, error) {
	name := ""
	for range 32 {
		ref := text(n, "$ref")
		if ref == "" {
			return n, name, nil
		}
		if known, ok := im.refs[ref]; ok {
			n, name = known, ref[strings.LastIndex(ref, "/")+1:]
			continue
		}
		if !strings.HasPrefix(ref, "#/") {
			return nil, "", fmt.Errorf("it refers to %s, outside of the document", ref)
		}
		target := im.root
		parts := strings.Split(ref[2:], "/")
		for _, p := range parts {
			p = strings.NewReplacer("~1", "/", "~0", "~").Replace(unescape(p))
			if target.Kind == yaml.SequenceNode {
				var i int
				if _, err := fmt.Sscan(p, &i); err != nil || i < 0 || i >= len(target.Content) {
					target = nil
				} else {
					target = target.Content[i]
				}
			} else {
				target = at(target, p)
			}
			if target == nil {
				return nil, "", fmt.Errorf("it refers to %s, which is not there", ref)
			}
		}
		n, name = target, parts[len(parts)-1]
		im.refs[ref] = target
	}
	return nil, "", errors.New("its references go round in a circle")
}
