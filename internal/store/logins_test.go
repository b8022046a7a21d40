package store

import (
	"context"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
)

// A connection of one part cannot become another, whatever is asked over it.
func TestAPoolCannotBecomeAnother(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	for part, p := range map[string]*pgxpool.Pool{"trellis_api": b.api, "trellis_node": b.node, "trellis_people": b.people} {
		var user, session string
		var member, super bool
		require.NoError(t, p.QueryRow(ctx, "SELECT current_user, session_user, pg_has_role(session_user, $1, 'MEMBER'), rolsuper OR rolcreaterole OR rolcreatedb OR rolbypassrls FROM pg_roles WHERE rolname = session_user", part).Scan(&user, &session, &member, &super))
		require.Equal(t, session, user, "it has not taken a role on, which it could lay down")
		require.Contains(t, session, part+"_")
		require.True(t, member)
		require.False(t, super)
		for _, other := range []string{"trellis_api", "trellis_node", "trellis_people", "trellis_owner", "postgres"} {
			if other == part {
				continue
			}
			_, err := p.Exec(ctx, "SET ROLE "+other)
			require.ErrorContains(t, err, "permission denied", "%s as %s", part, other)
		}
		for _, query := range []string{"SELECT password FROM login", "SET SESSION AUTHORIZATION trellis_owner", "ALTER ROLE CURRENT_USER CREATEROLE", "CREATE TABLE x (y int)", "ALTER TABLE person DISABLE ROW LEVEL SECURITY", "DROP POLICY own_people ON person"} {
			_, err := p.Exec(ctx, query)
			require.Error(t, err, "%s: %s", part, query)
		}
	}
	_, err := b.api.Exec(ctx, "BEGIN; SET LOCAL row_security = off; SELECT count(*) FROM workflow")
	require.Error(t, err, "what would be filtered is refused, not shown")
}

// Who opens the database again finds the roles that are there, and both go on.
func TestLoginsAreMadeOnce(t *testing.T) {
	t.Parallel()
	address := clustertest.Database(t)
	b := openAt(t, address, slog.New(slog.DiscardHandler))
	ctx := context.Background()
	again, err := Open(ctx, address, "another")
	require.NoError(t, err)
	defer again.Close()
	var here, there string
	require.NoError(t, b.api.QueryRow(ctx, "SELECT session_user").Scan(&here))
	require.NoError(t, again.api.QueryRow(ctx, "SELECT session_user").Scan(&there))
	require.Equal(t, here, there)
	b.api.Reset() // it logs in anew
	require.NoError(t, b.api.Ping(ctx))
}

// Without the right to make roles the service logs in as the owner and takes the
// parts' roles on, which must be there.
func TestWithoutTheRightToMakeRolesTheyAreTakenOn(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	address := clustertest.Database(t)
	open(t) // some database has made the parts' roles
	c, err := pgx.Connect(ctx, address)
	require.NoError(t, err)
	defer c.Close(ctx)
	u, err := url.Parse(address)
	require.NoError(t, err)
	name := "plain_" + strings.TrimPrefix(u.Path, "/")
	_, err = c.Exec(ctx, fmt.Sprintf("CREATE ROLE %[1]s LOGIN PASSWORD 'planted' IN ROLE trellis_api, trellis_node, trellis_people; GRANT CONNECT, CREATE ON DATABASE %[2]s TO %[1]s; GRANT ALL ON SCHEMA public TO %[1]s WITH GRANT OPTION", name, strings.TrimPrefix(u.Path, "/")))
	require.NoError(t, err)
	u.User = url.UserPassword(name, "planted")
	b := openAt(t, u.String(), slog.New(slog.DiscardHandler))
	for part, p := range map[string]*pgxpool.Pool{"trellis_api": b.api, "trellis_node": b.node, "trellis_people": b.people} {
		var user, session string
		require.NoError(t, p.QueryRow(ctx, "SELECT current_user, session_user").Scan(&user, &session))
		require.Equal(t, []string{part, name}, []string{user, session})
	}
	_, err = b.CheckPassword(ctx, "mara@ottermere.example", "a password to test")
	require.NoError(t, err)
}
