package document

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/item"
)

// IsJSON tells whether a text is meant as JSON: an object whose first name stands
// in double quotes, or a list of such.
func IsJSON(text []byte) bool {
	rest := bytes.TrimLeft(bytes.TrimPrefix(text, []byte("\ufeff")), " \t\r\n[")
	if len(rest) == 0 || rest[0] != '{' {
		return false
	}
	rest = bytes.TrimLeft(rest[1:], " \t\r\n")
	if len(rest) == 0 || rest[0] == '"' || bytes.HasPrefix(rest, []byte("//")) || bytes.HasPrefix(rest, []byte("/*")) {
		return true
	}
	return rest[0] == '}'
}

// jsonReader makes nodes of JSON (RFC 8259), with the places of its values.
type jsonReader struct {
	*jsontext.Decoder
	text []byte
	// The last place asked for, from which the next is counted on: text from a program
	// is often a single line of megabytes.
	at, line, column int
}

// JSON reads JSON (RFC 8259) as nodes with their places. The error is a Problem.
func JSON(text []byte) (*yaml.Node, error) {
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	r := &jsonReader{Decoder: jsontext.NewDecoder(bytes.NewBuffer(text), jsontext.AllowDuplicateNames(true)), text: text, line: 1, column: 1}
	n, err := r.node()
	if err == nil {
		if rest := bytes.TrimLeft(text[r.InputOffset():], " \t\r\n"); len(rest) > 0 {
			p := r.problem(len(text)-len(rest), "More text follows after the end of the JSON value.", "Put one document in a file.")
			return nil, p
		}
		return n, nil
	}
	var deep Problem
	if errors.As(err, &deep) {
		return nil, deep
	}
	return nil, r.explain(err)
}

func (r *jsonReader) problem(offset int, message, cure string) Problem {
	line, column := r.place(offset)
	return Problem{Severity: SeverityError, Line: line, Column: column, Message: message, Cure: cure}
}

// place counts on from the last place, or from the start where it lies before.
func (r *jsonReader) place(offset int) (line, column int) {
	offset = max(0, min(offset, len(r.text)))
	if offset < r.at {
		r.at, r.line, r.column = 0, 1, 1
	}
	between := r.text[r.at:offset]
	if lines := bytes.Count(between, []byte("\n")); lines > 0 {
		r.line, r.column = r.line+lines, 1
		between = between[bytes.LastIndexByte(between, '\n')+1:]
	}
	r.at, r.column = offset, r.column+utf8.RuneCount(between)
	return r.line, r.column
}

// explain says what is wrong with JSON, and what people mean by it most.
func (r *jsonReader) explain(err error) error {
	offset := int(r.InputOffset())
	var syntax *jsontext.SyntacticError
	if errors.As(err, &syntax) {
		offset, err = int(syntax.ByteOffset), syntax.Err
	}
	rest := bytes.TrimLeft(r.text[min(offset, len(r.text)):], " \t\r\n,")
	before := bytes.TrimRight(r.text[:min(offset, len(r.text))], " \t\r\n")
	message, cure := "This is not JSON: "+fmt.Sprint(err)+".", ""
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		message, cure = "The JSON ends in the middle of a value.", "Close every bracket and quote."
	case bytes.HasPrefix(rest, []byte("//")), bytes.HasPrefix(rest, []byte("/*")):
		message, cure = "JSON has no comments.", "Take it out, or write the document as YAML, where they begin with #."
	case bytes.HasSuffix(before, []byte(",")) && len(rest) > 0 && (rest[0] == '}' || rest[0] == ']'),
		len(rest) > 0 && (rest[0] == '}' || rest[0] == ']') && bytes.Contains(bytes.TrimLeft(r.text[min(offset, len(r.text)):], " \t\r\n")[:1], []byte(",")):
		message, cure = "A comma stands before the closing bracket.", "Take the comma out."
	case len(rest) > 0 && rest[0] == '\'':
		message, cure = "Text in JSON stands in double quotes.", ""
	case strings.Contains(fmt.Sprint(err), "invalid UTF-8"):
		message, cure = "The text is not valid UTF-8.", "Save it as UTF-8."
	case strings.Contains(fmt.Sprint(err), "escape"):
		message, cure = "A backslash stands before a sign that needs none.", `JSON knows \" \\ \/ \b \f \n \r \t and \u with four signs of 0 to 9 and a to f.`
	case len(rest) > 0:
		sign, _ := utf8.DecodeRune(rest)
		message = fmt.Sprintf("This is not JSON: “%c”", sign) + notHere
	}
	return r.problem(len(r.text)-len(rest), message, cure)
}

const (
	deepest = 64
	notHere = " does not belong here."
)

func (r *jsonReader) node() (*yaml.Node, error) {
	if r.StackDepth() > deepest {
		return nil, r.problem(int(r.InputOffset()), fmt.Sprintf("The document is nested deeper than %d levels.", deepest), "")
	}
	start := int(r.InputOffset())
	for start < len(r.text) && strings.IndexByte(" \t\r\n,:", r.text[start]) >= 0 {
		start++
	}
	n := &yaml.Node{}
	n.Line, n.Column = r.place(start)
	t, err := r.ReadToken()
	if err != nil {
		return nil, err
	}
	switch t.Kind() {
	case '{', '[':
		n.Kind, n.Tag, n.Style = yaml.MappingNode, "!!map", yaml.FlowStyle
		end := jsontext.Kind('}')
		if t.Kind() == '[' {
			n.Kind, n.Tag, end = yaml.SequenceNode, "!!seq", ']'
		}
		for r.PeekKind() != end { // names and values come in turn
			c, err := r.node()
			if err != nil {
				return nil, err
			}
			n.Content = append(n.Content, c)
		}
		_, err = r.ReadToken()
		return n, err
	case '"':
		n.Kind, n.Tag, n.Style, n.Value = yaml.ScalarNode, "!!str", yaml.DoubleQuotedStyle, t.String()
	case '0':
		n.Kind, n.Tag, n.Value = yaml.ScalarNode, "!!float", t.String()
		if !strings.ContainsAny(n.Value, ".eE") {
			n.Tag = "!!int"
		}
	case 't', 'f':
		n.Kind, n.Tag, n.Value = yaml.ScalarNode, "!!bool", strconv.FormatBool(t.Bool())
	default:
		n.Kind, n.Tag, n.Value = yaml.ScalarNode, "!!null", "null"
	}
	return n, nil
}

// writeJSON writes nodes as JSON in their order.
func writeJSON(out *bytes.Buffer, n *yaml.Node, indent, prefix string) {
	open, end := byte('['), byte(']')
	step := 1
	switch n.Kind {
	case yaml.MappingNode:
		open, end, step = '{', '}', 2
	case yaml.SequenceNode:
	default:
		b, err := item.Encode(Value(n))
		if err != nil || n.Tag == "!!int" || n.Tag == "!!float" {
			if _, text := Value(n).(string); !text {
				b = []byte(n.Value)
			}
		}
		out.Write(b)
		return
	}
	out.WriteByte(open)
	for i := 0; i < len(n.Content); i += step {
		if i > 0 {
			out.WriteByte(',')
		}
		if indent != "" {
			out.WriteString("\n" + prefix + indent)
		}
		if step == 2 {
			out.Write(item.AppendText(nil, n.Content[i].Value))
			out.WriteString(": ")
		}
		writeJSON(out, n.Content[i+step-1], indent, prefix+indent)
	}
	if indent != "" && len(n.Content) > 0 {
		out.WriteString("\n" + prefix)
	}
	out.WriteByte(end)
}
