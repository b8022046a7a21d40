package connector

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"golang.org/x/net/html/charset"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

const (
	maxXMLDepth      = 128
	maxXMLAttributes = 256
)

// decodeXML reads XML as a value: an element becomes an object of its children
// by their local names, repeated ones a list; attributes are "@name", text
// beside them "#text"; an element with text alone is that text. Document types
// are refused, so that nothing can be expanded or fetched.
func decodeXML(b []byte) (any, error) {
	d := xml.NewDecoder(bytes.NewReader(b))
	d.CharsetReader = charset.NewReaderLabel
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil, errors.New("the XML holds no element")
		}
		if err != nil {
			return nil, err
		}
		switch t := t.(type) {
		case xml.Directive:
			return nil, errors.New("the XML declares a document type, which is not read")
		case xml.StartElement:
			v, err := element(d, t, 0)
			return map[string]any{t.Name.Local: v}, err
		}
	}
}

func element(d *xml.Decoder, start xml.StartElement, depth int) (any, error) {
	if depth > maxXMLDepth || len(start.Attr) > maxXMLAttributes {
		return nil, fmt.Errorf("the XML is nested deeper than %d levels, or an element has more than %d attributes", maxXMLDepth, maxXMLAttributes)
	}
	fields := map[string]any{}
	for _, a := range start.Attr {
		if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" {
			fields["@"+a.Name.Local] = a.Value
		}
	}
	var text strings.Builder
	for {
		t, err := d.Token()
		if err != nil {
			return nil, err
		}
		switch t := t.(type) {
		case xml.Directive:
			return nil, errors.New("the XML declares a document type, which is not read")
		case xml.CharData:
			text.Write(t)
		case xml.StartElement:
			v, err := element(d, t, depth+1)
			if err != nil {
				return nil, err
			}
			switch known := fields[t.Name.Local].(type) {
			case nil:
				if _, ok := fields[t.Name.Local]; !ok {
					fields[t.Name.Local] = v
				} else {
					fields[t.Name.Local] = []any{nil, v}
				}
			case []any:
				fields[t.Name.Local] = append(known, v)
			default:
				fields[t.Name.Local] = []any{known, v}
			}
		case xml.EndElement:
			s := strings.TrimSpace(text.String())
			switch {
			case len(fields) == 0 && s == "":
				return nil, nil
			case len(fields) == 0:
				return s, nil
			case s != "":
				fields["#text"] = s
			}
			return fields, nil
		}
	}
}

// encodeXML writes what decodeXML would read as such.
func encodeXML(v any) ([]byte, error) {
	m, ok := v.(map[string]any)
	if !ok || len(m) != 1 {
		return nil, fmt.Errorf("an XML body is an object with one outermost element, not %s", item.Kind(v))
	}
	var b bytes.Buffer
	b.WriteString(xml.Header)
	e := xml.NewEncoder(&b)
	for name, v := range m {
		if err := encodeElement(e, name, v); err != nil {
			return nil, err
		}
	}
	if err := e.Flush(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

func encodeElement(e *xml.Encoder, name string, v any) error {
	if list, ok := v.([]any); ok {
		for _, one := range list {
			if err := encodeElement(e, name, one); err != nil {
				return err
			}
		}
		return nil
	}
	if name == "" || strings.ContainsAny(name, " \t\r\n<>&\"'/=") {
		return fmt.Errorf("%q cannot be the name of an element", name)
	}
	start := xml.StartElement{Name: xml.Name{Local: name}}
	m, ok := v.(map[string]any)
	for _, k := range sortedKeys(m) {
		if strings.HasPrefix(k, "@") {
			start.Attr = append(start.Attr, xml.Attr{Name: xml.Name{Local: k[1:]}, Value: expr.Text(m[k])})
		}
	}
	if err := e.EncodeToken(start); err != nil {
		return err
	}
	if !ok {
		if err := e.EncodeToken(xml.CharData(expr.Text(v))); err != nil {
			return err
		}
	}
	for _, k := range sortedKeys(m) {
		switch {
		case k == "#text":
			if err := e.EncodeToken(xml.CharData(expr.Text(m[k]))); err != nil {
				return err
			}
		case !strings.HasPrefix(k, "@"):
			if err := encodeElement(e, k, m[k]); err != nil {
				return err
			}
		}
	}
	return e.EncodeToken(start.End())
}
