package steps

import (
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/expr"
)

// Times are put in order by when they are, durations by how long they are, though
// expressions give both as text; where some are neither, letter by letter.
func TestTimesAndDurationsAreNoTextInOrder(t *testing.T) {
	t.Parallel()
	k, _ := Find("sort")
	for name, c := range map[string]struct {
		values []any
		want   []any
	}{
		"durations": {[]any{"9d", "14d", nil, "1d12h", "90m"}, []any{"90m", "1d12h", "9d", "14d", nil}},
		"times":     {[]any{"2026-05-01T10:00:00+02:00", "2026-05-01T09:00:00Z"}, []any{"2026-05-01T10:00:00+02:00", "2026-05-01T09:00:00Z"}},
		"words":     {[]any{"9d", "14d", "soon"}, []any{"14d", "9d", "soon"}},
		"numbers":   {[]any{int64(10), 9.5, int64(-1)}, []any{int64(-1), 9.5, int64(10)}},
	} {
		compiled, errs := k.Compile(map[string]any{"by": []any{map[string]any{"of": "item.v"}}})
		require.Empty(t, errs)
		op, _ := compiled.Operator.(Picker)
		var members []Candidate
		for _, v := range c.values {
			m, err := op.Take(&expr.Scope{Item: map[string]any{"v": v}})
			require.NoError(t, err)
			members = append(members, Candidate{Value: m.Value})
		}
		order, failed := op.Pick(members)
		require.Empty(t, failed)
		var got []any
		for _, i := range order {
			got = append(got, c.values[i])
		}
		require.Equal(t, c.want, got, name)
		if name == "words" || name == "numbers" {
			continue
		}
		least, most := total{}, total{}
		for _, v := range c.values {
			require.NoError(t, least.add(Total{How: "least"}, v))
			require.NoError(t, most.add(Total{How: "most"}, v))
		}
		last := c.want[len(c.want)-1]
		if last == nil {
			last = c.want[len(c.want)-2]
		}
		require.Equal(t, []any{c.want[0], last}, []any{least.value, most.value}, name)
	}
}
