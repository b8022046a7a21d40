package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// ConnectorVersion is a connector document as a workspace knows it.
type ConnectorVersion struct {
	Name     string
	Version  int
	Document string
	Own      bool // made here; else a copy of a shipped one, kept for revisions
	Made     time.Time
	MadeBy   string
}

func scanConnector(row pgx.CollectableRow) (c ConnectorVersion, err error) {
	return c, row.Scan(&c.Name, &c.Version, &c.Document, &c.Own, &c.Made, &c.MadeBy)
}

// OwnConnectors lists the newest version of each connector made in a workspace.
func (s *Store) OwnConnectors(ctx context.Context, workspace uuid.UUID) (out []ConnectorVersion, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT DISTINCT ON (name) name, version, document, own, made, made_by FROM connector_version WHERE own ORDER BY name, version DESC LIMIT 1000")
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, scanConnector)
		return err
	})
	return out, err
}

// ConnectorVersion finds one version of a connector.
func (s *Store) ConnectorVersion(ctx context.Context, workspace uuid.UUID, name string, version int) (c ConnectorVersion, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT name, version, document, own, made, made_by FROM connector_version WHERE name = $1 AND version = $2", name, version)
		if err != nil {
			return err
		}
		c, err = pgx.CollectExactlyOneRow(rows, scanConnector)
		return err
	})
	return c, err
}

// AddConnector stores a version; one that is there already is not changed, and
// ErrTaken says so unless it is the same.
func (s *Store) AddConnector(ctx context.Context, sc Scope, c ConnectorVersion) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error { return addConnector(ctx, tx, sc, c) })
}

func addConnector(ctx context.Context, tx pgx.Tx, sc Scope, c ConnectorVersion) error {
	tag, err := tx.Exec(ctx, "INSERT INTO connector_version (workspace_id, name, version, document, own, made_by) VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT DO NOTHING",
		sc.workspace, c.Name, c.Version, c.Document, c.Own, sc.name)
	if err != nil || tag.RowsAffected() == 1 {
		return err
	}
	var known string
	if err := tx.QueryRow(ctx, "SELECT document FROM connector_version WHERE name = $1 AND version = $2", c.Name, c.Version).Scan(&known); err != nil {
		return err
	}
	if known != c.Document {
		return ErrTaken
	}
	return nil
}

// ErrVersionTaken says that somebody else stored a version of a connector meanwhile.
var ErrVersionTaken = errors.New("the version is taken")

// AddConnectorAndConnection stores both or neither; what is nil is there already.
func (s *Store) AddConnectorAndConnection(ctx context.Context, sc Scope, v *ConnectorVersion, c *Connection) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		if v != nil {
			if err := addConnector(ctx, tx, sc, *v); errors.Is(err, ErrTaken) {
				return ErrVersionTaken
			} else if err != nil {
				return err
			}
		}
		if c != nil {
			return addConnection(ctx, tx, sc, *c)
		}
		return nil
	})
}

// RemoveConnector deletes a connector made here, all its versions.
func (s *Store) RemoveConnector(ctx context.Context, sc Scope, name string) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "DELETE FROM connector_version WHERE name = $1 AND own", name)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}
