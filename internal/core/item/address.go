package item

import (
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
)

// Address names an item within its run. Its bytes sort in item order: first
// the ordinal of the trigger item (4 bytes, big-endian), then for each step
// that gave several items the step's number (2 bytes) and the ordinal among
// them (4 bytes).
type Address string

// Root is the address of the n-th trigger item.
func Root(n uint32) Address {
	var b [4]byte
	binary.BigEndian.PutUint32(b[:], n)
	return Address(b[:])
}

// Child is the address of the n-th item that the numbered step gave for a.
func (a Address) Child(step uint16, n uint32) Address {
	b := make([]byte, 0, len(a)+6)
	b = append(b, a...)
	b = binary.BigEndian.AppendUint16(b, step)
	b = binary.BigEndian.AppendUint32(b, n)
	return Address(b)
}

// Ordinal is the ordinal of the trigger item that a descends from.
func (a Address) Ordinal() uint32 {
	if len(a) < 4 {
		return 0
	}
	return binary.BigEndian.Uint32([]byte(a[:4]))
}

// Within tells whether a is b or descends from it.
func (a Address) Within(b Address) bool { return strings.HasPrefix(string(a), string(b)) }

// String writes the address for people and URLs: "0", or "0-2.7" for the item
// with ordinal 7 that step number 2 gave for trigger item 0.
func (a Address) String() string {
	if len(a) < 4 || (len(a)-4)%6 != 0 {
		return fmt.Sprintf("invalid(%x)", string(a))
	}
	var s strings.Builder
	s.WriteString(strconv.FormatUint(uint64(a.Ordinal()), 10))
	for b := []byte(a[4:]); len(b) > 0; b = b[6:] {
		fmt.Fprintf(&s, "-%d.%d", binary.BigEndian.Uint16(b), binary.BigEndian.Uint32(b[2:]))
	}
	return s.String()
}

// ParseAddress reads what String wrote.
func ParseAddress(s string) (Address, error) {
	parts := strings.Split(s, "-")
	n, err := strconv.ParseUint(parts[0], 10, 32)
	if err != nil {
		return "", fmt.Errorf("%q is not an item's address: it begins with the number of a trigger item, as in 0 or 0-2.7", s)
	}
	a := Root(uint32(n))
	for _, p := range parts[1:] {
		step, ordinal, _ := strings.Cut(p, ".")
		sn, err1 := strconv.ParseUint(step, 10, 16)
		on, err2 := strconv.ParseUint(ordinal, 10, 32)
		if err1 != nil || err2 != nil {
			return "", fmt.Errorf("%q is not an item's address: %q is not STEP.ORDINAL", s, p)
		}
		a = a.Child(uint16(sn), uint32(on))
	}
	return a, nil
}

// Before is the address of the item that the numbered step made a from, or a
// itself if that step is not on its way.
func (a Address) Before(step uint16) Address {
	for i := 4; i+6 <= len(a); i += 6 {
		if binary.BigEndian.Uint16([]byte(a[i:])) == step {
			return a[:i]
		}
	}
	return a
}
