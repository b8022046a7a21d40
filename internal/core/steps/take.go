package steps

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"slices"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

type taking struct {
	Which string        `form:"which" title:"Which" oneof:"first|last|rest|random" default:"first" words:"first=the first;last=the last;rest=all but the first;random=some at random"`
	Count int           `form:"count,required" title:"How many" min:"1" max:"1000000"`
	By    *expr.Program `form:"by" title:"Apart for each" help:"So many for every value of this; without it so many in all." example:"item.studio"`
}

var takeKind = New(Info{
	Type: "take", Title: "Take some of the items",
	Words: "first last top limit random sample skip ten", Does: DoesPick,
	Help: "Lets the first, the last, all but the first, or some at random go on and holds the others back. Which are taken at random is decided once for a run.",
}, takeSentence, func(t *taking) (Operator, error) {
	if t.Which == "last" || t.Which == "random" {
		return &takingWhole{t}, nil
	}
	return &takingFront{t}, nil
})

func takeSentence(t *taking) string {
	if t.Count == 0 {
		return "Take some items … (to fill in)"
	}
	n := words.Count(t.Count, "item")
	text := map[string]string{"last": "Take the last " + n, "rest": "Take all but the first " + n, "random": "Take " + n + " at random"}[t.Which]
	if text == "" {
		text = "Take the first " + n
	}
	if t.By != nil {
		text += " for each " + t.By.Words()
	}
	return text
}

// each says for what so many are taken.
func (t *taking) each() string {
	if t.By == nil {
		return ""
	}
	return " for each " + t.By.Words()
}

func (t *taking) key(s *expr.Scope) (any, error) {
	if t.By == nil {
		return nil, nil
	}
	v, err := t.By.Eval(s)
	if err != nil {
		return nil, wrong("by", err)
	}
	return v, nil
}

// takingFront decides by what came before, so nothing waits for it.
type takingFront struct{ *taking }

// Key implements Sieve.
func (t *takingFront) Key(s *expr.Scope) (any, error) { return t.key(s) }

// Lets implements Sieve.
func (t *takingFront) Lets(before int) bool { return (before < t.Count) == (t.Which != "rest") }

// Why implements Sieve.
func (t *takingFront) Why(bool, any) string {
	if t.Which == "rest" {
		return fmt.Sprintf("all but the first %d%s", t.Count, t.each())
	}
	return fmt.Sprintf("the first %d%s", t.Count, t.each())
}

// takingWhole needs the whole list to decide.
type takingWhole struct{ *taking }

// Take implements Picker.
func (t *takingWhole) Take(s *expr.Scope) (m Member, err error) {
	key, err := t.key(s)
	if err != nil {
		return m, err
	}
	m.Value, err = item.Key(key)
	return m, err
}

// Pick implements Picker. What is taken goes on in the order in which it came.
func (t *takingWhole) Pick(members []Candidate) (order []int, failed map[int]error) {
	byKey := map[string][]int{}
	for i, m := range members {
		name := m.Value.(string)
		byKey[name] = append(byKey[name], i)
	}
	for _, list := range byKey {
		if t.Which == "random" {
			list = t.draw(members, list)
		}
		order = append(order, list[max(0, len(list)-t.Count):]...)
	}
	slices.Sort(order)
	return order, nil
}

// draw orders places by chance. A member's chance hangs on the run and on its
// name alone, so that the same are drawn whenever the run is replayed.
func (t *takingWhole) draw(members []Candidate, list []int) []int {
	chance := func(i int) uint64 {
		h := fnv.New64a()
		_, _ = h.Write([]byte(members[i].Seed))
		return mixed(h.Sum64())
	}
	return slices.SortedFunc(slices.Values(list), func(a, b int) int {
		return cmp.Or(cmp.Compare(chance(a), chance(b)), cmp.Compare(a, b))
	})
}

// mixed spreads the bits of a hash whose last bytes count little (Stafford's
// variant 13 of the finaliser of MurmurHash3, as SplitMix64 uses it).
func mixed(x uint64) uint64 {
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// Held implements Picker.
func (t *takingWhole) Held() string { return "not among " + t.Took() }

// Took implements Picker.
func (t *takingWhole) Took() string {
	if t.Which == "random" {
		return fmt.Sprintf("%d at random%s", t.Count, t.each())
	}
	return fmt.Sprintf("the last %d%s", t.Count, t.each())
}
