package item

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Address names an item within its run. Its bytes sort in item order, and each
// of its segments ends by itself:
//
//	root(n)                          the n-th trigger item
//	child(step, rounds, n)           after a step that can give several items for one: the n-th of them
//	group(step, rounds, edition, n)  alone, for one item of many: the n-th group of the list that pass opened
//
// Step is the step's lasting number, rounds those of the loops in which it
// stands.
type Address string

// Rounds are those of the loops in which something happens, from the outermost
// in. Their bytes sort in the order of the rounds; "" is outside of every loop.
type Rounds string

// Round is one time through the body of a loop.
type Round struct {
	Edition uint32 // the pass that began it
	N       uint32 // its number within that pass, from 0
}

// Tags of the segments. A round within a segment begins with more, the last is
// followed by none.
const (
	tagRoot  = 0x10
	tagChild = 0x20
	tagGroup = 0x30

	none = 0x00
	more = 0x01
)

// appendNumber writes a number so that the bytes sort as the numbers do and say
// how long they are.
func appendNumber(b []byte, n uint32) []byte {
	switch {
	case n < 0xf0:
		return append(b, byte(n))
	case n < 0xf0+0x800:
		n -= 0xf0
		return append(b, 0xf0+byte(n>>8), byte(n))
	case n < 1<<16:
		return append(b, 0xf8, byte(n>>8), byte(n))
	case n < 1<<24:
		return append(b, 0xf9, byte(n>>16), byte(n>>8), byte(n))
	}
	return append(b, 0xfa, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
}

// cutNumber reads what appendNumber wrote.
func cutNumber(s string) (n uint32, rest string, ok bool) {
	if s == "" {
		return 0, s, false
	}
	size := 0
	switch first := s[0]; {
	case first < 0xf0:
		return uint32(first), s[1:], true
	case first < 0xf8:
		if len(s) < 2 {
			return 0, s, false
		}
		return 0xf0 + uint32(first-0xf0)<<8 + uint32(s[1]), s[2:], true
	case first <= 0xfa:
		size = int(first-0xf8) + 2
	default:
		return 0, s, false
	}
	if len(s) < 1+size {
		return 0, s, false
	}
	for _, c := range []byte(s[1 : 1+size]) {
		n = n<<8 | uint32(c)
	}
	return n, s[1+size:], true
}

// Root is the address of the n-th trigger item.
func Root(n uint32) Address { return Address(appendNumber([]byte{tagRoot}, n)) }

// Child is the address of the n-th item that a step gave for a.
func (a Address) Child(step uint16, rounds Rounds, n uint32) Address {
	b := make([]byte, 0, len(a)+len(rounds)+8)
	b = append(append(b, a...), tagChild)
	b = appendNumber(b, uint32(step))
	b = append(append(b, rounds...), none)
	return Address(appendNumber(b, n))
}

// Group is the address of the n-th item that a step made of many, of the list
// that the pass edition opened.
func Group(step uint16, rounds Rounds, edition, n uint32) Address {
	b := appendNumber([]byte{tagGroup}, uint32(step))
	b = append(append(b, rounds...), none)
	return Address(appendNumber(appendNumber(b, edition), n))
}

// Add gives the rounds within a further loop.
func (r Rounds) Add(in Round) Rounds {
	b := append([]byte(r), more)
	return Rounds(appendNumber(appendNumber(b, in.Edition), in.N))
}

// cutRounds reads rounds up to the end of the text or a byte that is none.
func cutRounds(s string) (list []Round, rest string, ok bool) {
	for s != "" && s[0] == more {
		var r Round
		if r.Edition, s, ok = cutNumber(s[1:]); !ok {
			return nil, s, false
		}
		if r.N, s, ok = cutNumber(s); !ok {
			return nil, s, false
		}
		list = append(list, r)
	}
	return list, s, true
}

// List takes rounds apart.
func (r Rounds) List() []Round {
	list, _, _ := cutRounds(string(r))
	return list
}

// Depth is in how many loops the rounds stand.
func (r Rounds) Depth() int { return len(r.List()) }

// Out gives the rounds of the outermost loops, as many as depth.
func (r Rounds) Out(depth int) Rounds {
	var out Rounds
	for i, round := range r.List() {
		if i == depth {
			break
		}
		out = out.Add(round)
	}
	return out
}

// Segment is a part of an address.
type Segment struct {
	Step    uint16 // 0 for a trigger item
	Rounds  Rounds
	Group   bool
	Edition uint32 // of a group
	N       uint32
}

func (s Segment) root() bool { return s.Step == 0 && !s.Group }

// cutSegment takes the first segment off.
func cutSegment(a string) (s Segment, rest string, ok bool) {
	if a == "" {
		return s, a, false
	}
	tag := a[0]
	if rest = a[1:]; tag == tagRoot {
		s.N, rest, ok = cutNumber(rest)
		return s, rest, ok
	}
	if tag != tagChild && tag != tagGroup {
		return s, a, false
	}
	step, rest, ok := cutNumber(rest)
	if !ok || step == 0 && tag == tagChild || step > 0xffff {
		return s, a, false
	}
	before := rest
	if _, rest, ok = cutRounds(rest); !ok || rest == "" || rest[0] != none {
		return s, a, false
	}
	s = Segment{Step: uint16(step), Rounds: Rounds(before[:len(before)-len(rest)]), Group: tag == tagGroup}
	rest = rest[1:]
	if s.Group {
		if s.Edition, rest, ok = cutNumber(rest); !ok {
			return s, a, false
		}
	}
	s.N, rest, ok = cutNumber(rest)
	return s, rest, ok
}

// Segments takes an address apart; nil if it is none.
func (a Address) Segments() []Segment {
	var out []Segment
	for rest := string(a); rest != ""; {
		s, after, ok := cutSegment(rest)
		if !ok {
			return nil
		}
		out, rest = append(out, s), after
	}
	return out
}

// Head is the address that a begins with: a trigger item or a group.
func (a Address) Head() Address {
	_, rest, ok := cutSegment(string(a))
	if !ok {
		return a
	}
	return a[:len(a)-len(rest)]
}

// Made is the address of which the numbered step made a, within these rounds,
// or a itself if that step gave it no segment.
func (a Address) Made(step uint16, rounds Rounds) Address {
	for rest := string(a); rest != ""; {
		s, after, ok := cutSegment(rest)
		if !ok {
			break
		}
		if s.Step == step && s.Rounds == rounds && !s.Group {
			return a[:len(a)-len(rest)]
		}
		rest = after
	}
	return a
}

// Within tells whether a is b or descends from it, groups apart.
func (a Address) Within(b Address) bool { return strings.HasPrefix(string(a), string(b)) }

// String writes the address for people and URLs: "0", "0-2.7" for the item with
// ordinal 7 that step 2 gave for trigger item 0, "0-2_1.4.7" where that was in
// round 4 of pass 1, and "g3.1.0" for the first group that step 3 made in pass 1.
// "g0.1.0" is the item with which the steps begin that are done when pass 1 fails.
func (a Address) String() string {
	list := a.Segments()
	if len(list) == 0 || !list[0].root() && !list[0].Group {
		return fmt.Sprintf("invalid(%x)", string(a))
	}
	var out strings.Builder
	for i, s := range list {
		if i > 0 {
			out.WriteByte('-')
		}
		if s.Group {
			out.WriteByte('g')
		}
		if s.Step > 0 || s.Group {
			fmt.Fprintf(&out, "%d%s.", s.Step, s.Rounds)
		}
		if s.Group {
			fmt.Fprintf(&out, "%d.", s.Edition)
		}
		out.WriteString(strconv.FormatUint(uint64(s.N), 10))
	}
	return out.String()
}

// String writes rounds for people and URLs, each as _PASS.ROUND.
func (r Rounds) String() string {
	var out strings.Builder
	for _, x := range r.List() {
		fmt.Fprintf(&out, "_%d.%d", x.Edition, x.N)
	}
	return out.String()
}

// ParseRounds reads what Rounds.String wrote.
func ParseRounds(s string) (Rounds, error) {
	if s == "" {
		return "", nil
	}
	wrong := fmt.Errorf("%q is no round; one is written _PASS.ROUND, as in _1.4", s)
	if s[0] != '_' {
		return "", wrong
	}
	var out Rounds
	for _, p := range strings.Split(s[1:], "_") {
		n, ok := numbers(p, 2)
		if !ok {
			return "", wrong
		}
		out = out.Add(Round{n[0], n[1]})
	}
	return out, nil
}

// ParseAddress reads what String wrote.
func ParseAddress(s string) (Address, error) {
	var a Address
	for i, p := range strings.Split(s, "-") {
		next, ok := parseSegment(a, p, i == 0)
		if !ok {
			return "", fmt.Errorf("%q is not an item's address (at %q): it begins with the number of a trigger item or with a group, and goes on with STEP.ORDINAL, as in 0, 0-2.7 or g3.1.0", s, p)
		}
		a = next
	}
	return a, nil
}

// segmentForm is a segment as String writes it: whether it is a group, the step,
// its rounds, and its numbers.
var segmentForm = regexp.MustCompile(`^(g?)(\d+)((?:_\d+\.\d+)*)\.((?:\d+\.)?\d+)$`)

func parseSegment(a Address, p string, first bool) (Address, bool) {
	if n, ok := numbers(p, 1); ok && first {
		return Root(n[0]), true
	}
	m := segmentForm.FindStringSubmatch(p)
	if m == nil || first != (m[1] == "g") {
		return "", false
	}
	step, ok := numbers(m[2], 1)
	rounds, err := ParseRounds(m[3])
	if !ok || err != nil || step[0] == 0 && (!first || rounds != "") || step[0] > 0xffff {
		return "", false
	}
	if first {
		n, ok := numbers(m[4], 2)
		return Group(uint16(step[0]), rounds, or(n, 0), or(n, 1)), ok
	}
	n, ok := numbers(m[4], 1)
	return a.Child(uint16(step[0]), rounds, or(n, 0)), ok
}

// or gives a number of a list, and 0 beyond its end.
func or(list []uint32, i int) uint32 {
	if i < len(list) {
		return list[i]
	}
	return 0
}

// numbers reads so many numbers with dots between them, as they are written here
// and in no other form.
func numbers(s string, want int) ([]uint32, bool) {
	parts := strings.Split(s, ".")
	if len(parts) != want {
		return nil, false
	}
	out := make([]uint32, want)
	for i, p := range parts {
		n, err := strconv.ParseUint(p, 10, 32)
		if err != nil || strconv.FormatUint(n, 10) != p {
			return nil, false
		}
		out[i] = uint32(n)
	}
	return out, true
}
