package workflow

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Over any history of revisions, with steps that come, go and are called
// something else: no two names have the same number, a step that stays keeps
// its own, one that is renamed takes its number along, and what is new gets one
// that was never given before.
func TestLastingNumbersOverAnyHistory(t *testing.T) {
	t.Parallel()
	names := []string{"a", "b", "c", "d", "e", "f"}
	rapid.Check(t, func(t *rapid.T) {
		var known map[string]uint16
		given := map[uint16]bool{}
		for range rapid.IntRange(1, 8).Draw(t, "revisions") {
			var w Workflow
			for _, name := range rapid.Permutation(names).Draw(t, "order")[:rapid.IntRange(1, len(names)).Draw(t, "steps")] {
				was := rapid.SampledFrom(append([]string{"", "", ""}, names...)).Draw(t, "was")
				w.Steps = append(w.Steps, Step{Name: name, Was: was})
			}
			next := w.Numbers(known)
			numbers := slices.Collect(maps.Values(next))
			slices.Sort(numbers)
			if len(slices.Compact(slices.Clone(numbers))) != len(numbers) {
				t.Fatalf("two names have the same number: %v", next)
			}
			// Who takes whose number along: only a new name does, the first that asks.
			heir := map[string]string{}
			for _, s := range w.Steps {
				if known[s.Name] == 0 && known[s.Was] != 0 && heir[s.Was] == "" {
					heir[s.Was] = s.Name
				}
			}
			for _, s := range w.Steps {
				n := next[s.Name]
				switch old := known[s.Name]; {
				case n == 0:
					t.Fatalf("%s has no number: %v", s.Name, next)
				case heir[s.Was] == s.Name:
					if n != known[s.Was] {
						t.Fatalf("%s was %s, which had %d, and has %d", s.Name, s.Was, known[s.Was], n)
					}
				case old != 0 && heir[s.Name] == "":
					if n != old {
						t.Fatalf("%s had %d and has %d", s.Name, old, n)
					}
				case given[n]:
					t.Fatalf("%s is another step and got %d, which was given before", s.Name, n)
				}
			}
			for _, n := range next {
				given[n] = true
			}
			known = next
		}
	})
}

// A step that takes another's name after that was renamed is another step.
func TestANameThatWasGivenUpGetsANewNumber(t *testing.T) {
	t.Parallel()
	known := (&Workflow{Steps: []Step{{Name: "sent"}}}).Numbers(nil)
	w := &Workflow{Steps: []Step{{Name: "first", Was: "sent"}, {Name: "sent"}}}
	require.Equal(t, map[string]uint16{"first": 1, "sent": 2}, w.Numbers(known))
}

// A plan refuses equal numbers, however they came about: the journal of the one
// step would answer for the other.
func TestAPlanRefusesEqualNumbers(t *testing.T) {
	t.Parallel()
	w, _, problems := Read([]byte(`format: young-trellis/1
name: twice
trigger: {type: manual}
steps:
  - {name: first, type: filter, settings: {where: item.n > 1}}
  - {name: second, type: filter, settings: {where: item.n > 2}}
`))
	require.False(t, HasErrors(problems))
	plan, err := Compile(w, &Catalog{})
	require.NoError(t, err)
	_, err = plan.Numbered(map[string]uint16{"first": 3, "second": 3})
	require.ErrorContains(t, err, "first and second have the same lasting number 3")
	_, err = plan.Numbered(map[string]uint16{"first": 3, "second": 4})
	require.NoError(t, err)
}
