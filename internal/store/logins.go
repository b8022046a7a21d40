package store

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// login is as whom a pool logs in.
type login struct{ name, password string }

// parts are the roles that the service works as, one for each pool.
var parts = []string{"trellis_api", "trellis_node", "trellis_people"}

// logins makes a login role for each part, which is in that part's role and in
// nothing else, and keeps to what it made before. Their passwords are random, lie in
// the database where only its owner reads them, and are of use to nobody who is not
// its owner already. Without the right to make roles there are none: then the pools
// log in as the owner, and take on the part's role, which they could lay down again.
func logins(ctx context.Context, address string) (out map[string]login, err error) {
	c, err := pgx.Connect(ctx, address)
	if err != nil {
		return nil, err
	}
	defer func() { _ = c.Close(context.WithoutCancel(ctx)) }()
	var may bool
	if err := c.QueryRow(ctx, "SELECT rolcreaterole OR rolsuper FROM pg_roles WHERE rolname = CURRENT_USER").Scan(&may); err != nil {
		return nil, err
	}
	if !may {
		return nil, nil
	}
	out = map[string]login{}
	err = pgx.BeginFunc(ctx, c, func(tx pgx.Tx) error {
		// Nodes that start together make them once.
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(7243105519)"); err != nil {
			return err
		}
		for _, part := range parts {
			l := login{}
			err := tx.QueryRow(ctx, `INSERT INTO login (role, name, password) SELECT $1, $1 || '_' || left(md5(current_database() || '/' || system_identifier), 12), $2 FROM pg_control_system()
				ON CONFLICT (role) DO UPDATE SET role = EXCLUDED.role RETURNING name, password`, part, secret("")).Scan(&l.name, &l.password)
			if err != nil {
				return err
			}
			if err := ensureLogin(ctx, tx, part, l); err != nil {
				return fmt.Errorf("making the database role %s: %w", l.name, err)
			}
			out[part] = l
		}
		return nil
	})
	return out, err
}

// ensureLogin makes a role, or gives it its password again: the database may have
// been restored where there was none, or another.
func ensureLogin(ctx context.Context, tx pgx.Tx, part string, l login) error {
	name := pgx.Identifier{l.name}.Sanitize()
	// The password is of letters, digits, _ and - alone.
	made := fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD '%s' IN ROLE %s", name, l.password, pgx.Identifier{part}.Sanitize())
	var there bool
	if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_roles WHERE rolname = $1)", l.name).Scan(&there); err != nil {
		return err
	}
	if there {
		made = fmt.Sprintf("ALTER ROLE %s LOGIN PASSWORD '%s'", name, l.password)
	}
	if _, err := tx.Exec(ctx, made); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, fmt.Sprintf("GRANT CONNECT ON DATABASE %s TO %s", pgx.Identifier{tx.Conn().Config().Database}.Sanitize(), name)); err != nil {
		return err
	}
	// The owner ends the connections of a node that has died, and must be in their role.
	_, err := tx.Exec(ctx, fmt.Sprintf("GRANT %s TO CURRENT_USER", name))
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "42710" {
		return nil
	}
	return err
}
