package workflow

import (
	"fmt"

	"youngtrellis/internal/core/document"
)

// Renamed is a document of the same workflow under another name; all else stays as it
// was written.
func Renamed(text []byte, name string) ([]byte, error) {
	if !ValidName(name) {
		return nil, fmt.Errorf("%q cannot be the name of a workflow: small letters, digits and hyphens, beginning with a letter", name)
	}
	doc, err := document.Parse(text)
	if err != nil {
		return nil, err
	}
	if err := doc.Set("", "name", name); err != nil {
		return nil, err
	}
	return doc.Encode()
}
