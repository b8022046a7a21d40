package item

import (
	"errors"
	"fmt"
	"regexp"
)

// File is a reference to content that is kept apart from the item's fields. In
// fields it is an object with exactly the keys file, name, type and size.
type File struct {
	ID   string // sha256- and the content's hash in hexadecimal
	Name string // base name
	Type string // media type (RFC 2046)
	Size int64  // bytes
}

// MaxFile is the largest file, in bytes.
const MaxFile = 2 << 30

var fileID = regexp.MustCompile(`^sha256-[0-9a-f]{64}$`)

// Value gives the file as it stands in fields.
func (f *File) Value() map[string]any {
	return map[string]any{"file": f.ID, "name": f.Name, "type": f.Type, "size": f.Size}
}

// AsFile reads a file back from a field's value.
func AsFile(v any) (*File, bool) {
	m, ok := v.(map[string]any)
	if !ok || len(m) != 4 {
		return nil, false
	}
	f := &File{}
	if f.ID, ok = m["file"].(string); !ok || !fileID.MatchString(f.ID) {
		return nil, false
	}
	if f.Name, ok = m["name"].(string); !ok {
		return nil, false
	}
	if f.Type, ok = m["type"].(string); !ok {
		return nil, false
	}
	f.Size, ok = m["size"].(int64)
	return f, ok
}

// ErrFileGone says that a file's content is not kept any more.
var ErrFileGone = errors.New("its content is not kept any more")

// Bytes words a size.
func Bytes(n int64) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d bytes", n)
	case n < 1_000_000:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	case n < 1_000_000_000:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
	return fmt.Sprintf("%.2f GB", float64(n)/1e9)
}
