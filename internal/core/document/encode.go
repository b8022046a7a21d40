package document

import (
	"bytes"
	"errors"
	"maps"
	"slices"
	"strings"
	"unicode"

	"go.yaml.in/yaml/v3"
)

// Encode writes a node as YAML with its comments and order.
func Encode(n *yaml.Node) ([]byte, error) { return encode(n, 2, false) }

// EncodeValue writes a JSON value as YAML.
func EncodeValue(v any) ([]byte, error) { return Encode(Node(v)) }

// encode writes signs beyond U+FFFF as they are: the encoder would write each as
// \U and eight digits, which nobody can read.
func encode(n *yaml.Node, indent int, compact bool) ([]byte, error) {
	high, taken, stands, back := map[rune]bool{}, map[rune]bool{}, map[rune]rune{}, map[rune]rune{}
	signsBeyond(n, high, taken)
	free := rune(privateUse)
	for _, r := range slices.Sorted(maps.Keys(high)) {
		for taken[free] {
			free++
		}
		if free > lastPrivateUse { // more than there is room for: the others are written as digits
			break
		}
		stands[r], back[free] = free, r
		free++
	}
	if len(stands) > 0 {
		n = with(n, stands)
	}
	n = surely(n)
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(indent)
	if compact {
		e.CompactSeqIndent()
	}
	if err := errors.Join(e.Encode(n), e.Close()); err != nil {
		return nil, err
	}
	if len(back) == 0 {
		return out.Bytes(), nil
	}
	return bytes.Map(func(r rune) rune {
		if was, ok := back[r]; ok {
			return was
		}
		return r
	}, out.Bytes()), nil
}

// surely puts texts into quotes that the encoder would write as a block which reads as
// something else, or as nothing.
func surely(n *yaml.Node) *yaml.Node {
	if n.Kind == yaml.ScalarNode {
		if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 || !strings.Contains(n.Value, "\n") || !misread(n.Value) {
			return n
		}
		quoted := *n
		quoted.Style = n.Style&^(yaml.LiteralStyle|yaml.FoldedStyle) | yaml.DoubleQuotedStyle
		return &quoted
	}
	for i, child := range n.Content {
		if other := surely(child); other != child {
			quoted := *n
			quoted.Content = slices.Clone(n.Content)
			for j := i; j < len(quoted.Content); j++ {
				quoted.Content[j] = surely(quoted.Content[j])
			}
			return &quoted
		}
	}
	return n
}

func misread(text string) bool {
	return strings.ContainsAny(text[:1], " \t\n") || strings.ContainsAny(text, "\r\u0085\u2028\u2029\ufeff") || strings.HasSuffix(text, "\n\n") || strings.Contains(text, " \n") || strings.Contains(text, "\t\n")
}

const byteOrderMark = '\ufeff'

// Signs of private use stand for others while these are written.
const privateUse, lastPrivateUse = '\ue000', '\uf8ff'

// signsBeyond finds the signs beyond U+FFFF that can be seen, and which signs of
// private use are taken.
func signsBeyond(n *yaml.Node, high, taken map[rune]bool) {
	for _, s := range []string{n.Value, n.HeadComment, n.LineComment, n.FootComment} {
		for _, r := range s {
			switch {
			case r > 0xffff && unicode.IsPrint(r):
				high[r] = true
			case r >= privateUse && r <= lastPrivateUse:
				taken[r] = true
			}
		}
	}
	for _, c := range n.Content {
		signsBeyond(c, high, taken)
	}
}

// with copies a node with signs in place of others.
func with(n *yaml.Node, stands map[rune]rune) *yaml.Node {
	swap := func(s string) string {
		if strings.ContainsRune(s, byteOrderMark) { // with it the encoder writes all of the text as digits
			return s
		}
		return strings.Map(func(r rune) rune {
			if other, ok := stands[r]; ok {
				return other
			}
			return r
		}, s)
	}
	c := *n
	c.Value, c.HeadComment, c.LineComment, c.FootComment = swap(n.Value), swap(n.HeadComment), swap(n.LineComment), swap(n.FootComment)
	c.Content = make([]*yaml.Node, len(n.Content))
	for i, e := range n.Content {
		c.Content[i] = with(e, stands)
	}
	return &c
}
