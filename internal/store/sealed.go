package store

import (
	"context"

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

// sealedColumns are all places where ciphertexts lie.
var sealedColumns = []struct{ table, column string }{{"connection", "secret"}, {"connection", "token"}, {"consent", "verifier"}}

// ResealAll gives a workspace a new data key and new ciphertexts in one
// transaction; key and value make the new from the old.
func (s *Store) ResealAll(ctx context.Context, workspace uuid.UUID, key func([]byte) ([]byte, error), value func(table, column string, row uuid.UUID, sealed []byte) ([]byte, error)) (n int, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
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
			rows, err := tx.Query(ctx, "SELECT id, "+c.column+" FROM "+c.table+" WHERE workspace_id = $1 AND "+c.column+" IS NOT NULL FOR UPDATE", workspace)
			if err != nil {
				return err
			}
			type found struct {
				ID     uuid.UUID
				Sealed []byte
			}
			all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[found])
			if err != nil {
				return err
			}
			for _, f := range all {
				b, err := value(c.table, c.column, f.ID, f.Sealed)
				if err != nil {
					return err
				}
				if _, err := tx.Exec(ctx, "UPDATE "+c.table+" SET "+c.column+" = $3 WHERE workspace_id = $1 AND id = $2", workspace, f.ID, b); err != nil {
					return err
				}
				n++
			}
		}
		return nil
	})
	return n, err
}
