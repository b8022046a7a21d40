package steps

import (
	"errors"
	"fmt"
	"iter"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
)

// MaxRounds is how often a round is repeated at most.
const MaxRounds = 10_000

type loop struct {
	grouping
	Until  *expr.Program `form:"until" title:"Again until" help:"Asked after each round, over its first item. Needs rounds." example:"item.state == \"done\""`
	Repeat int           `form:"rounds" title:"So many rounds at most" min:"1" max:"10000"`
	Steps  form.Steps    `form:"steps" title:"Steps"`
}

var loopKind = tells(New(Info{
	Type: "loop", Title: "Do steps in rounds",
	Words: "for each row for each item every one by one repeat iterate until rounds again", Does: DoesLoop,
	Help: "Does its steps for one item, or one group, after the other; or repeats them for each item until a condition holds.",
}, func(l *loop) string {
	switch {
	case l.Until != nil && l.Repeat > 0:
		return fmt.Sprintf("Repeat until %s, %d times at most", l.Until.Words(), l.Repeat)
	case l.Until != nil:
		return "Repeat until " + l.Until.Words()
	case l.Repeat > 0:
		return fmt.Sprintf("Do %d times", l.Repeat)
	case l.By == nil && l.Size <= 1 && l.Bytes == 0:
		return "For each item, one after the other"
	case l.By != nil && l.Size == 0 && l.Bytes == 0:
		return "For each " + l.By.Words() + ", one after the other"
	}
	return "For groups of items, " + l.words()
}, func(l *loop) (Operator, error) {
	repeats := l.Until != nil || l.Repeat > 0
	switch {
	case l.Until != nil && l.Repeat == 0:
		return nil, wrong("rounds", errors.New("say how many rounds there are at most, so that the loop ends"))
	case repeats && (l.Size > 0 || l.By != nil || l.Bytes > 0):
		return nil, wrong("size", errors.New("a loop goes over groups (size, by, bytes) or repeats its steps (until, rounds), not both; put one loop into the other"))
	}
	if !repeats && l.By == nil && l.Size == 0 && l.Bytes == 0 {
		l.Size = 1
	}
	return looped{l}, nil
}), loopTraits)

type looped struct{ *loop }

// Rounds implements Loop.
func (l looped) Rounds() Holder {
	if l.Repeat > 0 {
		return nil
	}
	return rounds{&l.grouping}
}

// Most implements Loop.
func (l looped) Most() int { return l.Repeat }

// Until implements Loop.
func (l looped) Until(s *expr.Scope) (bool, error) {
	if l.loop.Until == nil {
		return false, nil
	}
	ok, err := l.loop.Until.Holds(s)
	if err != nil {
		return false, wrong("until", err)
	}
	return ok, nil
}

// rounds are groups of items that stay what they are.
type rounds struct{ *grouping }

// Take implements Holder.
func (r rounds) Take(s *expr.Scope) (m Member, err error) {
	if r.Bytes > 0 {
		m.Size = item.Size(s.Item)
	}
	m.Key, err = r.key(s)
	return m, err
}

// Make implements Holder. A round makes no item.
func (r rounds) Make(any, iter.Seq2[any, error]) (Result, error) { return Result{}, nil }
