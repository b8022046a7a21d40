package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/expr"
)

// Follow is after which other workflow one starts, and in which states a pass of that
// has ended.
type Follow struct {
	Source uuid.UUID
	States []string
}

// setFollows makes these what a workflow follows.
func setFollows(ctx context.Context, tx pgx.Tx, w Workflow, list []Follow) error {
	_, err := tx.Exec(ctx, "DELETE FROM follower WHERE workflow_id = $1", w.ID)
	for _, f := range list {
		if err == nil {
			_, err = tx.Exec(ctx, "INSERT INTO follower (workspace_id, source_id, workflow_id, states) VALUES (nullif(current_setting('trellis.workspace', true), '')::uuid, $1, $2, $3)", f.Source, w.ID, f.States)
		}
	}
	return err
}

// Followers lists the names of the workflows that start after one.
func (s *Store) Followers(ctx context.Context, sc Scope, source uuid.UUID) (out []string, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT w.name FROM follower f JOIN workflow w ON w.workspace_id = f.workspace_id AND w.id = f.workflow_id WHERE f.source_id = $1 ORDER BY w.name", source)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowTo[string])
		return err
	})
	return out, err
}

// Outcome is a pass that has ended, and a workflow that is to start after it.
type Outcome struct {
	Workspace, Workflow uuid.UUID // of what is to start
	Live                int       // its revision; 0 where it is not live any more
	Name, Title         string    // of the workflow whose pass it was
	Run                 uuid.UUID
	Pass                int
	State, Message      string
	Counts              engine.Counts
	Began, Ended        time.Time
	Hops                int // of the run that is to start
}

// claimOutcomesSQL leaves those to newer nodes whose revision was made with functions
// that are not known here.
const claimOutcomesSQL = `SELECT o.workspace_id, o.workflow_id, w.live, s.name, s.title, o.run_id, o.pass, o.state, o.message, o.counts, o.began, o.ended, o.hops
	FROM outcome o
	LEFT JOIN workflow w ON w.workspace_id = o.workspace_id AND w.id = o.workflow_id AND w.state = 'live'
	LEFT JOIN workflow s ON s.workspace_id = o.workspace_id AND s.id = o.source_id
	WHERE o.due <= now() AND NOT EXISTS (SELECT FROM revision r WHERE r.workspace_id = w.workspace_id AND r.workflow_id = w.id AND r.number = w.live AND r.library > $2)
	ORDER BY o.due LIMIT $1 FOR UPDATE OF o SKIP LOCKED`

const outcomeKeys = "unnest($1::uuid[], $2::uuid[], $3::uuid[], $4::int[]) AS k(workspace_id, workflow_id, run_id, pass)"

const isOutcome = "o.workspace_id = k.workspace_id AND o.workflow_id = k.workflow_id AND o.run_id = k.run_id AND o.pass = k.pass"

// outcomeAgain is after how long what could not be started is tried again; others
// are meanwhile.
const outcomeAgain = "10 seconds"

// keysOf gives the keys of outcomes as columns.
func keysOf(list []Outcome) []any {
	var workspace, workflow, run [][16]byte
	var pass []int32
	for _, o := range list {
		workspace, workflow, run, pass = append(workspace, o.Workspace), append(workflow, o.Workflow), append(run, o.Run), append(pass, int32(o.Pass))
	}
	return []any{workspace, workflow, run, pass}
}

// ClaimOutcomes claims outcomes for as long as work takes, which gives those whose
// starts are durable: these are forgotten, and so are those whose follower is not there
// any more; the others are tried again later. It gives how many were claimed; nobody
// else claims the same meanwhile.
func (s *Store) ClaimOutcomes(ctx context.Context, most int, work func([]Outcome) []Outcome) (claimed int, err error) {
	err = pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL idle_in_transaction_session_timeout = '"+claimIdle+"'"); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, claimOutcomesSQL, most, expr.Library)
		if err != nil {
			return err
		}
		all, err := pgx.CollectRows(rows, scanOutcome)
		if err != nil {
			return err
		}
		if claimed = len(all); claimed == 0 {
			return nil
		}
		var list, done []Outcome
		for _, o := range all {
			if o.Live == 0 || o.Name == "" {
				done = append(done, o)
			} else {
				list = append(list, o)
			}
		}
		if len(list) > 0 {
			done = append(done, work(list)...)
		}
		if _, err := tx.Exec(ctx, "DELETE FROM outcome o USING "+outcomeKeys+" WHERE "+isOutcome, keysOf(done)...); err != nil || len(done) == claimed {
			return err
		}
		_, err = tx.Exec(ctx, "UPDATE outcome o SET due = now() + interval '"+outcomeAgain+"' FROM "+outcomeKeys+" WHERE "+isOutcome, keysOf(all)...)
		return err
	})
	return claimed, unavailable(err)
}

func scanOutcome(row pgx.CollectableRow) (o Outcome, err error) {
	var live *int
	var name, title *string
	var counts []byte
	if err := row.Scan(&o.Workspace, &o.Workflow, &live, &name, &title, &o.Run, &o.Pass, &o.State, &o.Message, &counts, &o.Began, &o.Ended, &o.Hops); err != nil {
		return o, err
	}
	if live != nil {
		o.Live = *live
	}
	if name != nil {
		o.Name, o.Title = *name, *title
	}
	if counts != nil {
		err = json.Unmarshal(counts, &o.Counts)
	}
	return o, err
}
