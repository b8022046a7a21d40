package runs

import (
	"encoding/json"
	"hash/fnv"
	"slices"
	"strconv"
	"strings"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// shape is a page of the lattice without its words: of which kinds its rows are,
// one after the other. Everything that is counted, filtered and folded is
// answered from shapes; only rows that are seen are read.
type shape struct {
	Kinds []kind   `json:"k"`
	Runs  [][2]int `json:"r"` // kind, and how many rows of it follow one another
}

// kind is what rows have in common.
type kind struct {
	Band  int    `json:"b,omitempty"` // lasting number of the step that made the item of many; -1: it comes of a failure of the run
	Cells []spot `json:"c"`
}

// spot is a cell without its words.
type spot struct {
	Step  int    `json:"s"`
	Fate  int    `json:"f"`           // its place among the fates
	Way   string `json:"w,omitempty"` // of a branch: the case
	Round string `json:"o,omitempty"`
}

// FailedBand is that of rows that come of a failure of the run.
const FailedBand = -1

// shaper makes the shape of a page as its rows come.
type shaper struct {
	plan  *workflow.Plan
	shape shape
	index map[string]int
	keys  []byte // a hash of the address of each row, to find it by
}

func (s *shaper) add(r Row) {
	k := s.kindOf(r)
	text, _ := json.Marshal(k) // it is of plain fields
	n, ok := s.index[string(text)]
	if !ok {
		if s.index == nil {
			s.index = map[string]int{}
		}
		n = len(s.shape.Kinds)
		s.index[string(text)] = n
		s.shape.Kinds = append(s.shape.Kinds, k)
	}
	if l := len(s.shape.Runs); l > 0 && s.shape.Runs[l-1][0] == n {
		s.shape.Runs[l-1][1]++
	} else {
		s.shape.Runs = append(s.shape.Runs, [2]int{n, 1})
	}
	s.keys = append(s.keys, addressKey(r.Address)...)
}

// addressKey is by what the page of an address is found. It never holds a byte of
// another's: its first byte marks where one begins.
func addressKey(a string) []byte {
	h := fnv.New64a()
	_, _ = h.Write([]byte(a))
	sum := h.Sum64()
	out := []byte{0xff, 0, 0, 0, 0, 0}
	for i := 1; i < len(out); i++ {
		out[i] = byte(sum % 255)
		sum /= 255
	}
	return out
}

func (s *shaper) kindOf(r Row) kind {
	k := kind{Band: bandOf(r.Address), Cells: make([]spot, len(r.Cells))}
	for i, c := range r.Cells {
		k.Cells[i] = spot{Step: int(c.Step), Fate: fateAt[c.Fate], Round: c.Round}
		if s.plan == nil {
			continue
		}
		if st := s.plan.ByNumber(c.Step); st != nil {
			if st.OnFailure() {
				k.Band = FailedBand
			}
			if _, ok := st.Operator.(steps.Branch); ok && c.Fate.GoesOn() {
				k.Cells[i].Way = c.Text
			}
		}
	}
	return k
}

// bandOf is the step that made a row's item of many; 0 for one that came of the
// trigger.
func bandOf(address string) int {
	a, err := item.ParseAddress(address)
	if err != nil || !strings.HasPrefix(address, "g") {
		return 0
	}
	if engine.FailureItem(a) {
		return FailedBand
	}
	return int(a.Segments()[0].Step)
}

var fateAt = func() map[engine.Fate]int {
	out := map[engine.Fate]int{}
	for i, f := range engine.Fates {
		out[f] = i
	}
	return out
}()

// encode packs what was added.
func (s *shaper) encode() ([]byte, error) {
	text, err := json.Marshal(s.shape)
	return store.Pack(text), err
}

func readShape(packed []byte) (out shape, err error) {
	text, err := store.Unpack(packed)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	return out, err
}

// end is the fate in which rows of the kind ended.
func (k kind) end() engine.Fate {
	if len(k.Cells) == 0 {
		return engine.NotReached
	}
	return engine.Fates[k.Cells[len(k.Cells)-1].Fate]
}

// troubles tells whether something is to be mended in rows of the kind.
func (k kind) troubles() bool {
	switch k.end() {
	case engine.Aside, engine.Stopped, engine.MayBeSent:
		return true
	}
	return slices.ContainsFunc(k.Cells, func(c spot) bool { return engine.Fates[c.Fate] == engine.WentOn })
}

// alike is the same for kinds that differ in their rounds only.
func (k kind) alike() string {
	var b strings.Builder
	b.WriteString(strconv.Itoa(k.Band))
	for _, c := range k.Cells {
		b.WriteByte(' ')
		b.WriteString(strconv.Itoa(c.Step))
		b.WriteByte('.')
		b.WriteString(strconv.Itoa(c.Fate))
		b.WriteString(c.Way)
	}
	return b.String()
}
