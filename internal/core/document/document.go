// Package document reads YAML and JSON strictly: into Go structs, with every
// problem placed by path, line and column, and unknown keys answered with the
// nearest known one. It keeps the node tree, so that a document can be changed
// and written again with its comments and order.
package document

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// MaxBytes is the largest document.
const MaxBytes = 1 << 20

// Severities of a problem.
const (
	SeverityError   = "error"
	SeverityWarning = "warning"
)

// Problem is one thing to mend in a document.
type Problem struct {
	Severity string `json:"severity"`
	Path     string `json:"path"` // as steps[2].settings.where
	Line     int    `json:"line"` // from 1; 0 if unknown
	Column   int    `json:"column"`
	Step     string `json:"step,omitempty"`
	Message  string `json:"message"`
	Cure     string `json:"cure,omitempty"`
	Gap      bool   `json:"gap,omitempty"` // it is only that nobody has filled it in yet
}

func (p Problem) Error() string {
	s := p.Message
	if p.Line > 0 {
		s = fmt.Sprintf("line %d, column %d: %s", p.Line, p.Column, s)
	}
	if p.Cure != "" {
		s += " " + p.Cure
	}
	return s
}

// Document is a parsed text with the places of its values.
type Document struct {
	root *yaml.Node
	Text []byte
	json bool
}

var yamlLine = regexp.MustCompile(`line (\d+): `)

// Parse reads YAML 1.2 or JSON of at most MaxBytes. The error is a Problem.
func Parse(text []byte) (*Document, error) { return ParseWithin(text, MaxBytes) }

// ParseWithin reads YAML 1.2 or JSON of at most so many bytes. The error is a
// Problem.
func ParseWithin(text []byte, most int) (*Document, error) {
	if len(text) > most {
		return nil, Problem{Severity: SeverityError, Line: 1, Column: 1, Message: fmt.Sprintf("The document has %d bytes; at most %d are read.", len(text), most)}
	}
	if !utf8.Valid(text) {
		line, column := 1, 1
		for rest := text; len(rest) > 0; {
			r, n := utf8.DecodeRune(rest)
			if r == utf8.RuneError && n == 1 {
				break
			}
			if column++; r == '\n' {
				line, column = line+1, 1
			}
			rest = rest[n:]
		}
		return nil, Problem{Severity: SeverityError, Line: line, Column: column, Message: "The text is not valid UTF-8.", Cure: "Save it as UTF-8."}
	}
	if IsJSON(text) {
		root, err := JSON(text)
		if err == nil {
			return parsed(root, text, true)
		}
		// YAML has brackets, too, with values that JSON does not have; what both have
		// and only JSON forbids was meant as JSON.
		var p Problem
		if errors.As(err, &p) && !strings.HasSuffix(p.Message, notHere) || !looseYAML(text) {
			return nil, err
		}
	}
	var root yaml.Node
	d := yaml.NewDecoder(bytes.NewReader(text))
	if err := d.Decode(&root); err != nil {
		return nil, yamlProblem(text, err)
	}
	var extra yaml.Node
	if d.Decode(&extra) == nil {
		return nil, Problem{Severity: SeverityError, Line: extra.Line, Column: 1, Message: "A second document begins here.", Cure: "Put one document in a file."}
	}
	return parsed(root.Content[0], text, false)
}

func looseYAML(text []byte) bool {
	var n yaml.Node
	return yaml.Unmarshal(text, &n) == nil
}

func parsed(root *yaml.Node, text []byte, json bool) (*Document, error) {
	if p := plainNodes(root, 0); p != nil {
		return nil, *p
	}
	return &Document{root: root, Text: text, json: json}, nil
}

// yamlProblem says what is wrong with YAML, and how it is mended where it is what
// people meet most.
func yamlProblem(text []byte, err error) error {
	p := Problem{Severity: SeverityError, Line: 1, Column: 1, Message: "This cannot be read as YAML: " + strings.TrimPrefix(err.Error(), "yaml: ") + "."}
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		p.Line, _ = strconv.Atoi(m[1])
		p.Message = "This cannot be read as YAML: " + strings.SplitN(err.Error(), ": ", 3)[2] + "."
	}
	lines := strings.Split(string(text), "\n")
	switch {
	case len(bytes.TrimSpace(text)) == 0:
		p.Message, p.Line = "The document is empty.", 1
	case onlyComments(lines):
		p.Message, p.Cure = "The document has only comments.", "Begin it with format: young-trellis/1."
	case !utf8.Valid(text):
		p.Message, p.Cure = "The text is not valid UTF-8.", "Save it as UTF-8."
	case bytes.ContainsRune(text, '\t'):
		p.Cure = "YAML is indented with blanks, never with tabs."
	default:
		// An expression that is not in quotes, with signs that YAML takes for its own.
		from, to := max(0, p.Line-3), min(p.Line+1, len(lines))
		if !yamlLine.MatchString(err.Error()) { // it does not say where
			from, to = 0, len(lines)
		}
		for i := to - 1; i >= from; i-- {
			if at := strings.Index(lines[i], "(="); at >= 0 && !inQuotes(lines[i], at) && strings.ContainsAny(lines[i][at+2:], "{}[],:#") {
				p.Line, p.Column = i+1, utf8.RuneCountInString(lines[i][:at])+1
				p.Cure = QuoteCure
				break
			}
		}
	}
	return p
}

// QuoteCure tells how an expression that YAML cuts is kept whole.
const QuoteCure = "Put the whole value in quotes, as '(= … )': without them YAML takes { } [ ] , : and # for its own signs."

func onlyComments(lines []string) bool {
	for _, l := range lines {
		if l = strings.TrimSpace(l); l != "" && l[0] != '#' && l != "---" {
			return false
		}
	}
	return true
}

// inQuotes tells whether a place of a line stands within quotes.
func inQuotes(line string, at int) bool {
	quote := byte(0)
	for i := range at {
		switch c := line[i]; {
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case c == quote:
			quote = 0
		}
	}
	return quote != 0
}

var plainTags = []string{"!!str", "!!int", "!!float", "!!bool", "!!null", "!!map", "!!seq", "!!timestamp", "!!merge"}

// plainNodes refuses what a document has no use for and what could make a
// small text very large.
func plainNodes(n *yaml.Node, depth int) *Problem {
	if depth > 64 {
		return &Problem{Severity: SeverityError, Line: n.Line, Column: n.Column, Message: "The document is nested deeper than 64 levels."}
	}
	if n.Tag != "" && !slices.Contains(plainTags, n.Tag) {
		return &Problem{Severity: SeverityError, Line: n.Line, Column: n.Column, Message: fmt.Sprintf("The tag %s means nothing here.", n.Tag), Cure: "Take it out, or put the value in quotes."}
	}
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		return &Problem{Severity: SeverityError, Line: n.Line, Column: n.Column, Message: "Anchors and aliases are not read here.", Cure: "Write the value out in both places."}
	}
	seen := map[string]bool{}
	for i, c := range n.Content {
		if n.Style&yaml.FlowStyle != 0 { // all in it is set so
			if c.Style |= yaml.FlowStyle; c.Kind == yaml.ScalarNode {
				c.Style &^= yaml.FlowStyle
			}
			if c.Tag == "!!null" && c.Value == "" {
				c.Value = "null" // which would be written as empty text
			}
		}
		if n.Kind == yaml.MappingNode && i%2 == 0 {
			if c.Kind != yaml.ScalarNode && c.Kind != yaml.AliasNode {
				return &Problem{Severity: SeverityError, Line: c.Line, Column: c.Column, Message: fmt.Sprintf("The name of a field is text; this is %s.", kindOf(c)), Cure: QuoteCure}
			}
			if seen[c.Value] {
				return &Problem{Severity: SeverityError, Line: c.Line, Column: c.Column, Message: fmt.Sprintf("%q stands here twice.", c.Value), Cure: "Keep one of them."}
			}
			seen[c.Value] = true
		}
		if p := plainNodes(c, depth+1); p != nil {
			return p
		}
	}
	return nil
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

var pathPart = regexp.MustCompile(`[^.\[\]]+|\[\d+\]`)

// Place finds the line and column of a path such as steps[2].settings.where.
// For a path that is not there it gives the nearest parent that is.
func (d *Document) Place(path string) (line, column int) {
	n := d.root
	for _, p := range pathPart.FindAllString(path, -1) {
		next := child(n, p)
		if next == nil {
			break
		}
		n = next
	}
	return n.Line, n.Column
}

func child(n *yaml.Node, part string) *yaml.Node {
	if strings.HasPrefix(part, "[") {
		i, _ := strconv.Atoi(strings.Trim(part, "[]"))
		if n.Kind == yaml.SequenceNode && i < len(n.Content) {
			return n.Content[i]
		}
		return nil
	}
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == part {
				return n.Content[i+1]
			}
		}
	}
	return nil
}

// At finds the node at a path, or nil.
func (d *Document) At(path string) *yaml.Node { return Under(d.root, path) }

// Under finds the node at a path that begins at n, or nil.
func Under(n *yaml.Node, path string) *yaml.Node {
	if n == nil {
		return nil
	}
	for _, p := range pathPart.FindAllString(path, -1) {
		if n = child(n, p); n == nil {
			return nil
		}
	}
	return n
}

// Encode writes the document, YAML or JSON as it was read, with its comments and
// order; lines that were not changed stay as a person set them.
func (d *Document) Encode() ([]byte, error) {
	s := styleOf(d.Text, d.json)
	out, err := s.write(d.root, d.Text)
	if err != nil {
		return out, err
	}
	// As we would write what was read. Of a hundred documents that are read one is
	// written, so that it is made here, of the text.
	before, err := ParseWithin(d.Text, len(d.Text))
	if err != nil {
		return out, nil //nolint:nilerr // it was not read from a text
	}
	read, err := s.write(before.root, d.Text)
	if err != nil {
		return out, nil //nolint:nilerr // nothing is carried over
	}
	if bytes.Equal(out, read) {
		return d.Text, nil
	}
	// What was carried over counts only if it reads as what was to be written.
	merged := carryOver(d.Text, read, out)
	if again, err := ParseWithin(merged, 2*len(merged)+1); err == nil {
		if same, err := s.write(again.root, d.Text); err == nil && bytes.Equal(same, out) {
			return merged, nil
		}
	}
	return out, nil
}
