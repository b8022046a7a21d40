package engine

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/workflow"
)

// rehearsed goes through a plan once for real, and gives what was read.
func rehearsed(t *testing.T, w *world, items []map[string]any, p *workflow.Plan) (*Recording, *Memory) {
	t.Helper()
	r, m := newRun(items, w, Pass{Number: 1, Plan: p})
	read := NewRecording(r.Facts.Started)
	r.Rehearse, r.Connections = true, read.Of(w)
	_, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	return read, m
}

// followed computes a plan from a recording, with an other side that must not be
// asked.
func followed(t *testing.T, read *Recording, items []map[string]any, p *workflow.Plan) (*Result, *Memory) {
	t.Helper()
	away := newWorld()
	r, m := newRun(items, away, Pass{Number: 1, Plan: p})
	r.Rehearse, r.Connections, r.Clock, r.Facts.Started = true, read.Replay(away), read.Clock(), read.Started
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Zero(t, away.calls, "nobody is asked")
	return res, m
}

const following = `
  - {name: pieces, type: hall.pieces, connection: hall, input: {n: 2, pages: 2}}
  - {name: kept, type: filter, settings: {where: item.n >= 1}}
  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}}`

func TestWhatWasReadIsNotReadAgain(t *testing.T) {
	t.Parallel()
	w := newWorld()
	read, before := rehearsed(t, w, []map[string]any{{}}, plan(t, following))
	require.Equal(t, 2, w.calls, "two pages")
	_, again := followed(t, read, []map[string]any{{}}, plan(t, following))
	require.Equal(t, picture(before.Seen), picture(again.Seen), "the same plan gives the same")
	for range 2 { // as often as one likes
		_, other := followed(t, read, []map[string]any{{}}, plan(t, strings.Replace(following, "item.n >= 1", "item.n >= 3", 1)))
		require.Equal(t, "0-1.0 read(n 0) held_back(0, needs 3)\n0-1.1 read(n 1) held_back(1, needs 3)\n0-1.2 read(n 2) held_back(2, needs 3)\n0-1.3 read(n 3) passed(3) prepared(3)\n", picture(other.Seen))
	}
}

func TestWhatWasNotReadWaitsAndTheRestGoesOn(t *testing.T) {
	t.Parallel()
	w := newWorld()
	steps := `
  - {name: pieces, type: hall.pieces, connection: hall, input: {n: (= item.n ), pages: 1}}
  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}}`
	read, _ := rehearsed(t, w, numberedItems(3)[1:], plan(t, steps))
	res, m := followed(t, read, []map[string]any{{"n": int64(1)}, {"n": int64(7)}, {"n": int64(2)}}, plan(t, steps))
	require.Equal(t, WaitingOn, res.State)
	require.Equal(t, call.ReasonUnread, res.Parked.Reason)
	require.Equal(t, "0-1.0 read(n 0) prepared(0)\n1 waiting(to be read: rehearse)\n2-1.0 read(n 0) prepared(0)\n2-1.1 read(n 1) prepared(1)\n", picture(m.Seen))
}

func TestARecordingIsKeptWholeAndBounded(t *testing.T) {
	t.Parallel()
	w := newWorld()
	w.secrets = call.NewSecrets("the-token-of-the-hall")
	read, before := rehearsed(t, w, []map[string]any{{}}, plan(t, following))
	text, err := read.Encode()
	require.NoError(t, err)
	again, err := ReadRecording(text)
	require.NoError(t, err)
	_, m := followed(t, again, []map[string]any{{}}, plan(t, following))
	require.Equal(t, picture(before.Seen), picture(m.Seen))
	opened, err := again.Replay(newWorld()).Open(context.Background(), "hall")
	require.NoError(t, err)
	require.Equal(t, "••••", opened.Account().Secrets.Mask("the-token-of-the-hall"), "what answers may echo is known")
	_, err = ReadRecording([]byte("{"))
	require.Error(t, err)

	big := NewRecording(time.Unix(1_800_000_000, 0))
	for _, key := range []string{"a", "b", "c"} {
		big.keep(key, &call.Answer{Status: 200, Body: make([]byte, MostRecorded/2)}, nil, nil)
	}
	require.Len(t, big.answers, 1, "what has no room is read anew")
	part := NewRecording(time.Unix(1_800_000_100, 0))
	part.keep("a", &call.Answer{Status: 204}, nil, nil)
	part.Beside(read)
	part.Beside(nil)
	require.Len(t, part.answers, 3, "what was read before stays beside")
	require.Equal(t, 204, part.answers["a"][0].Status)
	full := NewRecording(time.Unix(1_800_000_100, 0))
	full.keep("z", &call.Answer{Body: make([]byte, MostRecorded-1000)}, nil, nil)
	full.Beside(big)
	require.Len(t, full.answers, 1)
}

func TestEqualCallsAreAnsweredInTheirOrder(t *testing.T) {
	t.Parallel()
	read := NewRecording(time.Unix(1_800_000_000, 0))
	for _, body := range []string{"a", "a", "b"} {
		read.keep("k", &call.Answer{Status: 200, Body: []byte(body)}, nil, nil)
	}
	read.keep("k", nil, nil, &call.Failure{Class: call.Refused, Message: "enough", Retryable: true})
	require.Len(t, read.answers["k"], 3, "equal ones on end are kept once")
	r := read.Replay(newWorld()).(*replay)
	said := ""
	for range 6 {
		e, ok := r.next("k")
		require.True(t, ok)
		said += string(e.Body)
		if e.Failure != nil {
			said += "!"
		}
	}
	require.Equal(t, "aab!!!", said, "the last is given again and again")
	_, ok := r.next("other")
	require.False(t, ok)
	clock := read.Clock()
	require.NoError(t, clock.Sleep(context.Background(), time.Hour))
	require.Equal(t, time.Hour, clock.Now().Sub(read.Started), "a pause is over at once")
}
