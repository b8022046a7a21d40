package store

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// ChunkBytes is the size of the pieces in which files are kept.
const ChunkBytes = 1 << 20

// AddChunk stores a piece of a file that is being written.
func (s *Store) AddChunk(ctx context.Context, workspace, id uuid.UUID, number int, body []byte) error {
	_, err := s.node.Exec(ctx, "INSERT INTO file_chunk (workspace_id, id, number, body) VALUES ($1, $2, $3, $4)", workspace, id, number, body)
	return unavailable(err)
}

// SealFile makes what was written a file. Content that is there already is not
// kept twice.
func (s *Store) SealFile(ctx context.Context, workspace, id uuid.UUID, hash []byte, size int64) error {
	return translate(pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		var kept uuid.UUID
		err := tx.QueryRow(ctx, `INSERT INTO file (workspace_id, hash, id, size) VALUES ($1, $2, $3, $4)
			ON CONFLICT (workspace_id, hash) DO UPDATE SET used = now() RETURNING id`, workspace, hash, id, size).Scan(&kept)
		if err == nil && kept != id {
			_, err = tx.Exec(ctx, "DELETE FROM file_chunk WHERE workspace_id = $1 AND id = $2", workspace, id)
		}
		return err
	}))
}

// DropChunks forgets a file that was not written to its end.
func (s *Store) DropChunks(ctx context.Context, workspace, id uuid.UUID) error {
	_, err := s.node.Exec(ctx, "DELETE FROM file_chunk WHERE workspace_id = $1 AND id = $2", workspace, id)
	return unavailable(err)
}

// FindFile finds where a file's chunks are, and its size.
func (s *Store) FindFile(ctx context.Context, workspace uuid.UUID, hash []byte) (id uuid.UUID, size int64, err error) {
	err = s.node.QueryRow(ctx, "UPDATE file SET used = now() WHERE workspace_id = $1 AND hash = $2 RETURNING id, size", workspace, hash).Scan(&id, &size)
	return id, size, translate(err)
}

// Chunk reads one piece of a file; ErrNotFound after the last.
func (s *Store) Chunk(ctx context.Context, workspace, id uuid.UUID, number int) (body []byte, err error) {
	err = s.node.QueryRow(ctx, "SELECT body FROM file_chunk WHERE workspace_id = $1 AND id = $2 AND number = $3", workspace, id, number).Scan(&body)
	return body, translate(err)
}

// KeepFiles is how many days a file that nobody reads is kept: a little longer
// than the journals that name it.
const KeepFiles = 15

// SweepFiles forgets files that nobody has read or written for KeepFiles days,
// and pieces of files that were never finished.
func (s *Store) SweepFiles(ctx context.Context) error {
	_, err := s.node.Exec(ctx, `WITH gone AS (DELETE FROM file WHERE used < now() - make_interval(days => $1) RETURNING workspace_id, id)
		DELETE FROM file_chunk c USING gone WHERE c.workspace_id = gone.workspace_id AND c.id = gone.id`, KeepFiles)
	if err == nil {
		_, err = s.node.Exec(ctx, `DELETE FROM file_chunk c WHERE c.number = 0 AND NOT EXISTS (SELECT FROM file f WHERE f.workspace_id = c.workspace_id AND f.id = c.id)
			AND to_timestamp(('x0000' || left(replace(c.id::text, '-', ''), 12))::bit(64)::bigint / 1000.0) < now() - interval '1 day'`)
	}
	return unavailable(err)
}
