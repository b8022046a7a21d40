package document

import (
	"bytes"
	"strings"

	"go.yaml.in/yaml/v3"
)

// style is how a person sets a document, as far as writing it again can follow.
type style struct {
	json    bool
	indent  int
	compact bool // lists stand no deeper than their key
}

// styleOf reads the style off a text.
func styleOf(text []byte, json bool) style {
	s := style{json: json, indent: 2}
	lines := strings.Split(string(text), "\n")
	depth := func(l string) int { return len(l) - len(strings.TrimLeft(l, " ")) }
	foundIndent, foundList := false, false
	for i, l := range lines[:max(0, len(lines)-1)] {
		l = strings.TrimRight(l, " \r")
		next := lines[i+1]
		below := strings.TrimLeft(next, " ")
		opens := strings.HasSuffix(l, ":") || json && (strings.HasSuffix(l, "{") || strings.HasSuffix(l, "["))
		if !opens || strings.TrimSpace(below) == "" || below[0] == '#' || strings.HasPrefix(strings.TrimSpace(l), "#") {
			continue
		}
		deeper := depth(next) - depth(l)
		if strings.HasPrefix(strings.TrimLeft(l, " "), "- ") && !json {
			deeper -= 2 // a key after the dash stands two places in
		}
		switch list := strings.HasPrefix(below, "- "); {
		case list && !foundList:
			s.compact, foundList = deeper == 0, true
			if deeper > 0 && !foundIndent {
				s.indent, foundIndent = deeper, true
			}
		case !list && deeper > 0 && !foundIndent:
			s.indent, foundIndent = deeper, true
		}
	}
	s.indent = max(1, min(s.indent, 8))
	return s
}

// write writes nodes in a style.
func (s style) write(n *yaml.Node, text []byte) ([]byte, error) {
	if s.json {
		var out bytes.Buffer
		indent := strings.Repeat(" ", s.indent)
		if !bytes.Contains(bytes.TrimSpace(text), []byte("\n")) {
			indent = ""
		}
		writeJSON(&out, n, indent, "")
		out.WriteByte('\n')
		return out.Bytes(), nil
	}
	return encode(n, max(2, s.indent), s.compact)
}

// carryOver makes in a person's text the changes between two writings of it by
// us, so that all lines that nobody changed stay as they were set. What cannot be
// carried over is as we write it.
func carryOver(text, before, after []byte) []byte {
	crlf := bytes.Contains(text, []byte("\r\n"))
	theirs, base, ours := linesOf(text), linesOf(before), linesOf(after)
	at := boundaries(base, theirs)
	var out []string
	done := 0 // lines of theirs that were taken over
	codes := align(base, ours)
	for i := 0; i < len(codes); i++ {
		c := codes[i]
		if c.same {
			continue
		}
		from, to, j1, j2 := c.i1, c.i2, c.j1, c.j2
		// Wider, until both ends stand where both texts are the same, or at an end.
		for from > 0 && at[from].last < 0 {
			from, j1 = from-1, j1-1
		}
		for {
			for to < len(base) && at[to].first < 0 {
				to, j2 = to+1, j2+1
			}
			if i+1 < len(codes) && !codes[i+1].same && codes[i+1].i1 <= to || i+2 < len(codes) && !codes[i+2].same && codes[i+2].i1 < to {
				i++
				if codes[i].same {
					i++
				}
				to, j2 = max(to, codes[i].i2), codes[i].j2+max(0, to-codes[i].i2)
				continue
			}
			break
		}
		start, end := at[from].last, at[to].first
		if from == to { // what comes new stands below blank lines and comments that were above
			end = start
		}
		if start < done || end < start {
			return after
		}
		for j1 == j2 && start > 0 && end < len(theirs) && blank(theirs[start-1]) && blank(theirs[end]) {
			end++ // of the blank lines above and below what is taken out, those above stay
		}
		out = append(out, theirs[done:start]...)
		out = append(out, ours[j1:j2]...)
		done = end
	}
	out = append(out, theirs[done:]...)
	merged := []byte(strings.Join(out, ""))
	if crlf {
		merged = bytes.ReplaceAll(merged, []byte("\n"), []byte("\r\n"))
	}
	return merged
}

// stretch is a part of two texts that are the same there, or are not.
type stretch struct {
	i1, i2, j1, j2 int
	same           bool
}

// ahead is how far a line is looked for where two texts differ. They come from
// the same document in the same order, so that differences are near each other.
const ahead = 200

// align divides two texts into stretches, in time that grows with their length.
func align(a, b []string) (out []stretch) {
	tail := 0
	for tail < min(len(a), len(b)) && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	add := func(s stretch) {
		if s.i2 > s.i1 || s.j2 > s.j1 {
			out = append(out, s)
		}
	}
	i, j := 0, 0
	for endA, endB := len(a)-tail, len(b)-tail; i < endA || j < endB; {
		k := 0
		for i+k < endA && j+k < endB && a[i+k] == b[j+k] {
			k++
		}
		add(stretch{i, i + k, j, j + k, true})
		i, j = i+k, j+k
		if i == endA || j == endB {
			add(stretch{i, endA, j, endB, false})
			i, j = endA, endB
			break
		}
		di, dj := nextSame(a[i:endA], b[j:endB])
		add(stretch{i, i + di, j, j + dj, false})
		i, j = i+di, j+dj
	}
	add(stretch{i, len(a), j, len(b), true})
	return out
}

// nextSame finds how much of both has to be passed over until they go on alike.
func nextSame(a, b []string) (i, j int) {
	for d := 1; d <= ahead; d++ {
		for i := max(0, d-len(b)); i <= min(d, len(a)); i++ {
			if j := d - i; i < len(a) && j < len(b) && a[i] == b[j] && (strings.TrimSpace(a[i]) != "" || i+1 < len(a) && j+1 < len(b) && a[i+1] == b[j+1]) {
				return i, j
			}
		}
	}
	return min(ahead, len(a)), min(ahead, len(b))
}

func linesOf(text []byte) []string {
	lines := strings.SplitAfter(strings.ReplaceAll(string(text), "\r\n", "\n"), "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

// boundary is where the start of a line stands in another text: before, or after,
// what only the other has there. Negative where the texts differ around it.
type boundary struct{ first, last int }

func boundaries(base, other []string) []boundary {
	at := make([]boundary, len(base)+1)
	for i := range at {
		at[i] = boundary{-1, -1}
	}
	at[0] = boundary{0, 0}
	for _, c := range align(unspaced(base), unspaced(other)) {
		if at[c.i1].first < 0 {
			at[c.i1].first = c.j1
		}
		if at[c.i1].last = c.j1; c.i1 == c.i2 {
			at[c.i1].last = c.j2
		}
		if c.same {
			for k := c.i1 + 1; k < c.i2; k++ {
				at[k] = boundary{c.j1 + k - c.i1, c.j1 + k - c.i1}
			}
		}
		if c.i2 > c.i1 {
			at[c.i2] = boundary{c.j2, c.j2}
		}
	}
	at[len(base)].last = len(other)
	return at
}

func blank(line string) bool { return strings.TrimSpace(line) == "" }

// unspaced are lines without what only sets them.
func unspaced(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = strings.Join(strings.Fields(l), " ")
	}
	return out
}
