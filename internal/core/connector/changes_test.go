package connector

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatAnotherVersionDoesOtherwise(t *testing.T) {
	t.Parallel()
	made := func(more string) *Connector {
		c, err := Parse([]byte("format: young-trellis-connector/1\nname: hall\ntitle: Hall\nversion: 1\n" + more))
		require.NoError(t, err)
		return c
	}
	const check = "check: {request: {method: GET, path: /me}, says: hall}\n"
	was := made("base: https://hall.example\nsign_in: [{method: api_key, title: Key, header: X-Api-Key}, {method: basic, title: User}]\n" + check + `actions:
  gone: {title: Gone, sentence: Gone, effect: read, fields: {type: object}, request: {method: GET, path: /gone}}
  list: {title: List, sentence: List, effect: read, fields: {type: object, properties: {state: {type: string}, cone: {type: integer}, glaze: {enum: [matt]}}}, request: {method: GET, path: /v1/list}}
  same: {title: Same, sentence: Same, effect: read, fields: {type: object}, request: {method: GET, path: /same}}
`)
	is := made("base: https://hall.example/v2\nsign_in: [{method: api_key, title: Key, header: X-Api-Key, also: [{name: shop, title: Shop, header: X-Shop}]}, {method: bearer, title: Token}]\n" + check + `actions:
  list: {title: List all, sentence: List, effect: read, each: response.rows, fields: {type: object, required: [state, kiln], properties: {state: {type: string}, cone: {type: [integer, string]}, kiln: {type: string}, note: {type: string}}}, request: {method: GET, path: /v2/list}, sample: []}
  same: {title: The same, sentence: Same, effect: read, fields: {type: object}, request: {method: GET, path: /same}}
  new: {title: New, sentence: New, effect: read, fields: {type: object}, request: {method: GET, path: /new}}
`)
	var said []string
	for _, c := range Changes(was, is) {
		said = append(said, strings.TrimSpace(fmt.Sprintf("%s %v %s", c.Action, c.Breaks, c.Says)))
	}
	require.Equal(t, []string{
		"true Calls go to https://hall.example/v2; they went to https://hall.example. Secrets are to be entered again.",
		"true The sign-in basic is not there any more.",
		"true The sign-in api_key asks for other things: secret, shop.",
		"false The sign-in bearer is new.",
		"gone true The action gone is not there any more.",
		"list false It calls GET /v2/list; it called GET /v1/list.",
		"list true It gives a list, one item each; it gave one answer.",
		"list true The field state is required now.",
		"list true The field cone is integer or string; it was integer.",
		"list true The field glaze is not there any more.",
		"list true The field kiln is new, and required.",
		"list false The field note is new.",
		"new false The action new is new.",
	}, said)
	require.Empty(t, Changes(was, was))
}
