package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
)

// RunJournal is the journal and source of one run. Without a committer it can
// only be read.
type RunJournal struct {
	Store          *Store
	Committer      *Committer
	Workspace, Run uuid.UUID
}

const entryColumns = "pass, step, rounds, address, part, outcome, input_hash, attempts, started, ended, units, result, request, failure"

func scanEntry(row pgx.CollectableRow) (*engine.Entry, error) {
	var e engine.Entry
	var rounds, address, result, request, failure []byte
	var step int
	var outcome string
	err := row.Scan(&e.Pass, &step, &rounds, &address, &e.Part, &outcome, &e.InputHash, &e.Attempts, &e.Started, &e.Ended, &e.Units, &result, &request, &failure)
	if err != nil {
		return nil, err
	}
	e.Step, e.Rounds, e.Address, e.Outcome = uint16(step), string(rounds), item.Address(address), engine.Outcome(outcome)
	e.Started, e.Ended = e.Started.UTC(), e.Ended.UTC()
	if e.Result, err = unpack(result); err != nil {
		return nil, err
	}
	if request != nil {
		plain, err := unpack(request)
		if err != nil {
			return nil, err
		}
		e.Request = &engine.Sent{}
		if err := json.Unmarshal(plain, e.Request); err != nil {
			return nil, err
		}
	}
	if failure != nil {
		e.Failure = &engine.Failure{}
		if err := json.Unmarshal(failure, e.Failure); err != nil {
			return nil, err
		}
	}
	return &e, nil
}

// Entries implements engine.Journal: one query for a chunk's items at a step.
func (j *RunJournal) Entries(ctx context.Context, pass int, step uint16, addresses []item.Address) ([]*engine.Entry, error) {
	raw := make([][]byte, len(addresses))
	for i, a := range addresses {
		raw[i] = []byte(a)
	}
	rows, err := j.Store.node.Query(ctx, "SELECT "+entryColumns+` FROM journal
		WHERE workspace_id = $1 AND run_id = $2 AND pass = $3 AND step = $4 AND rounds = '' AND address = ANY($5) AND part <= 0`, j.Workspace, j.Run, pass, int(step), raw)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, scanEntry)
	return out, unavailable(err)
}

// Page implements engine.Journal.
func (j *RunJournal) Page(ctx context.Context, k engine.Key) (*engine.Entry, error) {
	rows, err := j.Store.node.Query(ctx, "SELECT "+entryColumns+` FROM journal
		WHERE workspace_id = $1 AND run_id = $2 AND pass = $3 AND step = $4 AND rounds = $5 AND address = $6 AND part = $7`,
		j.Workspace, j.Run, k.Pass, int(k.Step), []byte(k.Rounds), []byte(k.Address), k.Part)
	if err != nil {
		return nil, unavailable(err)
	}
	e, err := pgx.CollectExactlyOneRow(rows, scanEntry)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return e, unavailable(err)
}

// Append implements engine.Journal.
func (j *RunJournal) Append(ctx context.Context, e *engine.Entry) error {
	if j.Committer == nil {
		return errors.New("this journal is only read")
	}
	return j.Committer.Append(ctx, j.Workspace, j.Run, e)
}

// TriggerItems is the source of a run: its first entries.
type TriggerItems struct{ *RunJournal }

// Page implements engine.Source.
func (t TriggerItems) Page(ctx context.Context, page int) ([]map[string]any, error) {
	e, err := t.RunJournal.Page(ctx, engine.Key{Pass: 1, Step: 0, Part: page})
	if err != nil {
		return nil, err
	}
	if e == nil {
		return nil, io.EOF
	}
	return decodeItems(e.Result)
}

// StartItems is the source of a run that was started here a moment ago: the
// same bytes that were made durable.
type StartItems struct{ Start *Start }

// Page implements engine.Source.
func (s StartItems) Page(_ context.Context, page int) ([]map[string]any, error) {
	if page >= len(s.Start.Items) {
		return nil, io.EOF
	}
	return decodeItems(s.Start.Items[page])
}

func decodeItems(text []byte) ([]map[string]any, error) {
	v, err := item.Decode(text)
	if err != nil {
		return nil, fmt.Errorf("the run's trigger items cannot be read: %w", err)
	}
	list, _ := v.([]any)
	out := make([]map[string]any, len(list))
	for i, e := range list {
		out[i], _ = e.(map[string]any)
	}
	return out, nil
}
