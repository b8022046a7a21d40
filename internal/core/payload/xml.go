package payload

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strings"

	"golang.org/x/net/html/charset"

	"youngtrellis/internal/core/item"
)

const (
	// attribute stands before the name of an attribute, so that none takes the place of
	// an element.
	attribute = "@"
	// ownText is what an element says itself that has attributes or elements.
	ownText = "#text"
	// mostDeep bounds how deep elements stand in one another.
	mostDeep = 100
)

// readXML makes an item of a document: what stands in its outermost element. Elements
// and attributes are fields by their local names; an element that comes several times
// is a list; one with nothing but text is that text. Entities are those of XML itself:
// a document that declares its own is refused.
func readXML(text []byte, label string) ([]map[string]any, error) {
	known := label != "" || marked(text) // these go before what the document says (RFC 7303)
	var err error
	if text, err = utf8Of(text, label); err != nil {
		return nil, err
	}
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = func(name string, in io.Reader) (io.Reader, error) {
		if known {
			return in, nil
		}
		return charset.NewReaderLabel(name, in)
	}
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil, unread("the XML holds no element")
		}
		if err != nil {
			return nil, spoiled(err)
		}
		switch t := t.(type) {
		case xml.Directive:
			if strings.Contains(strings.ToUpper(string(t)), "ENTITY") {
				return nil, unread("the XML declares entities of its own, which are not taken")
			}
		case xml.CharData:
			if strings.Trim(string(t), " \t\r\n\ufeff") != "" {
				return nil, unread("the XML has text outside of its element")
			}
		case xml.StartElement:
			v, err := element(d, t, 1)
			if err == nil {
				err = nothingMore(d)
			}
			if err != nil {
				return nil, err
			}
			if m, ok := v.(map[string]any); ok {
				return []map[string]any{m}, nil
			}
			return []map[string]any{{"body": v}}, nil
		}
	}
}

func spoiled(err error) error {
	var own *Unread
	if errors.As(err, &own) {
		return err
	}
	return unread("the XML cannot be read: %s", item.StorableText(err.Error()))
}

// nothingMore holds that the document ends behind its element.
func nothingMore(d *xml.Decoder) error {
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return spoiled(err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			return unread("the XML has a second element %s behind its first", t.Name.Local)
		case xml.CharData:
			if strings.TrimSpace(string(t)) != "" {
				return unread("the XML has text behind its element")
			}
		}
	}
}

// element gives what an element holds: a text, or fields.
func element(d *xml.Decoder, start xml.StartElement, depth int) (any, error) {
	if depth > mostDeep {
		return nil, unread("the XML is deeper than %d elements", mostDeep)
	}
	out := newGathered()
	for _, a := range start.Attr {
		if a.Name.Space == "xmlns" || a.Name.Local == "xmlns" {
			continue
		}
		if err := out.add(attribute+a.Name.Local, a.Value); err != nil {
			return nil, err
		}
	}
	var text strings.Builder
	for {
		t, err := d.Token()
		if err != nil {
			return nil, spoiled(err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			v, err := element(d, t, depth+1)
			if err == nil {
				err = out.add(t.Name.Local, v)
			}
			if err != nil {
				return nil, err
			}
		case xml.CharData:
			text.Write(t)
		case xml.EndElement:
			own := text.String()
			if len(out.fields) == 0 {
				return own, checked(own)
			}
			if own = strings.TrimSpace(own); own != "" {
				return out.fields, out.add(ownText, own)
			}
			return out.fields, nil
		}
	}
}
