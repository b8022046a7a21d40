package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

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
