package test

import (
	"net/http"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// Whoever can write into the database, and knows no key, sends no secret elsewhere:
// what was entered is sealed together with where it may go, and as whose.
func TestASecretIsBoundToItsAddressAndAccount(t *testing.T) {
	t.Parallel()
	w := world(t)
	arrived := make(chan http.Header, 10)
	other := serveFunc(t, func(_ http.ResponseWriter, r *http.Request) { arrived <- r.Header })
	ctx := within(t, time.Minute)
	conn, err := pgx.Connect(ctx, w.DatabaseURL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	base := w.Service.Address + "/api/v1"
	status, answer := request(t, "PUT", base+"/allowances", w.Token, []byte(`{"addresses": ["`+other[len("http://"):]+`", "`+w.TablesBase[len("http://"):]+`"]}`))
	require.Equal(t, 200, status, answer)
	var pin, account string
	require.NoError(t, conn.QueryRow(ctx, "SELECT pin, account::text FROM connection WHERE name = 'tables'").Scan(&pin, &account))
	check := func() string {
		// Another node's hand is not told to this one, which keeps opened accounts for a
		// moment; to mend what nobody changed tells it.
		status, answer := request(t, "PUT", base+"/connections/tables/settings", w.Token, []byte(`{"everyone": true}`))
		require.Equal(t, 200, status, answer)
		status, answer = request(t, "POST", base+"/connections/tables/check", w.Token, nil)
		require.Equal(t, 200, status, answer)
		return answer
	}
	for name, change := range map[string]string{
		"the pin":         "UPDATE connection SET pin = '" + other + "' WHERE name = 'tables'",
		"the account":     `UPDATE connection SET account = jsonb_build_object('address', '` + other + `') WHERE name = 'tables'`,
		"both":            `UPDATE connection SET pin = '` + other + `', account = jsonb_build_object('address', '` + other + `') WHERE name = 'tables'`,
		"the application": "UPDATE connection SET connector = 'contacts' WHERE name = 'tables'",
		"the sign-in":     "UPDATE connection SET token_pin = 'http://x.example:80' WHERE name = 'tables'",
	} {
		_, err = conn.Exec(ctx, change)
		require.NoError(t, err, name)
		require.NotContains(t, check(), `"state":"ok"`, name)
		require.Empty(t, arrived, "%s: nothing goes out", name)
		_, err = conn.Exec(ctx, "UPDATE connection SET pin = $1, account = $2::jsonb, connector = 'tables', token_pin = '' WHERE name = 'tables'", pin, account)
		require.NoError(t, err)
		require.Contains(t, check(), `"state":"ok"`, "%s: as it was, it is used again", name)
	}
}
