package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

// box seals by turning bytes round; what it sealed is not readable.
type box struct{ sealed atomic.Int32 }

func (b *box) Seal(_ context.Context, plain []byte) ([]byte, error) {
	b.sealed.Add(1)
	return b.Unseal(context.Background(), plain)
}

func (b *box) Unseal(_ context.Context, sealed []byte) ([]byte, error) {
	out := make([]byte, len(sealed))
	for i, c := range sealed {
		out[i] = c ^ 0x5a
	}
	return out, nil
}

func (b *box) Digest(_ context.Context, text []byte) ([]byte, error) {
	sum := sha256.Sum256(append([]byte("keyed "), text...))
	return sum[:], nil
}

const planted = "planted-secret-of-the-hall"

// The pipeline sees what an answer echoes; the journal has it sealed, and every
// surface a masked copy, in later steps too, and in a replay by others.
func TestEchoedSecretsAreSeenByThePipelineAlone(t *testing.T) {
	t.Parallel()
	w := newWorld()
	w.secrets = call.NewSecrets(planted)
	w.says = func(c *call.Call) string {
		if c.URL.Path == "/poke" {
			return string(c.Body)
		}
		b, _ := json.Marshal(map[string]any{"n": 1, "name": "key " + planted, "header": "Basic " + base64.StdEncoding.EncodeToString([]byte("hall:"+planted)), planted: true})
		return string(b)
	}
	p := plan(t, `
  - {name: asked, type: hall.send, connection: hall, input: {n: (= item.n )}, output: under got}
  - {name: used, type: shape, settings: {set: {title: "(= item.got.name + ', again' )", long: "(= len(item.got.name) )"}}}
  - {name: told, type: http, settings: {method: POST, url: "https://elsewhere.example/poke", repeat: keyed, json: {said: "(= item.got.name )"}}, output: under echo}
  - {name: kept, type: filter, settings: {where: "item.got.name == 'key planted-secret-of-the-hall'"}}`)
	r, m := newRun(numberedItems(2), w, Pass{Number: 1, Plan: p})
	sealer := &box{}
	r.Sealer = sealer
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Equal(t, 2, res.Counts.Through, "the condition over the secret itself holds")
	require.EqualValues(t, 4, sealer.sealed.Load(), "the answer, and the echo of what was made of it")
	require.Equal(t, []string{planted}, res.Secrets.Values())
	stored, err := json.Marshal(m.All())
	require.NoError(t, err)
	nowhere(t, stored)
	nowhere(t, []byte(picture(m.Seen)))
	for _, row := range m.Seen {
		require.EqualValues(t, len("key "+planted), row.Item.Fields["long"])
		nowhere(t, []byte(row.Label))
	}
	for _, e := range m.All() {
		if e.Step > 0 {
			require.NotEmpty(t, e.Sealed)
			require.Contains(t, string(e.Result), call.Masked)
		}
	}

	// Whoever opens a cell later knows nothing of the connection.
	w.secrets = nil
	for step, s := range p.Steps {
		o, err := r.Inspect(context.Background(), item.Root(0), s.Name)
		require.NoError(t, err)
		b, err := json.Marshal([]any{o.Before, o.After, o.Cell, o.Way, o.Label, o.Entry})
		require.NoError(t, err)
		nowhere(t, b)
		if step == 1 {
			require.Contains(t, fmt.Sprint(o.After["title"]), call.Masked)
		}
	}
	require.NoError(t, r.Frontier(context.Background(), func(Open) error { return nil }))
}

// nowhere holds that the planted secret is in no form in a text.
func nowhere(t *testing.T, text []byte) {
	t.Helper()
	for _, f := range call.Forms(planted) {
		require.False(t, bytes.Contains(text, []byte(f)), "%s is in %s", f, text)
	}
}

// Refusals are masked before they are cut, and made storable.
func TestEchoedSecretsOfRefusalsAreMasked(t *testing.T) {
	t.Parallel()
	for name, why := range map[string]string{"plain": "no such key " + planted, "behind the cut": "0123456789012345678901234567890123456789012345678901234567890123456789 " + planted, "with NUL": "bad \x00 " + planted} {
		w := newWorld()
		w.secrets = call.NewSecrets(planted)
		w.faults = func(int, string) error {
			return &call.Failure{Class: call.Refused, Status: 400, Message: why}
		}
		for _, onError := range []string{"stop", "set_aside"} {
			p := plan(t, `  - {name: asked, type: hall.send, connection: hall, input: {n: (= item.n )}, on_error: `+onError+`}`)
			r, m := newRun(numberedItems(2), w, Pass{Number: 1, Plan: p})
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			stored, err := json.Marshal(m.All())
			require.NoError(t, err)
			for _, text := range []string{string(stored), picture(m.Seen), res.Reason} {
				nowhere(t, []byte(text))
				require.NotContains(t, text, "planted", name)
				require.NotContains(t, text, "\x00", name)
			}
		}
	}
}

// A rehearsal masks what it saw before anybody sees it.
func TestARehearsalShowsNoSecret(t *testing.T) {
	t.Parallel()
	w := newWorld()
	w.secrets = call.NewSecrets(planted)
	p := plan(t, `
  - {name: pieces, type: hall.pieces, connection: hall, input: {n: 2, pages: 1}}
  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, output: keep}`)
	w.listed = func(n int) map[string]any { return map[string]any{"n": n, "name": planted} }
	r, m := newRun([]map[string]any{{}}, w, Pass{Number: 1, Plan: p})
	r.Rehearse = true
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	m.Hide(res.Secrets)
	var all []any
	for _, row := range m.Seen {
		all = append(all, row.Item.Fields, row.Label, row.Cells, row.Item.First().Fields)
	}
	b, err := json.Marshal(append(all, m.All()))
	require.NoError(t, err)
	nowhere(t, b)
	require.Contains(t, string(b), call.Masked)
}
