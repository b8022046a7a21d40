package intake

import (
	"context"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"crypto/sha256"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

func TestBodiesAreReadByTheirType(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ kind, body, want string }{
		{"application/json", `{"id": 1234567890123456789}`, `[{"id":1234567890123456789}]`},
		{"application/json; charset=utf-8", `[{"a": 1}, {"a": 2}]`, `[{"a":1},{"a":2}]`},
		{"application/cloudevents+json", `{"a": null}`, `[{"a":null}]`},
		{"", `{"a": 1}`, `[{"a":1}]`},
		{"application/x-www-form-urlencoded", "a=1&b=x+y&b=z", `[{"a":"1","b":["x y","z"]}]`},
		{"text/plain", "hello", `[{"body":"hello"}]`},
		{"", "", `[{"q":"1"}]`},
	} {
		got, err := Parse(c.kind, url.Values{"q": {"1"}}, []byte(c.body))
		require.NoError(t, err, c.body)
		list := make([]any, len(got))
		for i, m := range got {
			list[i] = m
		}
		text, err := item.Encode(list)
		require.NoError(t, err)
		require.Equal(t, c.want, string(text))
	}
}

func TestBodiesThatCannotBeReadSayWhy(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ kind, body, want string }{
		{"application/json", `{"a": `, "ends in the middle"}, {"application/json", `"x"`, "this is text"}, {"application/json", `[]`, "the list is empty"},
		{"application/json", `[{"a": 1}, 2]`, "this is a number"}, {"image/png", "x", "image/png is not taken here"}, {"text/plain", "\xff\xfe", "not UTF-8 at byte 0"}, {"text/plain", "a\x00", "U+0000 at byte 1"}, {"application/json", "{\"a\": \"\xff\"}", "not UTF-8"},
		{"application/json", `{"id": "a\u0000b"}`, "U+0000"}, {"application/json", `{"id": "\ud800"}`, "half of a surrogate pair"}, {"application/json", `{"\udfff": 1}`, "half of a surrogate pair"},
		{"application/x-www-form-urlencoded", "id=a%00", `the field "id": the text holds U+0000`}, {"application/x-www-form-urlencoded", "%ff=1", "not UTF-8"},
		{"application/json", "[" + strings.Repeat("{},", MaxItems) + "{}]", "at most 100,000 start with one call (--event-items"},
		{"a/b/c", "x", "cannot be read"}, {"application/x-www-form-urlencoded", "%zz", "form cannot be read"}, {"application/json", "", "the text is empty"},
	} {
		_, err := Parse(c.kind, nil, []byte(c.body))
		require.ErrorContains(t, err, c.want, c.kind)
	}
}

func TestOnlyTheRightBearerProves(t *testing.T) {
	t.Parallel()
	sum := sha256.Sum256([]byte("the secret"))
	header := func(v string) http.Header { return http.Header{"Authorization": {v}} }
	require.True(t, proves(header("Bearer the secret"), sum[:]))
	for v, why := range map[string]string{"": "had no Authorization header", "the secret": "does not begin with Bearer", "Basic the secret": "does not begin with Bearer", "Bearer another": "is not the right one"} {
		h := header(v)
		require.False(t, proves(h, sum[:]), v)
		require.Contains(t, proofReason(h, sum[:]), why)
		require.NotContains(t, proofReason(h, sum[:]), "another")
	}
	require.False(t, proves(header("Bearer "), nil))
	require.Contains(t, proofReason(header("Bearer x"), nil), "no secret has been made")
}

func TestTheKeyOfACallIsWorkedOutAndHasItsTerm(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	trigger := func(settings map[string]any) *workflow.Plan {
		p, err := workflow.Compile(&workflow.Workflow{Name: "calls", Trigger: workflow.Trigger{Type: "webhook", Settings: settings}}, &workflow.Catalog{})
		require.NoError(t, err)
		return p
	}
	fields := map[string]any{"call_id": int64(17)}
	key, expires, err := startKey(context.Background(), trigger(map[string]any{"key": "item.call_id"}), fields, at)
	require.NoError(t, err)
	require.Equal(t, "17", key)
	require.Equal(t, at.Add(7*24*time.Hour), expires)
	_, expires, err = startKey(context.Background(), trigger(map[string]any{"key": "item.call_id", "for": "2h"}), fields, at)
	require.NoError(t, err)
	require.Equal(t, at.Add(2*time.Hour), expires)
	keys := map[string]bool{}
	for _, v := range []any{int64(17), 17.0, "17", "17.0", []any{int64(17)}, []any{"17"}, 1234567.5} {
		key, _, err := startKey(context.Background(), trigger(map[string]any{"key": "item.call_id"}), map[string]any{"call_id": v}, at)
		require.NoError(t, err)
		keys[key] = true
	}
	require.Equal(t, map[string]bool{"17": true, `"17`: true, `"17.0`: true, "[17]": true, `["17"]`: true, "1234567.5": true}, keys, "a number is not the text that it is written as, and is one key however it is written")
	key, _, err = startKey(context.Background(), trigger(nil), fields, at)
	require.NoError(t, err)
	require.Empty(t, key)
	for _, empty := range []any{nil, ""} {
		_, _, err = startKey(context.Background(), trigger(map[string]any{"key": "item.call_id"}), map[string]any{"call_id": empty}, at)
		require.ErrorContains(t, err, "the key is empty", "what has no key would start again with each repeat")
	}
	_, _, err = startKey(context.Background(), trigger(map[string]any{"key": "item.call_id > 'x'"}), fields, at)
	require.ErrorContains(t, err, "cannot be told")
	_, _, err = startKey(context.Background(), trigger(map[string]any{"key": "item.x"}), map[string]any{"x": strings.Repeat("y", 501)}, at)
	require.ErrorContains(t, err, "longer than 500")
	_, _, err = startKey(context.Background(), trigger(map[string]any{"key": "item.x"}), map[string]any{"x": "a\x00b"}, at)
	require.ErrorContains(t, err, "cannot be stored")
}
