package store

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// DataKey finds or stores the sealed data key of a workspace.
func (s *Store) DataKey(ctx context.Context, workspace uuid.UUID, fresh []byte) (sealed []byte, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		if fresh != nil {
			if _, err := tx.Exec(ctx, "INSERT INTO data_key (workspace_id, sealed) VALUES ($1, $2) ON CONFLICT DO NOTHING", workspace, fresh); err != nil {
				return err
			}
		}
		return tx.QueryRow(ctx, "SELECT sealed FROM data_key WHERE workspace_id = $1", workspace).Scan(&sealed)
	})
	return sealed, err
}

// CodeKey finds or stores the sealed key of a workspace for codes and digests.
func (s *Store) CodeKey(ctx context.Context, workspace uuid.UUID, fresh []byte) (sealed []byte, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		if fresh != nil {
			if _, err := tx.Exec(ctx, "UPDATE data_key SET mac = $2 WHERE workspace_id = $1 AND mac IS NULL", workspace, fresh); err != nil {
				return err
			}
		}
		return tx.QueryRow(ctx, "SELECT mac FROM data_key WHERE workspace_id = $1", workspace).Scan(&sealed)
	})
	return sealed, err
}

// VaultFingerprint gives the fingerprint of the keyset that wraps the data
// keys; fresh is stored if there is none yet.
func (s *Store) VaultFingerprint(ctx context.Context, fresh string) (known string, err error) {
	if fresh != "" {
		if _, err := s.node.Exec(ctx, "INSERT INTO vault (fingerprint) VALUES ($1) ON CONFLICT DO NOTHING", fresh); err != nil {
			return "", unavailable(err)
		}
	}
	err = s.node.QueryRow(ctx, "SELECT fingerprint FROM vault").Scan(&known)
	return known, translate(err)
}

// SetVaultFingerprint records that everything is sealed with another keyset.
func (s *Store) SetVaultFingerprint(ctx context.Context, fingerprint string) error {
	_, err := s.node.Exec(ctx, "UPDATE vault SET fingerprint = $1", fingerprint)
	return unavailable(err)
}

// SealedWorkspaces lists the workspaces that have a data key.
func (s *Store) SealedWorkspaces(ctx context.Context) ([]uuid.UUID, error) {
	rows, err := s.node.Query(ctx, "SELECT workspace_id FROM data_key ORDER BY workspace_id")
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	return out, unavailable(err)
}

// sealedColumns are all places where ciphertexts lie: the table, its column, and
// the column of the id to which they are bound.
var sealedColumns = []struct{ table, column, id string }{
	{"connection", "secret", "id"}, {"connection", "token", "id"}, {"consent", "verifier", "id"}, {"hook_secret", "secret", "id"},
	{"data_key", "mac", "workspace_id"}, {"journal", "sealed", "run_id"}, {"stray", "sealed", "run_id"},
	{"rehearsal", "recording", "workflow_id"},
}

// ResealAll gives a workspace a new data key and new ciphertexts in one
// transaction; key and value make the new from the old. Table, column and row
// are what a ciphertext is bound to.
func (s *Store) ResealAll(ctx context.Context, workspace uuid.UUID, key func([]byte) ([]byte, error), value func(table, column string, row uuid.UUID, sealed []byte) ([]byte, error)) (n int, err error) {
	err = pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		n = 0
		var sealed []byte
		if err := tx.QueryRow(ctx, "SELECT sealed FROM data_key WHERE workspace_id = $1 FOR UPDATE", workspace).Scan(&sealed); err != nil {
			return err
		}
		fresh, err := key(sealed)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "UPDATE data_key SET sealed = $2 WHERE workspace_id = $1", workspace, fresh); err != nil {
			return err
		}
		for _, c := range sealedColumns {
			done, err := reseal(ctx, tx, workspace, c.table, c.column, c.id, value)
			if err != nil {
				return err
			}
			n += done
		}
		return nil
	})
	return n, translate(err)
}

// resealMost is how many ciphertexts are held in memory at a time.
const resealMost = 500

// reseal makes the ciphertexts of one column anew, through a cursor.
func reseal(ctx context.Context, tx pgx.Tx, workspace uuid.UUID, table, column, id string, value func(table, column string, row uuid.UUID, sealed []byte) ([]byte, error)) (n int, err error) {
	bound := table
	if table == "stray" { // it becomes an entry as it is
		bound = "journal"
	}
	if _, err := tx.Exec(ctx, "DECLARE sealed_"+table+"_"+column+" CURSOR FOR SELECT tableoid, ctid::text, "+id+", "+column+" FROM "+table+" WHERE workspace_id = '"+workspace.String()+"' AND "+column+" IS NOT NULL FOR UPDATE"); err != nil {
		return 0, err
	}
	type found struct {
		Table  uint32
		Place  string
		ID     uuid.UUID
		Sealed []byte
	}
	for {
		rows, err := tx.Query(ctx, fmt.Sprintf("FETCH %d FROM sealed_%s_%s", resealMost, table, column))
		if err != nil {
			return n, err
		}
		all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[found])
		if err != nil || len(all) == 0 {
			return n, err
		}
		for _, f := range all {
			b, err := value(bound, column, f.ID, f.Sealed)
			if err != nil {
				return n, err
			}
			if _, err := tx.Exec(ctx, "UPDATE "+table+" SET "+column+" = $3 WHERE tableoid = $1 AND ctid = $2::text::tid", f.Table, f.Place, b); err != nil {
				return n, err
			}
			n++
		}
	}
}
