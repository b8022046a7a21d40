package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/workflow"
)

// Revision is a frozen document.
type Revision struct {
	Workflow uuid.UUID
	Number   int
	Document string
	Numbers  map[string]uint16
	// Connectors are the versions that it was made with, by name.
	Connectors map[string]int
	Library    int // number of the function library that it was made with
	Made       time.Time
	MadeBy     string
}

// Timer gives the schedules that a workflow is to have from now on, by the database's
// clock, of those that it has; nil: none.
type Timer func(workflow uuid.UUID, known []Scheduled, now time.Time) []Scheduled

// GoingLive is what a draft goes live with.
type GoingLive struct {
	Version    int64 // of the draft; 0: whichever it is
	Numbers    map[string]uint16
	Connectors []ConnectorVersion
	Bounds     workflow.Bounds
	Times      Timer
	Follows    []Follow
	Path       string // of its address, in place of random letters; "": none
	AtFirst    int    // how many items the next run takes to its first write before a person has looked; 0: any number
	Kept       string // what becomes of events that were kept: KeptStart, KeptDismiss; "": there must be none
}

// ErrPathTaken says that another workflow has the path.
var ErrPathTaken = errors.New("the path is taken")

// setPath lets a workflow be called by a path.
func setPath(ctx context.Context, tx pgx.Tx, w Workflow, path string) error {
	if path == w.Path {
		return nil
	}
	_, err := tx.Exec(ctx, "UPDATE workflow SET path = nullif($2, '') WHERE id = $1", w.ID, path)
	if errors.Is(translate(err), ErrTaken) {
		return ErrPathTaken
	}
	return err
}

// starts makes it so that runs of a workflow start by this and nothing else.
func (g *GoingLive) starts(ctx context.Context, tx pgx.Tx, w Workflow, known []Scheduled) error {
	if err := setPath(ctx, tx, w, g.Path); err != nil {
		return err
	}
	if err := retime(ctx, tx, w, known, g.Times); err != nil {
		return err
	}
	if err := settleKept(ctx, tx, w, g.Kept); err != nil {
		return err
	}
	return setFollows(ctx, tx, w, g.Follows)
}

// GoLive freezes the draft, if its version is still the one given, as the next
// revision and makes it the live one.
func (s *Store) GoLive(ctx context.Context, sc Scope, name string, g GoingLive) (w Workflow, err error) {
	if g.Numbers == nil {
		g.Numbers = map[string]uint16{}
	}
	encoded, err := json.Marshal(g.Numbers)
	if err != nil {
		return w, err
	}
	versions := map[string]int{}
	for _, c := range g.Connectors {
		versions[c.Name] = c.Version
	}
	pins, err := json.Marshal(versions)
	if err != nil {
		return w, err
	}
	var deadline *time.Duration
	if g.Bounds.Deadline > 0 {
		deadline = &g.Bounds.Deadline
	}
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		known, err := holdSchedules(ctx, tx, name)
		if err != nil {
			return err
		}
		// Before the row: starts hold lines first too.
		if _, err := tx.Exec(ctx, "SELECT hold_lines(ARRAY[workspace_id], ARRAY[id], ARRAY['']) FROM workflow WHERE name = $1", name); err != nil {
			return err
		}
		if err := holdFirst(ctx, tx, name); err != nil {
			return err
		}
		if w, err = oneWorkflow(ctx, tx, "name = $1 FOR UPDATE", name); err != nil {
			return err
		}
		if g.Version != 0 && w.Version != g.Version {
			return ErrConflict
		}
		number := 1
		var same *int
		err = tx.QueryRow(ctx, "SELECT coalesce(max(number), 0) + 1, max(number) FILTER (WHERE document = $2 AND connectors = $3 AND library = $4) FROM revision WHERE workflow_id = $1", w.ID, w.Draft, pins, expr.Library).Scan(&number, &same)
		if err != nil {
			return err
		}
		if same != nil && *same == number-1 {
			number = *same // nothing changed since: it is live again
		} else if _, err := tx.Exec(ctx, "INSERT INTO revision (workspace_id, workflow_id, number, document, numbers, made_by, connectors, library, parallel_runs, deadline) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)",
			sc.workspace, w.ID, number, w.Draft, encoded, sc.name, pins, expr.Library, g.Bounds.Parallel, deadline); err != nil {
			return err
		}
		for _, c := range g.Connectors {
			if _, err := tx.Exec(ctx, "INSERT INTO connector_version (workspace_id, name, version, document, own, made_by) VALUES ($1, $2, $3, $4, false, $5) ON CONFLICT DO NOTHING", sc.workspace, c.Name, c.Version, c.Document, sc.name); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "UPDATE workflow SET live = $2, state = 'live', stated = now(), stated_by = $4, numbers = $3, updated = now() WHERE id = $1", w.ID, number, encoded, sc.name); err != nil {
			return err
		}
		if err := rebound(ctx, tx, sc.workspace, w.ID, g.Bounds.Parallel > 0); err != nil {
			return err
		}
		if err := setFirst(ctx, tx, w.ID, number, g.AtFirst); err != nil {
			return err
		}
		w.State = "live"
		if err := g.starts(ctx, tx, w, known); err != nil {
			return err
		}
		w, err = oneWorkflow(ctx, tx, "id = $1", w.ID)
		return err
	})
	return w, err
}

// PutBack makes an earlier revision the live one again. The draft stays.
func (s *Store) PutBack(ctx context.Context, sc Scope, name string, number int, g GoingLive) (w Workflow, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		known, err := holdSchedules(ctx, tx, name)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "SELECT hold_lines(ARRAY[workspace_id], ARRAY[id], ARRAY['']) FROM workflow WHERE name = $1", name); err != nil {
			return err
		}
		if err := holdFirst(ctx, tx, name); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, `UPDATE workflow w SET live = $2, state = 'live', stated = now(), stated_by = $3, updated = now()
			WHERE w.name = $1 AND EXISTS (SELECT FROM revision r WHERE r.workspace_id = w.workspace_id AND r.workflow_id = w.id AND r.number = $2)`, name, number, sc.name)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		if w, err = oneWorkflow(ctx, tx, "name = $1", name); err != nil {
			return err
		}
		if err := setFirst(ctx, tx, w.ID, number, g.AtFirst); err != nil {
			return err
		}
		if err := rebound(ctx, tx, sc.workspace, w.ID, g.Bounds.Parallel > 0); err != nil {
			return err
		}
		return g.starts(ctx, tx, w, known)
	})
	return w, err
}

// rebound holds the runs that are on their way to the limit that is live now: those
// that waited for a place it no longer needs, or that there are more of, go on; those
// that are too many come to their end, and no others begin meanwhile. Their line is
// held.
func rebound(ctx context.Context, tx pgx.Tx, workspace, workflow uuid.UUID, limited bool) error {
	_, err := tx.Exec(ctx, "UPDATE live SET limited = $3 WHERE workspace_id = $1 AND workflow_id = $2 AND limited <> $3", workspace, workflow, limited)
	if err == nil {
		_, err = tx.Exec(ctx, "SELECT fill_places($1, $2)", workspace, workflow)
	}
	return err
}

// SetState pauses a workflow or lets it go on, by what it starts from now on.
func (s *Store) SetState(ctx context.Context, sc Scope, name, state string, g GoingLive) (w Workflow, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		known, err := holdSchedules(ctx, tx, name)
		if err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, "UPDATE workflow SET stated = CASE WHEN state = $2 THEN stated ELSE now() END, stated_by = CASE WHEN state = $2 THEN stated_by ELSE $3 END, state = $2, updated = now() WHERE name = $1 AND live IS NOT NULL", name, state, sc.name)
		if err != nil {
			return err
		}
		if w, err = oneWorkflow(ctx, tx, "name = $1", name); err != nil || tag.RowsAffected() == 0 {
			return err
		}
		return g.starts(ctx, tx, w, known)
	})
	return w, err
}

func scanRevision(row pgx.CollectableRow) (Revision, error) {
	var r Revision
	var numbers, connectors []byte
	err := row.Scan(&r.Workflow, &r.Number, &r.Document, &numbers, &r.Made, &r.MadeBy, &connectors, &r.Library)
	if err == nil {
		err = json.Unmarshal(connectors, &r.Connectors)
	}
	if err == nil {
		err = json.Unmarshal(numbers, &r.Numbers)
	}
	return r, err
}

// Revisions lists a workflow's revisions, newest first.
func (s *Store) Revisions(ctx context.Context, sc Scope, workflow uuid.UUID) (out []Revision, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT workflow_id, number, document, numbers, made, made_by, connectors, library FROM revision WHERE workflow_id = $1 ORDER BY number DESC LIMIT 200", workflow)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, scanRevision)
		return err
	})
	return out, err
}

// Revision finds one revision of a workflow.
func (s *Store) Revision(ctx context.Context, workspace, workflow uuid.UUID, number int) (r Revision, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT workflow_id, number, document, numbers, made, made_by, connectors, library FROM revision WHERE workflow_id = $1 AND number = $2", workflow, number)
		if err != nil {
			return err
		}
		r, err = pgx.CollectExactlyOneRow(rows, scanRevision)
		return err
	})
	return r, err
}

// holdFirst holds what going live said of the next run. Before the workflow's row:
// starts come to them in this order.
func holdFirst(ctx context.Context, tx pgx.Tx, name string) error {
	_, err := tx.Exec(ctx, "SELECT FROM revision WHERE workflow_id = (SELECT id FROM workflow WHERE name = $1) AND at_first > 0 FOR UPDATE", name)
	return err
}

// setFirst says how many items the next run of a workflow takes at first, which is one
// of this revision.
func setFirst(ctx context.Context, tx pgx.Tx, workflow uuid.UUID, revision, items int) error {
	_, err := tx.Exec(ctx, "UPDATE revision SET at_first = CASE WHEN number = $2 THEN $3::int ELSE 0 END WHERE workflow_id = $1 AND (number = $2 OR at_first > 0)", workflow, revision, items)
	return err
}
