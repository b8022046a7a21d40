package expr

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// What is read without a machine gives what the machine gives, whatever the
// field holds.
func TestSimpleExpressionsAreThoseOfTheMachine(t *testing.T) {
	t.Parallel()
	values := []any{nil, true, false, int64(0), int64(20), int64(21), int64(-1), 20.0, 19.5, "", "20", "jug", "2026-11-20", []any{}, []any{int64(1)}, map[string]any{"a": int64(1)}}
	for _, op := range []string{"==", "!=", ">=", ">", "<=", "<"} {
		for _, right := range []string{"20", `"jug"`, `"2026-11-20"`, `""`, "20.0", "nil"} {
			source := "item.x " + op + " " + right
			p, err := Compile(source, roots)
			require.NoError(t, err)
			plain := slowly(source)
			for _, v := range values {
				s := &Scope{Item: map[string]any{"x": v}}
				want, wantErr := plain.Holds(s)
				got, gotErr := p.Holds(s)
				require.Equal(t, want, got, "%s with %v", source, v)
				require.Equal(t, fmt.Sprint(wantErr), fmt.Sprint(gotErr), "%s with %v", source, v)
			}
		}
	}
	p, slow := MustCompile("item.x", roots), slowly("item.x")
	for _, v := range values {
		s := &Scope{Item: map[string]any{"x": v}}
		want, _ := slow.Eval(s)
		got, err := p.Eval(s)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
}

// slowly compiles for the machine alone.
func slowly(source string) *Program {
	p := MustCompile(source, roots)
	return &Program{Source: p.Source, Refs: p.Refs, Calls: p.Calls, root: p.root, tree: p.tree}
}
