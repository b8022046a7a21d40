package document

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Set puts a JSON value under a key of the object at path, keeping comments;
// a nil value removes the key.
func (d *Document) Set(path, key string, value any) error {
	n := d.At(path)
	if n == nil || n.Kind != yaml.MappingNode {
		return fmt.Errorf("there is no object at %s", path)
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value != key {
			continue
		}
		if value == nil {
			n.Content = slices.Delete(n.Content, i, i+2)
			return nil
		}
		fresh := Node(value)
		fresh.LineComment, fresh.HeadComment, fresh.FootComment = n.Content[i+1].LineComment, n.Content[i+1].HeadComment, n.Content[i+1].FootComment
		if fresh.Kind == n.Content[i+1].Kind {
			fresh.Style = n.Content[i+1].Style
		}
		n.Content[i+1] = fresh
		return nil
	}
	if value != nil {
		n.Content = append(n.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, Node(value))
	}
	return nil
}

// Insert puts a value into the list at path; Remove takes one out and gives it.
func (d *Document) Insert(path string, at int, n *yaml.Node) error {
	list := d.At(path)
	if list == nil || list.Kind != yaml.SequenceNode {
		return fmt.Errorf("there is no list at %s", path)
	}
	if len(list.Content) == 0 {
		list.Style = 0
	}
	list.Content = slices.Insert(list.Content, max(0, min(at, len(list.Content))), n)
	return nil
}

// Remove takes the i-th element out of the list at path.
func (d *Document) Remove(path string, i int) (*yaml.Node, error) {
	list := d.At(path)
	if list == nil || list.Kind != yaml.SequenceNode || i < 0 || i >= len(list.Content) {
		return nil, fmt.Errorf("there is no element %d at %s", i, path)
	}
	n := list.Content[i]
	list.Content = slices.Delete(list.Content, i, i+1)
	return n, nil
}

// Node makes a node of a JSON value. Keys are sorted but for those that people
// expect first.
func Node(v any) *yaml.Node {
	switch v := v.(type) {
	case map[string]any:
		n := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
		keys := make([]string, 0, len(v))
		for k := range v {
			keys = append(keys, k)
		}
		slices.SortFunc(keys, func(a, b string) int {
			if c := rank(a) - rank(b); c != 0 {
				return c
			}
			return strings.Compare(a, b)
		})
		for _, k := range keys {
			n.Content = append(n.Content, Node(k), Node(v[k]))
		}
		return n
	case []any:
		n := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}
		for _, e := range v {
			n.Content = append(n.Content, Node(e))
		}
		return n
	case string:
		n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: v}
		if strings.Contains(v, "\n") {
			n.Style = yaml.LiteralStyle
		}
		return n
	}
	n := &yaml.Node{}
	if err := n.Encode(v); err != nil {
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: fmt.Sprint(v)}
	}
	return n
}

var firstKeys = []string{"format", "name", "title", "about", "label", "find_by", "trigger", "type", "connection", "settings", "input", "id"}

func rank(key string) int {
	if i := slices.Index(firstKeys, key); i >= 0 {
		return i
	}
	return len(firstKeys)
}
