package reply

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestHeadersThatAnAnswerMaySet(t *testing.T) {
	t.Parallel()
	for name, value := range map[string]string{"content-type": "text/csv; charset=utf-8", "Cache-Control": "no-cache", "retry-after": "7", "location": "https://ottermere.example/x", " x-kiln ": "2"} {
		_, err := CheckHeader(name, value)
		require.NoError(t, err, name)
	}
	for name, value := range map[string]string{"Set-Cookie": "a=b", "Content-Security-Policy": "", "Content-Type": "text/html", "Location": "/relative", "X-A": "a\nb", "X B": "", "": "", "X-Long": strings.Repeat("x", MaxHeader+1), "Access-Control-Allow-Origin": "*", "Content-Length": "7", "Transfer-Encoding": "chunked"} {
		_, err := CheckHeader(name, value)
		require.Error(t, err, name)
	}
	canonical, err := CheckHeader("x-kiln", "1")
	require.NoError(t, err)
	require.Equal(t, "X-Kiln", canonical)
}

func TestAReplyIsKeptAsItIs(t *testing.T) {
	t.Parallel()
	for name, r := range map[string]*Reply{
		"nothing": {Status: 204}, "text": {Status: 200, Body: "a"}, "values": {Status: 201, Header: map[string]string{"X-A": "b"}, Body: map[string]any{"n": int64(9007199254740993), "list": []any{nil, false, 0.5}}},
		"a page": {Status: 200, Page: &Page{Title: "Free", Text: "**two**", Rows: []Row{{Text: "Fri", Link: "https://ottermere.example", Label: "Book"}, {Text: "Sat"}}, Note: "Lisbon time"}},
	} {
		require.NoError(t, r.Check(), name)
		text, err := r.Encode()
		require.NoError(t, err, name)
		got, err := Decode(text)
		require.NoError(t, err, name)
		require.Equal(t, r, got, name)
	}
	_, err := Decode([]byte("[]"))
	require.Error(t, err)
}

func TestWhatABodyIsSentAs(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		r          Reply
		kind, body string
	}{
		"text":     {Reply{Body: "a"}, "text/plain; charset=utf-8", "a"},
		"its type": {Reply{Body: "a,b", Header: map[string]string{"Content-Type": "text/csv"}}, "text/csv", "a,b"},
		"values":   {Reply{Body: []any{int64(1)}}, "application/json", "[1]"},
		"nothing":  {Reply{}, "", ""},
	} {
		kind, body, err := c.r.Content()
		require.NoError(t, err, name)
		require.Equal(t, c.kind, kind, name)
		require.Equal(t, c.body, string(body), name)
	}
	require.Equal(t, "would answer 303: go on at https://ottermere.example", (&Reply{Status: 303, Header: map[string]string{"Location": "https://ottermere.example"}}).Words(false))
	require.Equal(t, "answered 204", (&Reply{Status: 204}).Words(true))
}

func TestRowsOfAPage(t *testing.T) {
	t.Parallel()
	got, err := RowsOf([]any{"Fri", map[string]any{"text": "Sat", "link": nil, "label": "Book", "more": int64(1)}})
	require.NoError(t, err)
	require.Equal(t, []Row{{Text: "Fri"}, {Text: "Sat", Label: "Book"}}, got)
	for want, v := range map[string]any{"rows of the page are a list, and this is text": "Fri", "row 1 of the page is a number": []any{int64(1)}, "row 1 of the page has no text": []any{map[string]any{"label": "Book"}}, "link of row 1 of the page is a number": []any{map[string]any{"text": "a", "link": int64(1)}}} {
		_, err := RowsOf(v)
		require.ErrorContains(t, err, want)
	}
	many := &Reply{Status: 200, Page: &Page{Title: "a", Rows: make([]Row, MaxRows+1)}}
	require.ErrorContains(t, many.Check(), "it may have 200")
	require.ErrorContains(t, (&Reply{Status: 199}).Check(), "between 200 and 599")
	require.ErrorContains(t, (&Reply{Status: 200, Page: &Page{Title: "a", Text: strings.Repeat("x", MaxText+1)}}).Check(), "the text of the page")
}
