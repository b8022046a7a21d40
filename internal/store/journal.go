package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
)

// RunJournal is the journal and source of one run. Without a committer it can
// only be read.
type RunJournal struct {
	Store          *Store
	Committer      *Committer
	Workspace, Run uuid.UUID
	// Sparse says that the items of a chunk stand far apart.
	Sparse bool
}

// entryColumns lists what an entry is made of, from a table by that name.
func entryColumns(table string) string {
	return strings.ReplaceAll("@pass, @step, @rounds, @address, @part, @outcome, @generation, @input_hash, @attempts, @started, @ended, @units, @first, @result, @sealed, @request, @failure", "@", table+".")
}

// decidingColumns are those without what was sent, where it is only to be shown.
var decidingColumns = strings.Replace(entryColumns("journal"), "journal.request", "CASE WHEN journal.outcome <> 'done' THEN journal.request END", 1)

func scanEntry(row pgx.CollectableRow) (*engine.Entry, error) { return scanEntryAfter(row) }

// scanEntryAfter reads an entry that stands behind other columns.
func scanEntryAfter(row pgx.CollectableRow, before ...any) (*engine.Entry, error) {
	var e engine.Entry
	var rounds, address, result, request, failure []byte
	var step int
	var first int64
	var outcome string
	err := row.Scan(append(before, &e.Pass, &step, &rounds, &address, &e.Part, &outcome, &e.Generation, &e.InputHash, &e.Attempts, &e.Started, &e.Ended, &e.Units, &first, &result, &e.Sealed, &request, &failure)...)
	if err != nil {
		return nil, err
	}
	e.First = uint32(first)
	e.Step, e.Rounds, e.Address, e.Outcome = uint16(step), item.Rounds(rounds), item.Address(address), engine.Outcome(outcome)
	e.Started, e.Ended = e.Started.UTC(), e.Ended.UTC()
	if e.Result, err = unpack(result); err != nil {
		return nil, err
	}
	if request != nil {
		plain, err := unpack(request)
		if err != nil {
			return nil, err
		}
		e.Request = &call.Sent{}
		if err := json.Unmarshal(plain, e.Request); err != nil {
			return nil, err
		}
	}
	if failure != nil {
		e.Failure = &call.Failure{}
		if err := json.Unmarshal(failure, e.Failure); err != nil {
			return nil, err
		}
	}
	return &e, nil
}

// rangeLeast is from how many items on a range of them is read: of few, nobody
// knows how many others stand between them.
const rangeLeast = 32

// Entries implements engine.Journal: one query for a chunk's items at a step, by
// a range of addresses where the chunk stands in the order of its items, by the
// list of them where a wake changed it or only some items are looked at.
func (j *RunJournal) Entries(ctx context.Context, pass int, step uint16, rounds item.Rounds, addresses []item.Address) ([]*engine.Entry, error) {
	const from = ` FROM journal WHERE workspace_id = $1 AND run_id = $2 AND pass = $3 AND step = $4 AND rounds = $5 AND part <= 0 AND address `
	args := []any{j.Workspace, j.Run, pass, int(step), []byte(rounds)}
	wanted := make(map[item.Address]bool, len(addresses))
	list := make([][]byte, len(addresses))
	for i, a := range addresses {
		wanted[a], list[i] = true, []byte(a)
	}
	where := "BETWEEN $6 AND $7"
	if !j.Sparse && len(addresses) >= rangeLeast && slices.IsSorted(addresses) {
		args = append(args, list[0], list[len(list)-1])
	} else {
		where = "= ANY ($6)"
		args = append(args, list)
	}
	rows, err := j.Store.node.Query(ctx, "SELECT "+decidingColumns+from+where, args...)
	if err != nil {
		return nil, unavailable(err)
	}
	all, err := pgx.CollectRows(rows, scanEntry)
	return slices.DeleteFunc(all, func(e *engine.Entry) bool { return !wanted[e.Address] }), unavailable(err)
}

// Page implements engine.Journal.
func (j *RunJournal) Page(ctx context.Context, k engine.Key) (*engine.Entry, error) {
	rows, err := j.Store.node.Query(ctx, "SELECT "+entryColumns("journal")+` FROM journal
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

// PageOf implements engine.Journal.
func (j *RunJournal) PageOf(ctx context.Context, k engine.Key, n uint32) (*engine.Entry, error) {
	rows, err := j.Store.node.Query(ctx, "SELECT "+entryColumns("journal")+` FROM journal
		WHERE workspace_id = $1 AND run_id = $2 AND pass = $3 AND step = $4 AND rounds = $5 AND address = $6 AND part >= 0 AND first <= $7 ORDER BY part DESC LIMIT 1`,
		j.Workspace, j.Run, k.Pass, int(k.Step), []byte(k.Rounds), []byte(k.Address), int64(n))
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
func (j *RunJournal) Append(ctx context.Context, e *engine.Entry, writes ...engine.Write) (*engine.Entry, error) {
	if j.Committer == nil {
		return nil, errors.New("this journal is only read")
	}
	return j.Committer.Append(ctx, j.Workspace, j.Run, e, writes...)
}

// Postpone implements engine.Journal.
func (j *RunJournal) Postpone(ctx context.Context, list []engine.Waits) error {
	if j.Committer == nil {
		return errors.New("this journal is only read")
	}
	return j.Committer.postpone(ctx, j.Workspace, j.Run, list)
}

// TriggerItems is the source of a run: its first entries. First are those that
// are at hand already; each is given up once it was read.
type TriggerItems struct {
	*RunJournal
	First   [][]byte
	Decoded []map[string]any // the first page as a value
	Whole   bool             // there are no others

	next uint32 // ordinal of the first item of the next page at hand
}

// Page implements engine.Source.
func (t *TriggerItems) Page(ctx context.Context, page int) (engine.Page, error) {
	if page < len(t.First) && t.First[page] != nil {
		text, decoded := t.First[page], t.Decoded
		t.First[page], t.Decoded = nil, nil
		p := engine.Page{First: t.next, Bytes: len(text), Items: decoded}
		if page > 0 || decoded == nil {
			var err error
			if p.Items, err = decodeItems(text); err != nil {
				return p, err
			}
		}
		t.next += uint32(len(p.Items))
		return p, nil
	}
	if t.Whole && page >= len(t.First) {
		return engine.Page{}, io.EOF
	}
	e, err := t.RunJournal.Page(ctx, engine.Key{Pass: 1, Step: 0, Part: page})
	if err != nil {
		return engine.Page{}, err
	}
	if e == nil {
		return engine.Page{}, io.EOF
	}
	items, err := decodeItems(e.Result)
	return engine.Page{First: e.First, Items: items, Bytes: len(e.Result)}, err
}

// Find implements engine.Source.
func (t *TriggerItems) Find(ctx context.Context, n uint32) (int, error) {
	e, err := t.PageOf(ctx, engine.Key{Pass: 1, Step: 0}, n)
	if err != nil {
		return 0, err
	}
	if e == nil {
		return 0, io.EOF
	}
	return e.Part, nil
}

// StartItems are the items that a run started with, at most so many.
func (s *Store) StartItems(ctx context.Context, workspace, run uuid.UUID, most int) ([]map[string]any, error) {
	source := &TriggerItems{RunJournal: &RunJournal{Store: s, Workspace: workspace, Run: run}}
	var out []map[string]any
	for page := 0; len(out) < most; page++ {
		p, err := source.Page(ctx, page)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		out = append(out, p.Items...)
	}
	return out[:min(len(out), most)], nil
}

func decodeItems(text []byte) ([]map[string]any, error) {
	items, err := item.DecodeList(text)
	if err != nil {
		return nil, fmt.Errorf("the run's trigger items cannot be read: %w", err)
	}
	return items, nil
}
