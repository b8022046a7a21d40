package engine

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/reply"
)

// saidBy is what whoever set a run off is answered.
func saidBy(t *testing.T, m *Memory) *reply.Reply {
	t.Helper()
	if m.Said == nil {
		return nil
	}
	r, err := reply.Decode(m.Said)
	require.NoError(t, err)
	return r
}

func TestTheFirstItemThatComesToAnAnswerAnswers(t *testing.T) {
	t.Parallel()
	res, m := carry(t, newWorld(), `
  - {name: big, type: filter, settings: {where: item.n > 1}}
  - {name: told, type: answer, settings: {status: "(= 210 + item.n )", headers: {x-n: "(= item.n )", X-None: "(= item.missing )"}, body: {free: "(= item.n )"}}}
  - {name: after, type: shape, settings: {set: {after: true}}}`, numberedItems(5)...)
	require.Equal(t, Succeeded, res.State, res.Reason)
	require.Equal(t, []string{"0 held_back", "1 held_back", `2 passed {"after":true,"n":2}`, `3 passed {"after":true,"n":3}`, `4 passed {"after":true,"n":4}`}, ends(m), "and the items go on as they are")
	require.Equal(t, &reply.Reply{Status: 212, Header: map[string]string{"X-N": "2"}, Body: map[string]any{"free": int64(2)}}, saidBy(t, m))
	require.Equal(t, Written, m.Seen[2].Cell(2).Fate)
	require.Equal(t, `answered 212: {"free":2}`, m.Seen[2].Cell(2).Text)
}

func TestNoItemAtTheAnswerAnswersNothing(t *testing.T) {
	t.Parallel()
	_, m := carry(t, newWorld(), `
  - {name: none, type: filter, settings: {where: item.n > 9}}
  - {name: told, type: answer, settings: {status: 200}}`, numberedItems(2)...)
	require.Nil(t, saidBy(t, m))
}

// What cannot be answered is the item's fault, and on_error decides.
func TestAnAnswerThatCannotBeGivenFailsItsItem(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ settings, reason string }{
		"a status":   {`{status: "(= item.n )"}`, `told: "1" is no status that can be answered; it is a number between 200 and 599, as 200 or 404`},
		"a header":   {`{headers: {Location: "(= \"javascript:alert(1)\" )"}, status: 303}`, `told: the header Location leads to "javascript:alert(1)"; it is an address that begins with http:// or https://`},
		"a line":     {`{headers: {X-A: "(= \"a\\r\\nSet-Cookie: b\" )"}}`, `told: the header X-A cannot be "a\r\nSet-Cookie: b": it holds a line break or a character that no header has`},
		"a row":      {`{page: Free, rows: "(= [{text: \"Fri\", link: \"javascript:1\"}] )"}`, `told: the link of row 1 of the page leads to "javascript:1"; an address begins with https:, http: or mailto: there`},
		"no rows":    {`{page: Free, rows: "(= item.n )"}`, "told: the rows of the page are a list, and this is a number"},
		"no content": {`{status: "(= 204 )", body: x}`, "told: an answer with status 204 has no body; leave body and page out, or answer 200"},
		"nowhere":    {`{status: 303}`, "told: an answer with status 303 says where to go on; set the header Location"},
		"too much":   {`{body: "(= repeat(\"x\", 2000000) )"}`, "told: the body is 2.0 MB long; an answer has at most 1.0 MB"},
		"no title":   {`{page: "(= item.missing )"}`, "told: the page has no title; say in page what it is headed with"},
	} {
		res, m := carry(t, newWorld(), `  - {name: told, type: answer, settings: `+c.settings+`}`, objects(`{"n": 1}`)...)
		require.Equal(t, FailedRun, res.State, name)
		require.Equal(t, c.reason, res.Reason, name)
		require.Nil(t, saidBy(t, m), name)
	}
	res, m := carry(t, newWorld(), `  - {name: told, type: answer, on_error: set_aside, settings: {status: "(= 200 + item.n * 900 )"}}`, numberedItems(2)...)
	require.Equal(t, Partial, res.State)
	require.Equal(t, 200, saidBy(t, m).Status)
}

func TestARehearsalSaysWhatWouldBeAnswered(t *testing.T) {
	t.Parallel()
	r, m := newRun(numberedItems(2), newWorld(), Pass{Number: 1, Plan: plan(t, `  - {name: told, type: answer, settings: {page: "(= \"Row \" + text(item.n) )", text: "**kept**"}}`)})
	r.Rehearse = true
	_, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Nil(t, m.Said)
	require.Equal(t, Prepared, m.Seen[1].Cell(1).Fate)
	require.Equal(t, "would answer 200: Row 1", m.Seen[1].Cell(1).Text)
}
