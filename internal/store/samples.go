package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

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

// ErrSamplesFull says that a workflow keeps as many samples as it may.
var ErrSamplesFull = fmt.Errorf("the workflow keeps %d samples already; remove some first", MaxSamples)

// AddSample keeps an item. Taken tells that it came by a wait for the next, which is
// over then, also where there is no room: ErrSamplesFull.
func (s *Store) AddSample(ctx context.Context, sc Scope, workflow uuid.UUID, fields, source string, taken bool) (out Sample, err error) {
	out, full := Sample{ID: NewID(), Fields: fields, Source: source, Created: time.Now()}, false
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		var n int
		if err := tx.QueryRow(ctx, "SELECT count(*) FROM sample WHERE workflow_id = $1", workflow).Scan(&n); err != nil {
			return err
		}
		if taken {
			if _, err := tx.Exec(ctx, "UPDATE workflow SET taking_until = NULL WHERE id = $1", workflow); err != nil {
				return err
			}
		}
		if full = n >= MaxSamples; full {
			return nil
		}
		_, err := tx.Exec(ctx, "INSERT INTO sample (workspace_id, workflow_id, id, fields, source) VALUES ($1, $2, $3, $4, $5)", sc.workspace, workflow, out.ID, fields, source)
		return err
	})
	if err == nil && full {
		err = ErrSamplesFull
	}
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

// TakeSample lets the next delivery within the time become a sample: plain, or with what
// is personal in it masked.
func (s *Store) TakeSample(ctx context.Context, sc Scope, workflow uuid.UUID, within time.Duration, plain bool) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "UPDATE workflow SET taking_until = now() + $2::interval, taking_plain = $3 WHERE id = $1", workflow, within.String(), plain)
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
	Items   []byte // that it brought, a JSON list; nil where it is only listed, or cannot be read
	Whole   bool   // they are kept
}

const deliveriesKept = 50

// AddDelivery records what arrived, and keeps the last fifty.
func (s *Store) AddDelivery(ctx context.Context, sc Scope, workflow uuid.UUID, d Delivery) error {
	d.ID = NewID()
	var items []byte
	if d.Items != nil {
		items = pack(d.Items)
	}
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO delivery (workspace_id, workflow_id, id, verdict, reason, run_id, bytes, excerpt, items) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
			sc.workspace, workflow, d.ID, d.Verdict, d.Reason, d.Run, d.Bytes, d.Excerpt, items); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "DELETE FROM delivery WHERE workflow_id = $1 AND id < (SELECT id FROM delivery WHERE workflow_id = $1 ORDER BY id DESC OFFSET $2 LIMIT 1)", workflow, deliveriesKept-1)
		return err
	})
}

// Deliveries lists what arrived of late, newest first.
func (s *Store) Deliveries(ctx context.Context, sc Scope, workflow uuid.UUID) (out []Delivery, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id, verdict, reason, run_id, bytes, excerpt, NULL::bytea, items IS NOT NULL FROM delivery WHERE workflow_id = $1 ORDER BY id DESC", workflow)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Delivery])
		return err
	})
	return out, err
}

// DeliveryItems gives the items that a delivery brought, a JSON list. ErrNotFound: there
// is no such delivery, or they are not kept.
func (s *Store) DeliveryItems(ctx context.Context, sc Scope, workflow, id uuid.UUID) (items []byte, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, "SELECT items FROM delivery WHERE workflow_id = $1 AND id = $2 AND items IS NOT NULL", workflow, id).Scan(&items)
	})
	if err != nil {
		return nil, translate(err)
	}
	return unpack(items)
}
