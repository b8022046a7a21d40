package workflow

import (
	"fmt"
	"reflect"
	"strings"

	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/document"
)

// Edit is one change to a draft. Op says which:
//
//	set      Key of the step (or of the workflow, without Step) becomes Value; nil removes it
//	trigger  Key of the trigger becomes Value
//	insert   Value, a step, is put at place To of the steps In; into a branch itself, Value is a case
//	paste    Value, text of steps, is put there, or of cases, beside the case Step or into
//	         the branch Step; what is called as another is renamed
//	remove   the step is taken out, with all that stands in it
//	move     the step goes to place To of the steps In, or of those where it stands
//	rename   the step gets the name Value; references follow
//
// Step can be a case too, as STEP/CASE: it can be set, renamed, removed, and
// moved within its branch. STEP/else, STEP/fallback and /on_failure can be removed.
type Edit struct {
	Op   string `json:"op"`
	Step string `json:"step,omitempty"`
	Key  string `json:"key,omitempty"`
	To   int    `json:"to,omitempty"`
	// In names the steps within a step: STEP, or STEP/CASE where it has cases, or
	// STEP/fallback. "/on_failure" are those for when a run fails, "/" the
	// workflow's own; so is "", but for a move, where it is where the step stands.
	In    string `json:"in,omitempty"`
	Value any    `json:"value,omitempty"`
	// Seen is what stood at the place of a set or trigger when the edit was made.
	Seen *Seen `json:"seen,omitempty"`
}

// Seen is a value that stood somewhere; nil is nothing.
type Seen struct {
	Value any `json:"value"`
}

// Overtaken lists the edits at whose places something else stands now than was
// seen, or nothing at all since their step is gone: somebody else was there in
// between. Edits that tell nothing of what was seen are not among them.
func Overtaken(text []byte, edits []Edit) ([]Edit, error) {
	doc, err := document.Parse(text)
	if err != nil {
		return nil, err
	}
	var out []Edit
	for _, e := range edits {
		if e.Seen == nil {
			continue
		}
		path := e.Key
		switch {
		case e.Op == "trigger":
			path = "trigger." + e.Key
		case e.Step != "":
			list, at, ok := locate(doc, e.Step)
			if !ok {
				out = append(out, e)
				continue
			}
			path = fmt.Sprintf("%s[%d].%s", list, at, e.Key)
		}
		var stands any
		if n := doc.At(path); n != nil {
			stands = document.Value(n)
		}
		if !reflect.DeepEqual(stands, e.Seen.Value) && !reflect.DeepEqual(stands, e.Value) {
			out = append(out, e)
		}
	}
	return out, nil
}

// Apply makes the edits in the text, keeping comments and order, and tells in
// how many places references followed. None is made if one of them cannot be.
func Apply(text []byte, edits []Edit) (out []byte, followed int, err error) {
	doc, err := document.Parse(text)
	if err != nil {
		return nil, 0, err
	}
	for i, e := range edits {
		n, err := apply(doc, e)
		if err != nil {
			return nil, 0, fmt.Errorf("edit %d, %s: %w", i+1, e.Op, err)
		}
		followed += n
	}
	out, err = doc.Encode()
	return out, followed, err
}

func apply(doc *document.Document, e Edit) (followed int, err error) {
	switch {
	case e.Op == "set" && e.Step == "":
		return 0, setDeep(doc, "", e.Key, e.Value)
	case e.Op == "trigger":
		return 0, setDeep(doc, "trigger", e.Key, e.Value)
	case e.Op == "insert":
		return 0, insert(doc, e)
	case e.Op == "paste":
		return paste(doc, e)
	case e.Op == "remove" && isBlock(e.Step):
		if done, err := removeBlock(doc, e.Step); done || err != nil {
			return 0, err
		}
	}
	list, at, ok := locate(doc, e.Step)
	if !ok {
		return 0, fmt.Errorf("there is no step %q", e.Step)
	}
	path := fmt.Sprintf("%s[%d]", list, at)
	switch e.Op {
	case "set":
		if e.Key == "name" { // what reads it follows
			return rename(doc, list, at, e)
		}
		return 0, setDeep(doc, path, e.Key, e.Value)
	case "remove":
		_, err := doc.Remove(list, at)
		return 0, err
	case "move":
		return 0, move(doc, list, at, e)
	case "rename":
		return rename(doc, list, at, e)
	}
	return 0, fmt.Errorf("the operation %q is not known; there are set, trigger, insert, paste, remove, move and rename", e.Op)
}

// move takes a step out and puts it where it belongs now. The place is counted
// without the step itself.
func move(doc *document.Document, list string, at int, e Edit) error {
	if isBlock(e.Step) && e.In != "" {
		return fmt.Errorf("a case stays in its branch; copy it, and paste it into the other")
	}
	if e.In == e.Step || strings.HasPrefix(e.In, e.Step+"/") {
		return fmt.Errorf("a step cannot be moved into itself")
	}
	if e.In != "" {
		if _, err := container(doc, e.In); err != nil {
			return err
		}
	}
	n, err := doc.Remove(list, at)
	if err != nil {
		return err
	}
	if e.In != "" { // its path may have changed
		if list, err = container(doc, e.In); err != nil {
			return err
		}
	}
	return doc.Insert(list, e.To, n)
}

// top names the workflow's own steps where a step is moved out of another.
const top = "/"

// container finds the list of steps that In names, and makes it where it is
// not there yet.
func container(doc *document.Document, in string) (string, error) {
	switch in {
	case top, "":
		return list(doc, "", "steps")
	case top + OnFailureBlock:
		return list(doc, "", OnFailureBlock)
	}
	name, block, _ := strings.Cut(in, "/")
	at, i, ok := locate(doc, name)
	if !ok {
		return "", fmt.Errorf("there is no step %q", name)
	}
	path := fmt.Sprintf("%s[%d]", at, i)
	for _, b := range blocks(doc, path) {
		if b.Name == block {
			parent, key := path, b.Place
			if i := strings.LastIndexByte(b.Place, '.'); i >= 0 {
				parent, key = parent+"."+b.Place[:i], b.Place[i+1:]
			}
			return list(doc, parent, key)
		}
	}
	if block == FallbackBlock {
		if doc.At(path+".on_error") == nil {
			if err := doc.Set(path, "on_error", OnErrorFallback); err != nil {
				return "", err
			}
		}
		return list(doc, path, FallbackBlock)
	}
	if block == "else" {
		return list(doc, path+".settings", "else")
	}
	if block == "" && doc.At(path+".settings") == nil { // a loop with nothing said of it yet
		if err := doc.Set(path, "settings", map[string]any{}); err != nil {
			return "", err
		}
		return list(doc, path+".settings", "steps")
	}
	return "", fmt.Errorf("the step %q has no steps %q in it", name, block)
}

// list makes sure that there is a list, and gives its path.
func list(doc *document.Document, parent, key string) (string, error) {
	path := strings.TrimPrefix(parent+"."+key, ".")
	if n := doc.At(path); n == nil || n.Kind != yaml.SequenceNode {
		if err := doc.Set(parent, key, []any{}); err != nil {
			return "", err
		}
	}
	return path, nil
}

// blocks lists the steps within the step at a path.
func blocks(doc *document.Document, path string) []*Block { return blocksOf(sketch(doc.At(path))) }

// sketch reads of a step, which may not be finished, what tells which steps
// stand in it.
func sketch(n *yaml.Node) *Step {
	s := &Step{}
	if n == nil {
		return s
	}
	step, _ := document.Value(n).(map[string]any)
	s.Type, _ = step["type"].(string)
	s.Settings, _ = step["settings"].(map[string]any)
	if step["fallback"] != nil {
		s.Fallback = []Step{}
	}
	return s
}

// setDeep sets a key such as settings.where, making the objects on the way.
func setDeep(doc *document.Document, path, key string, value any) error {
	for {
		head, rest, deeper := strings.Cut(key, ".")
		if !deeper {
			return doc.Set(path, key, value)
		}
		if head == "" {
			return fmt.Errorf("%q is not a key", key)
		}
		inner := strings.TrimPrefix(path+"."+head, ".")
		if n := doc.At(inner); n == nil || n.Kind != yaml.MappingNode {
			if value == nil {
				return nil
			}
			if err := doc.Set(path, head, map[string]any{}); err != nil {
				return err
			}
		}
		path, key = inner, rest
	}
}

func insert(doc *document.Document, e Edit) error {
	value, ok := e.Value.(map[string]any)
	if !ok {
		return fmt.Errorf("a step is an object")
	}
	name, _ := value["name"].(string)
	if cases, ok := casesOf(doc, e.In); ok {
		return insertCase(doc, cases, e, name, value)
	}
	if !stepName.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a step", name)
	}
	for _, inner := range append(stepNames(document.Node(e.Value)), name) {
		if _, _, taken := locate(doc, inner); taken {
			return fmt.Errorf("there is a step %q already", inner)
		}
	}
	path, err := container(doc, e.In)
	if err != nil {
		return err
	}
	return doc.Insert(path, e.To, document.Node(value))
}

// locate finds a step by name, or a case as STEP/CASE: the list in which it
// stands, and its place there.
func locate(doc *document.Document, name string) (list string, at int, ok bool) {
	if of, name, ok := strings.Cut(name, "/"); ok {
		return locateCase(doc, of, name)
	}
	for _, in := range []string{"steps", OnFailureBlock} {
		if list, at, ok = locateIn(doc, in, name); ok {
			return list, at, true
		}
	}
	return "", 0, false
}

func locateIn(doc *document.Document, list, name string) (string, int, bool) {
	n := doc.At(list)
	if n == nil || n.Kind != yaml.SequenceNode {
		return "", 0, false
	}
	for i, step := range n.Content {
		if scalar(step, "name") == name {
			return list, i, true
		}
		path := fmt.Sprintf("%s[%d]", list, i)
		for _, b := range blocks(doc, path) {
			if in, at, ok := locateIn(doc, path+"."+b.Place, name); ok {
				return in, at, true
			}
		}
	}
	return "", 0, false
}

func scalar(n *yaml.Node, key string) string {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1].Value
		}
	}
	return ""
}

// stepNames lists the names of the steps that stand within a step.
func stepNames(n *yaml.Node) []string {
	var out []string
	for _, c := range n.Content {
		if c.Kind == yaml.SequenceNode {
			for _, s := range c.Content {
				if s.Kind == yaml.MappingNode && scalar(s, "type") != "" && scalar(s, "name") != "" {
					out = append(out, scalar(s, "name"))
				}
			}
		}
		out = append(out, stepNames(c)...)
	}
	return out
}
