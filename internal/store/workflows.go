package store

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Workflow is a workflow with its draft.
type Workflow struct {
	ID      uuid.UUID
	Name    string
	Title   string
	Draft   string
	Version int64 // rises with every change of the draft
	State   string
	Live    *int
	Numbers map[string]uint16
	Hook    string
	Path    string // by which it is called as well; "" for none
	Taking  *time.Time
	Updated time.Time

	ChangedBy string // who saved the draft last
	Stated    time.Time
	StatedBy  string // who put it into its state, then
	AtFirst   int    // how many items its next run takes to its first write before a person has looked; 0: any number
}

const workflowColumns = "id, name, title, draft, version, changed_by, state, live, numbers, hook, coalesce(path, ''), taking_until, updated, stated, stated_by, coalesce((SELECT at_first FROM revision r WHERE r.workspace_id = workflow.workspace_id AND r.workflow_id = workflow.id AND r.number = workflow.live), 0)"

func scanWorkflow(row pgx.CollectableRow) (Workflow, error) {
	var w Workflow
	var numbers []byte
	err := row.Scan(&w.ID, &w.Name, &w.Title, &w.Draft, &w.Version, &w.ChangedBy, &w.State, &w.Live, &numbers, &w.Hook, &w.Path, &w.Taking, &w.Updated, &w.Stated, &w.StatedBy, &w.AtFirst)
	if err == nil {
		err = json.Unmarshal(numbers, &w.Numbers)
	}
	return w, err
}

// Workflows lists a page of a workspace's workflows by name, after the one named.
func (s *Store) Workflows(ctx context.Context, sc Scope, after string, limit int) (out []Workflow, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+workflowColumns+" FROM workflow WHERE name > $1 ORDER BY name LIMIT $2", after, limit)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, scanWorkflow)
		return err
	})
	return out, err
}

// Texts are what a workflow says as a draft, and as it is live.
type Texts struct{ Name, Draft, Live string }

// Texts lists the texts of all workflows of a workspace, by name.
func (s *Store) Texts(ctx context.Context, sc Scope) (out []Texts, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT w.name, w.draft, coalesce(r.document, '') FROM workflow w LEFT JOIN revision r ON r.workspace_id = w.workspace_id AND r.workflow_id = w.id AND r.number = w.live ORDER BY w.name")
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Texts])
		return err
	})
	return out, err
}

// Workflow finds one by name.
func (s *Store) Workflow(ctx context.Context, sc Scope, name string) (w Workflow, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		w, err = oneWorkflow(ctx, tx, "name = $1", name)
		return err
	})
	return w, err
}

// WorkflowByID finds one by id.
func (s *Store) WorkflowByID(ctx context.Context, sc Scope, id uuid.UUID) (w Workflow, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		w, err = oneWorkflow(ctx, tx, "id = $1", id)
		return err
	})
	return w, err
}

func oneWorkflow(ctx context.Context, tx pgx.Tx, where string, args ...any) (Workflow, error) {
	rows, err := tx.Query(ctx, "SELECT "+workflowColumns+" FROM workflow WHERE "+where, args...)
	if err != nil {
		return Workflow{}, err
	}
	return pgx.CollectExactlyOneRow(rows, scanWorkflow)
}

// CreateWorkflow stores a first draft under its name.
func (s *Store) CreateWorkflow(ctx context.Context, sc Scope, name, title, draft string) (w Workflow, err error) {
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "INSERT INTO workflow (workspace_id, id, name, title, draft, hook, changed_by) VALUES ($1, $2, $3, $4, $5, $6, $7)",
			sc.workspace, NewID(), name, title, draft, base64.RawURLEncoding.EncodeToString(b), sc.name)
		if err != nil {
			return err
		}
		w, err = oneWorkflow(ctx, tx, "name = $1", name)
		return err
	})
	return w, err
}

// SaveDraft replaces the draft if its version is still the one given (0: any).
// A stale one gives ErrConflict and the newer workflow.
func (s *Store) SaveDraft(ctx context.Context, sc Scope, name string, version int64, title, draft string) (w Workflow, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "UPDATE workflow SET draft = $3, title = $4, changed_by = $5, version = version + 1, updated = now() WHERE name = $1 AND ($2 = 0 OR version = $2)", name, version, draft, title, sc.name)
		if err != nil {
			return err
		}
		if w, err = oneWorkflow(ctx, tx, "name = $1", name); err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrConflict
		}
		return nil
	})
	return w, err
}

// DeleteWorkflow removes a workflow with all that hangs on it.
func (s *Store) DeleteWorkflow(ctx context.Context, sc Scope, name string) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		if _, err := holdSchedules(ctx, tx, name); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx, "DELETE FROM workflow WHERE name = $1", name)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}
