package store

import (
	"context"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/item"
)

// What people do with items that wait for them.
const (
	MendRetry   = "retry"
	MendConfirm = "confirm" // of those that may have been sent: they were
)

// Mending is what somebody does with many items at once, run by run.
type Mending struct {
	ID          uuid.UUID
	What        string
	Newest      bool
	Started     time.Time
	StartedBy   string
	Cancelled   *time.Time
	CancelledBy string
	Runs        []MendingRun
}

// MendingRun is what of a mending happens in one run.
type MendingRun struct {
	Run       uuid.UUID
	Addresses []item.Address
	Edits     map[string]ItemEdit // by address, as text
	State     string              // pending, begun, refused, cancelled
	Pass      int
	Message   string

	Ended bool // it has begun, and its pass is over
	Begun int  // items of which the pass has something in the journal
	Still int  // items that wait for a person again, or still
}

// ItemEdit is what is to stand in place of an item's fields: all of them, or some.
type ItemEdit struct {
	Fields json.RawMessage `json:"fields,omitempty"`
	Set    json.RawMessage `json:"set,omitempty"`
	Unset  []string        `json:"unset,omitempty"`
}

// Mend makes a mending of the items that a filter finds, but for those that are
// in one already. Edits are of single items. It tells how many items and runs.
func (s *Store) Mend(ctx context.Context, sc Scope, m *Mending, f AsideFilter, only map[uuid.UUID]MendingRun) (items, runs int, err error) {
	m.ID = uuid.Must(uuid.NewV7())
	where, args := f.where(sc)
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO mending (workspace_id, id, what, newest, started_by) VALUES ($1, $2, $3, $4, $5)", sc.workspace, m.ID, m.What, m.Newest, sc.name); err != nil {
			return err
		}
		if only != nil {
			for run, r := range only {
				list := make([][]byte, len(r.Addresses))
				for i, a := range r.Addresses {
					list[i] = []byte(a)
				}
				if _, err := tx.Exec(ctx, "INSERT INTO mending_run (workspace_id, mending_id, run_id, addresses, edits) VALUES ($1, $2, $3, $4, $5)", sc.workspace, m.ID, run, list, r.Edits); err != nil {
					return err
				}
				items, runs = items+len(list), runs+1
			}
			return nil
		}
		args = append(args, m.ID)
		return tx.QueryRow(ctx, `WITH i AS (INSERT INTO mending_run (workspace_id, mending_id, run_id, addresses)
				SELECT a.workspace_id, $`+strconv.Itoa(len(args))+`, a.run_id, array_agg(a.address ORDER BY a.address) FROM aside a WHERE `+where+`
					AND NOT EXISTS (SELECT FROM live l WHERE l.workspace_id = a.workspace_id AND l.run_id = a.run_id)
				GROUP BY a.workspace_id, a.run_id RETURNING cardinality(addresses) AS n)
			SELECT coalesce(sum(n), 0)::int, count(*)::int FROM i`, args...).Scan(&items, &runs)
	})
	return items, runs, err
}

// Mending finds one, with how far it is.
func (s *Store) Mending(ctx context.Context, sc Scope, id uuid.UUID) (m Mending, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id, what, newest, started, started_by, cancelled, cancelled_by FROM mending WHERE workspace_id = $1 AND id = $2", sc.workspace, id)
		if err != nil {
			return err
		}
		if m, err = pgx.CollectExactlyOneRow(rows, scanMending); err != nil {
			return err
		}
		m.Runs, err = mendingRuns(ctx, tx, sc, id)
		return err
	})
	return m, err
}

// Mendings lists the newest, without their runs.
func (s *Store) Mendings(ctx context.Context, sc Scope, limit int) (out []Mending, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id, what, newest, started, started_by, cancelled, cancelled_by FROM mending WHERE workspace_id = $1 ORDER BY id DESC LIMIT $2", sc.workspace, limit)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, scanMending)
		return err
	})
	return out, err
}

func scanMending(row pgx.CollectableRow) (m Mending, err error) {
	err = row.Scan(&m.ID, &m.What, &m.Newest, &m.Started, &m.StartedBy, &m.Cancelled, &m.CancelledBy)
	return m, err
}

// mendingRuns tells of each run how far it is: what of its pass is in the
// journal, and what of its items waits for a person still.
func mendingRuns(ctx context.Context, tx pgx.Tx, sc Scope, id uuid.UUID) ([]MendingRun, error) {
	rows, err := tx.Query(ctx, `SELECT m.run_id, m.addresses, m.edits, m.state, coalesce(m.pass, 0), m.message,
			m.state = 'begun' AND NOT EXISTS (SELECT FROM live l WHERE l.workspace_id = m.workspace_id AND l.run_id = m.run_id AND l.pass = m.pass) AS ended,
			CASE WHEN m.state = 'begun' THEN (SELECT count(DISTINCT j.address) FROM journal j WHERE j.workspace_id = m.workspace_id AND j.run_id = m.run_id AND j.pass = m.pass AND j.part > -9 AND j.address = ANY (m.addresses)) ELSE 0 END,
			(SELECT count(*) FROM aside a WHERE a.workspace_id = m.workspace_id AND a.run_id = m.run_id AND a.address = ANY (m.addresses) AND (m.pass IS NULL OR a.pass >= m.pass))
		FROM mending_run m WHERE m.workspace_id = $1 AND m.mending_id = $2 ORDER BY m.run_id`, sc.workspace, id)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (r MendingRun, err error) {
		var list [][]byte
		err = row.Scan(&r.Run, &list, &r.Edits, &r.State, &r.Pass, &r.Message, &r.Ended, &r.Begun, &r.Still)
		for _, a := range list {
			r.Addresses = append(r.Addresses, item.Address(a))
		}
		return r, err
	})
}

// CancelMending lets nothing more of it begin, and gives the runs in which
// something of it is under way.
func (s *Store) CancelMending(ctx context.Context, sc Scope, id uuid.UUID) (under []uuid.UUID, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		// One that has ended stays what it was.
		var going bool
		err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT FROM mending_run r WHERE r.workspace_id = $1 AND r.mending_id = $2 AND (r.state = 'pending'
			OR r.state = 'begun' AND EXISTS (SELECT FROM live l WHERE l.workspace_id = r.workspace_id AND l.run_id = r.run_id AND l.pass = r.pass))) FROM mending WHERE workspace_id = $1 AND id = $2 FOR UPDATE`, sc.workspace, id).Scan(&going)
		if err != nil || !going {
			return err
		}
		if _, err := tx.Exec(ctx, "UPDATE mending SET cancelled = coalesce(cancelled, now()), cancelled_by = CASE WHEN cancelled IS NULL THEN $3 ELSE cancelled_by END WHERE workspace_id = $1 AND id = $2", sc.workspace, id, sc.name); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "UPDATE mending_run SET state = 'cancelled' WHERE workspace_id = $1 AND mending_id = $2 AND state = 'pending'", sc.workspace, id); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `SELECT m.run_id FROM mending_run m JOIN live l ON l.workspace_id = m.workspace_id AND l.run_id = m.run_id AND l.pass = m.pass
			WHERE m.workspace_id = $1 AND m.mending_id = $2 AND m.state = 'begun'`, sc.workspace, id)
		if err != nil {
			return err
		}
		under, err = pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
		return err
	})
	return under, err
}

// Pending is a run of a mending that is to begin.
type Pending struct {
	Workspace, Mending, Run uuid.UUID
	What, By                string
	Newest                  bool
	Addresses               []item.Address
	Edits                   map[string]ItemEdit

	tx pgx.Tx
}

// mendingMost is how many runs of one mending are under way at once: what has not
// begun can be cancelled without touching it.
const mendingMost = 50

// NextPending gives work a run of a mending that is to begin, in a transaction
// that ends with it, and tells whether there was one. Whatever work says of the
// run is kept.
func (s *Store) NextPending(ctx context.Context, work func(context.Context, *Pending) (Pass, error)) (bool, error) {
	found := false
	err := pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		p := &Pending{tx: tx}
		var list [][]byte
		err := tx.QueryRow(ctx, `SELECT m.workspace_id, m.mending_id, m.run_id, g.what, g.started_by, g.newest, m.addresses, m.edits
			FROM mending_run m JOIN mending g ON g.workspace_id = m.workspace_id AND g.id = m.mending_id
			WHERE m.state = 'pending' AND (SELECT count(*) FROM mending_run b JOIN live l ON l.workspace_id = b.workspace_id AND l.run_id = b.run_id AND l.pass = b.pass
				WHERE b.workspace_id = m.workspace_id AND b.mending_id = m.mending_id AND b.state = 'begun') < $1
			ORDER BY m.mending_id, m.run_id LIMIT 1 FOR UPDATE OF m SKIP LOCKED`, mendingMost).Scan(&p.Workspace, &p.Mending, &p.Run, &p.What, &p.By, &p.Newest, &list, &p.Edits)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		found = true
		for _, a := range list {
			p.Addresses = append(p.Addresses, item.Address(a))
		}
		state, message, number := "begun", "", 0
		pass, err := work(ctx, p)
		var refused *Refused
		switch {
		case errors.As(err, &refused):
			state, message = "refused", refused.Why
		case err != nil:
			return err
		default:
			number, err = newPass(ctx, tx, p.By, p.Run, pass)
			switch {
			case errors.Is(err, pgx.ErrNoRows):
				state, message = "refused", "the run is in a further pass already, or was cancelled"
			case err != nil:
				return err
			}
		}
		_, err = tx.Exec(ctx, "UPDATE mending_run SET state = $4, message = $5, pass = nullif($6, 0) WHERE workspace_id = $1 AND mending_id = $2 AND run_id = $3", p.Workspace, p.Mending, p.Run, state, message, number)
		return err
	})
	return found, unavailable(err)
}

// Refused is why a run of a mending cannot begin.
type Refused struct{ Why string }

func (r *Refused) Error() string { return r.Why }

// Aside reads what is known of the items of the run that wait for a person.
func (p *Pending) Aside(ctx context.Context) (map[item.Address]Aside, error) {
	list := make([][]byte, len(p.Addresses))
	for i, a := range p.Addresses {
		list[i] = []byte(a)
	}
	rows, err := p.tx.Query(ctx, "SELECT "+asideColumns+" FROM aside a WHERE a.workspace_id = $1 AND a.run_id = $2 AND a.address = ANY ($3) AND a.dismissed IS NULL", p.Workspace, p.Run, list)
	if err != nil {
		return nil, err
	}
	found, err := pgx.CollectRows(rows, scanAside)
	out := make(map[item.Address]Aside, len(found))
	for _, a := range found {
		out[a.Address] = a
	}
	return out, err
}

// Line is what is known of the run.
func (p *Pending) Line(ctx context.Context) (r Run, live int, err error) {
	err = p.tx.QueryRow(ctx, `SELECT r.run_id, r.workflow_id, r.state, r.pass, r.revision, coalesce(w.live, r.revision)
		FROM run r JOIN workflow w ON w.workspace_id = r.workspace_id AND w.id = r.workflow_id WHERE r.workspace_id = $1 AND r.run_id = $2`, p.Workspace, p.Run).Scan(&r.ID, &r.Workflow, &r.State, &r.Pass, &r.Revision, &live)
	return r, live, err
}
