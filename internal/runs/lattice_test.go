package runs

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
)

// Rows are written by hand, and read by their tags.
func TestRowsAreReadAsTheyAreWritten(t *testing.T) {
	t.Parallel()
	rows := []Row{
		{Address: "0", Label: "Tall \"jug\"", Cells: []engine.Cell{{Step: 1, Fate: engine.Passed, Text: "4, 5"}, {Step: 300, Fate: engine.Held, Reused: true}}},
		{Address: "g2.1.0", Cells: []engine.Cell{}, Members: 2, Parents: []string{"0", "1"}},
		{Address: "g2.1.1", Cells: []engine.Cell{}, Members: 3},
	}
	var back []Row
	text := appendRows(nil, rows)
	require.NoError(t, json.Unmarshal(text, &back), string(text))
	require.Equal(t, rows, back)
	reference, err := json.Marshal(rows)
	require.NoError(t, err)
	require.JSONEq(t, string(reference), string(text))
	require.Equal(t, "[]", string(appendRows(nil, nil)))
	require.Equal(t, Row{Address: "0", Label: "x", Cells: nil, Members: 1, Parents: []string{"1"}}, row(engine.Row{Address: item.Root(0), Label: "x", Members: 1, First: []item.Address{item.Root(1)}}))
}
