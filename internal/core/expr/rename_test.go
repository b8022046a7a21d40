package expr

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Steps are renamed where an expression reads them, and nowhere else.
func TestStepsAreRenamedWhereTheyAreRead(t *testing.T) {
	t.Parallel()
	names := map[string]string{"one": "first", "two": "one", "längs": "no", "steps": "s", "column": "c"}
	for source, want := range map[string]struct {
		text  string
		count int
	}{
		`steps.one.x > steps.one_more.y`:                      {`steps.first.x > steps.one_more.y`, 1},
		`steps.one.x + steps.two.one`:                         {`steps.first.x + steps.one.one`, 2},
		`steps["one"].x`:                                      {`steps["first"].x`, 1},
		`steps['one']['one']`:                                 {`steps['first']['one']`, 1},
		`steps?.one?.x ?? "steps.one"`:                        {`steps?.first?.x ?? "steps.one"`, 1},
		`item.steps.one`:                                      {`item.steps.one`, 0},
		`"steps.one.x"`:                                       {`"steps.one.x"`, 0},
		`column("one")[0].one + len(column('two'))`:           {`column("first")[0].one + len(column('one'))`, 2},
		`filter(item.list, # == steps . one . x)`:             {`filter(item.list, # == steps . first . x)`, 1},
		`{one: steps.one.x, "steps": 1}`:                      {`{one: steps.first.x, "steps": 1}`, 1},
		`"größer → " + text(steps.one.x) + "é" + steps.two.y`: {`"größer → " + text(steps.first.x) + "é" + steps.one.y`, 2},
		`steps.steps.x + column("column")[0]`:                 {`steps.s.x + column("c")[0]`, 2},
		`steps.one.x >`:                                       {`steps.one.x >`, 0},
		``:                                                    {``, 0},
	} {
		text, count := RenameSteps(source, names)
		require.Equal(t, want.text, text, source)
		require.Equal(t, want.count, count, source)
	}
	for template, want := range map[string]string{
		`Dear (= steps.one.name ), steps.one (= steps.two.x )`: `Dear (= steps.first.name ), steps.one (= steps.one.x )`,
		`(== steps.one ) und (= steps.one.ä )`:                 `(== steps.one ) und (= steps.first.ä )`,
		`plain steps.one`:                                      `plain steps.one`,
		`(= steps.one.x`:                                       `(= steps.one.x`,
	} {
		text, _ := RenameStepsIn(template, names)
		require.Equal(t, want, text)
	}
}
