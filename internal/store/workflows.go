package store

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/expr"
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
	Secured bool // a secret for callers has been made
	Taking  *time.Time
	Updated time.Time

	ChangedBy string // who saved the draft last
}

const workflowColumns = "id, name, title, draft, version, changed_by, state, live, numbers, hook, secret IS NOT NULL, taking_until, updated"

func scanWorkflow(row pgx.CollectableRow) (Workflow, error) {
	var w Workflow
	var numbers []byte
	err := row.Scan(&w.ID, &w.Name, &w.Title, &w.Draft, &w.Version, &w.ChangedBy, &w.State, &w.Live, &numbers, &w.Hook, &w.Secured, &w.Taking, &w.Updated)
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
		tag, err := tx.Exec(ctx, "DELETE FROM workflow WHERE name = $1", name)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}

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

// GoLive freezes the draft, if its version is still the one given, as the next
// revision and makes it the live one.
func (s *Store) GoLive(ctx context.Context, sc Scope, name string, version int64, numbers map[string]uint16, connectors []ConnectorVersion) (w Workflow, err error) {
	encoded, err := json.Marshal(numbers)
	if err != nil {
		return w, err
	}
	versions := map[string]int{}
	for _, c := range connectors {
		versions[c.Name] = c.Version
	}
	pins, err := json.Marshal(versions)
	if err != nil {
		return w, err
	}
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		if w, err = oneWorkflow(ctx, tx, "name = $1 FOR UPDATE", name); err != nil {
			return err
		}
		if version != 0 && w.Version != version {
			return ErrConflict
		}
		number := 1
		var same *int
		err := tx.QueryRow(ctx, "SELECT coalesce(max(number), 0) + 1, max(number) FILTER (WHERE document = $2 AND connectors = $3 AND library = $4) FROM revision WHERE workflow_id = $1", w.ID, w.Draft, pins, expr.Library).Scan(&number, &same)
		if err != nil {
			return err
		}
		if same != nil && *same == number-1 {
			number = *same // nothing changed since: it is live again
		} else if _, err := tx.Exec(ctx, "INSERT INTO revision (workspace_id, workflow_id, number, document, numbers, made_by, connectors, library) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)",
			sc.workspace, w.ID, number, w.Draft, encoded, sc.name, pins, expr.Library); err != nil {
			return err
		}
		for _, c := range connectors {
			if _, err := tx.Exec(ctx, "INSERT INTO connector_version (workspace_id, name, version, document, own, made_by) VALUES ($1, $2, $3, $4, false, $5) ON CONFLICT DO NOTHING", sc.workspace, c.Name, c.Version, c.Document, sc.name); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "UPDATE workflow SET live = $2, state = 'live', numbers = $3, updated = now() WHERE id = $1", w.ID, number, encoded); err != nil {
			return err
		}
		w, err = oneWorkflow(ctx, tx, "id = $1", w.ID)
		return err
	})
	return w, err
}

// SetState pauses a workflow or lets it go on.
func (s *Store) SetState(ctx context.Context, sc Scope, name, state string) (w Workflow, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE workflow SET state = $2, updated = now() WHERE name = $1 AND live IS NOT NULL", name, state); err != nil {
			return err
		}
		w, err = oneWorkflow(ctx, tx, "name = $1", name)
		return err
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

// NewHookSecret makes the secret that callers of the webhook prove; it is
// given once.
func (s *Store) NewHookSecret(ctx context.Context, sc Scope, name string) (string, error) {
	text := secret("yth_")
	return text, s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "UPDATE workflow SET secret = $2 WHERE name = $1", name, hashOf(text))
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}

// Hook is what the intake needs to know of an address.
type Hook struct {
	Workspace, Workflow uuid.UUID
	Name                string
	State               string
	Live                *int
	Secret              []byte
	Taking              bool
}

// HookByAddress finds the workflow that an address belongs to.
func (s *Store) HookByAddress(ctx context.Context, address string) (h Hook, err error) {
	err = s.node.QueryRow(ctx, "SELECT workspace_id, id, name, state, live, secret, coalesce(taking_until > now(), false) FROM workflow WHERE hook = $1", address).
		Scan(&h.Workspace, &h.Workflow, &h.Name, &h.State, &h.Live, &h.Secret, &h.Taking)
	return h, translate(err)
}

// HookScope is the scope of what a hook's caller sets off.
func (s *Store) HookScope(h Hook) Scope {
	return Scope{workspace: h.Workspace, name: "its webhook", role: Operator}
}

// Sample is an item kept for building and rehearsing.
type Sample struct {
	ID      uuid.UUID
	Fields  string // JSON
	Source  string
	Created time.Time
	// Expected is what should become of it, as JSON; "" where nothing is noted.
	Expected string
}

// Samples lists a workflow's samples, oldest first.
func (s *Store) Samples(ctx context.Context, sc Scope, workflow uuid.UUID) (out []Sample, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id, fields, source, created, expected FROM sample WHERE workflow_id = $1 ORDER BY id LIMIT 200", workflow)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Sample])
		return err
	})
	return out, err
}

// MaxSamples is how many samples a workflow keeps.
const MaxSamples = 200

// AddSample keeps an item. Taken tells that it came by a wait for the next.
func (s *Store) AddSample(ctx context.Context, sc Scope, workflow uuid.UUID, fields, source string, taken bool) (out Sample, err error) {
	out = Sample{ID: NewID(), Fields: fields, Source: source, Created: time.Now()}
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		var n int
		if err := tx.QueryRow(ctx, "SELECT count(*) FROM sample WHERE workflow_id = $1", workflow).Scan(&n); err != nil {
			return err
		}
		if n >= MaxSamples {
			return fmt.Errorf("the workflow keeps %d samples already; remove some first", MaxSamples)
		}
		if taken {
			if _, err := tx.Exec(ctx, "UPDATE workflow SET taking_until = NULL WHERE id = $1", workflow); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "INSERT INTO sample (workspace_id, workflow_id, id, fields, source) VALUES ($1, $2, $3, $4, $5)", sc.workspace, workflow, out.ID, fields, source)
		return err
	})
	return out, err
}

// ChangeSample gives one other fields. ErrNotFound: there is none.
func (s *Store) ChangeSample(ctx context.Context, sc Scope, workflow, id uuid.UUID, fields, source string) (out Sample, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "UPDATE sample SET fields = $3, source = $4 WHERE workflow_id = $1 AND id = $2 RETURNING id, fields, source, created, expected", workflow, id, fields, source)
		if err != nil {
			return err
		}
		out, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Sample])
		return err
	})
	return out, err
}

// ExpectOf notes what should become of a sample; "" for nothing. ErrNotFound: there
// is none.
func (s *Store) ExpectOf(ctx context.Context, sc Scope, workflow, id uuid.UUID, expected string) (out Sample, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "UPDATE sample SET expected = $3 WHERE workflow_id = $1 AND id = $2 RETURNING id, fields, source, created, expected", workflow, id, expected)
		if err != nil {
			return err
		}
		out, err = pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Sample])
		return err
	})
	return out, err
}

// DeleteSample removes one.
func (s *Store) DeleteSample(ctx context.Context, sc Scope, workflow, id uuid.UUID) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "DELETE FROM sample WHERE workflow_id = $1 AND id = $2", workflow, id)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}

// TakeSample lets the next delivery within the time become a sample.
func (s *Store) TakeSample(ctx context.Context, sc Scope, workflow uuid.UUID, within time.Duration) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "UPDATE workflow SET taking_until = now() + $2::interval WHERE id = $1", workflow, within.String())
		return err
	})
}

// Delivery is one call that arrived at a webhook.
type Delivery struct {
	ID      uuid.UUID
	Verdict string
	Reason  string
	Run     *uuid.UUID
	Bytes   int
	Excerpt string
}

const deliveriesKept = 50

// AddDelivery records what arrived, and keeps the last fifty.
func (s *Store) AddDelivery(ctx context.Context, sc Scope, workflow uuid.UUID, d Delivery) error {
	d.ID = NewID()
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO delivery (workspace_id, workflow_id, id, verdict, reason, run_id, bytes, excerpt) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)",
			sc.workspace, workflow, d.ID, d.Verdict, d.Reason, d.Run, d.Bytes, d.Excerpt); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "DELETE FROM delivery WHERE workflow_id = $1 AND id < (SELECT id FROM delivery WHERE workflow_id = $1 ORDER BY id DESC OFFSET $2 LIMIT 1)", workflow, deliveriesKept-1)
		return err
	})
}

// Deliveries lists what arrived of late, newest first.
func (s *Store) Deliveries(ctx context.Context, sc Scope, workflow uuid.UUID) (out []Delivery, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id, verdict, reason, run_id, bytes, excerpt FROM delivery WHERE workflow_id = $1 ORDER BY id DESC", workflow)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Delivery])
		return err
	})
	return out, err
}

// SaveRehearsal keeps the last rehearsal of a workflow, with what it has read,
// sealed.
func (s *Store) SaveRehearsal(ctx context.Context, sc Scope, workflow uuid.UUID, body, recording []byte) (made time.Time, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, "INSERT INTO rehearsal (workspace_id, workflow_id, body, recording) VALUES ($1, $2, $3, $4) ON CONFLICT (workspace_id, workflow_id) DO UPDATE SET body = EXCLUDED.body, recording = EXCLUDED.recording, made = clock_timestamp() RETURNING made", sc.workspace, workflow, body, recording).Scan(&made)
	})
	return made, err
}

// Recording is what the last rehearsal has read, and when it was made; without the
// recording if it is the one that is known, without a time if there is none.
func (s *Store) Recording(ctx context.Context, sc Scope, workflow uuid.UUID, known time.Time) (recording []byte, made time.Time, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, "SELECT made, CASE WHEN made = $2 THEN NULL ELSE recording END FROM rehearsal WHERE workflow_id = $1 AND recording IS NOT NULL", workflow, known).Scan(&made, &recording)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		return err
	})
	return recording, made, err
}

// Rehearsal gives the last one.
func (s *Store) Rehearsal(ctx context.Context, sc Scope, workflow uuid.UUID) (body []byte, made time.Time, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, "SELECT body, made FROM rehearsal WHERE workflow_id = $1", workflow).Scan(&body, &made)
	})
	return body, made, err
}
