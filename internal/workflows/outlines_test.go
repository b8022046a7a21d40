package workflows

import (
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/workflow"
)

const text = `format: young-trellis/1
name: firing
trigger: {type: webhook}
steps:
  - {name: tell, type: http, connection: desk, settings: {method: GET, url: "https://desk.ottermere.example/x"}}
  - {name: again, type: http, connection: desk, settings: {method: GET, url: "https://desk.ottermere.example/y"}}
  - {name: book, type: http, connection: books, settings: {method: GET, url: "https://books.ottermere.example/x"}}
  - {name: sign, type: shape, settings: {set: {code: '(= hmac(item.n, "till") )'}}}
  - {name: send, type: kiln.fire, connection: kiln, input: {lines: ['(= hmac(item.n, "seal") )']}}
`

func TestAnOutlineSaysWhatAListShows(t *testing.T) {
	t.Parallel()
	o := NewOutlines()
	for range 2 { // read, and remembered
		got := o.Of(text)
		require.True(t, got.Readable)
		require.NotEmpty(t, got.Trigger)
		require.Equal(t, 5, got.Steps)
		require.Equal(t, []string{"books", "desk", "kiln", "seal", "till"}, got.Connections)
		require.Equal(t, Outline{}, o.Of("\tnot a document"))
		require.Equal(t, Outline{}, o.Of(""))
	}
}

// The count of errors follows both the text and what is around it.
func TestErrorsFollowTheCatalog(t *testing.T) {
	t.Parallel()
	o := NewOutlines()
	without := &workflow.Catalog{}
	with := &workflow.Catalog{Connections: []workflow.Connection{{Name: "desk", Connector: "http", State: "ok"}, {Name: "books", Connector: "http", State: "ok"}}}
	forbidden := &workflow.Catalog{Connections: []workflow.Connection{{Name: "desk", Connector: "http", State: "ok", Forbidden: true}, with.Connections[1]}}
	require.NotEqual(t, without.Digest(), with.Digest())
	require.NotEqual(t, with.Digest(), forbidden.Digest())
	for range 2 {
		a, b, c := o.Errors(without, text, "nothing"), o.Errors(with, text, "nothing"), o.Errors(forbidden, text, "nothing")
		require.Greater(t, a[0], b[0])
		require.Greater(t, c[0], b[0])
		require.Positive(t, b[1])
	}
}
