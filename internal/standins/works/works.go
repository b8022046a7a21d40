// Package works is the works database of Ottermere: a real PostgreSQL database
// with orders, stock, pieces and firings, and a role of its own that may only
// read it.
package works

import (
	"context"
	"fmt"
	"html/template"
	"net/url"
	"time"

	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/standins"
)

// Works is the database.
type Works struct {
	*standins.Stand
	address string
}

// New fills the database at address, as its owner, and makes the reading role.
func New(ctx context.Context, o standins.Setup, address string) (*Works, error) {
	w := &Works{address: address}
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	password := o.Key("works")
	role := conn.Config().Database + "_reader" // roles belong to the whole server
	if len(role) > 63 {
		role = role[len(role)-63:]
	}
	day := o.Day.Format("2006-01-02")
	for _, q := range []string{
		"DROP TABLE IF EXISTS pieces, firings, stock, orders",
		"CREATE TABLE pieces (id int PRIMARY KEY, piece text, studio text, phone text, cone text, height_cm int, dry_since date, fired_at timestamptz)",
		"CREATE TABLE firings (id int PRIMARY KEY, kiln int, cone text, began timestamptz, ended timestamptz)",
		"CREATE TABLE stock (article text PRIMARY KEY, kind text, kg numeric(10,2), reorder_below numeric(10,2))",
		"CREATE TABLE orders (number bigint PRIMARY KEY, studio text, placed date, total numeric(10,2), open boolean)",
		"INSERT INTO pieces SELECT i, (ARRAY['Tall jug','Six beakers','Ash bowl','Large platter','Teapot','Test rings'])[i % 6 + 1] || ' ' || i, (ARRAY['Hollowbank Pottery','Osierbed Ceramics','Tern & Tide','Saltgrass Studio'])[i % 4 + 1], '+4416329601' || lpad((i % 100)::text, 2, '0'), (ARRAY['9','04','6'])[i % 3 + 1], 5 + i % 40, '" + day + "'::date - (i % 15), CASE WHEN i % 5 = 0 THEN '" + day + "'::timestamptz - make_interval(hours => i) END FROM generate_series(1, 1200) i",
		"INSERT INTO firings SELECT i, i % 3 + 1, (ARRAY['9','04','6'])[i % 3 + 1], '" + day + "'::timestamptz - make_interval(hours => 20 * i), '" + day + "'::timestamptz - make_interval(hours => 20 * i - 11) FROM generate_series(1, 60) i",
		"INSERT INTO stock SELECT 'glaze ' || i, (ARRAY['glaze','clay','oxide'])[i % 3 + 1], 10.25 * (i % 9), 25 FROM generate_series(1, 40) i",
		"INSERT INTO orders SELECT 9007199254740993 + i, (ARRAY['Hollowbank Pottery','Osierbed Ceramics','Quern Lane'])[i % 3 + 1], '" + day + "'::date - i, 19.99 * (1 + i % 20), i % 4 = 0 FROM generate_series(1, 200) i",
	} {
		if _, err := conn.Exec(ctx, q); err != nil {
			return nil, fmt.Errorf("the works database: %w", err)
		}
	}
	quoted := "'" + password + "'" // made by us, of letters and digits
	for _, q := range []string{
		"DO $$ BEGIN PERFORM pg_advisory_xact_lock(7243105519); IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = '" + role + "') THEN CREATE ROLE " + role + " LOGIN; END IF; EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL; END $$",
		"ALTER ROLE " + role + " PASSWORD " + quoted,
		"GRANT CONNECT ON DATABASE " + pgx.Identifier{conn.Config().Database}.Sanitize() + " TO " + role,
		"GRANT SELECT ON ALL TABLES IN SCHEMA public TO " + role,
	} {
		if _, err := conn.Exec(ctx, q); err != nil {
			return nil, fmt.Errorf("the works database: %w", err)
		}
	}
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	service := standins.Build(standins.Spec{Name: "Works database", About: "PostgreSQL with the tables pieces, firings, stock and orders.", Page: w.page})
	w.Stand = &standins.Stand{Service: service, Connector: "postgres", NoAddress: true, Account: map[string]string{"host": u.Hostname(), "port": u.Port(), "database": u.Path[1:]},
		Values: map[string]string{"user": role, "secret": password}}
	return w, nil
}

func (w *Works) page() template.HTML {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, w.address)
	if err != nil {
		return "<p>The database does not answer.</p>"
	}
	defer conn.Close(ctx)
	rows := [][]string{}
	for _, t := range []string{"pieces", "firings", "stock", "orders"} {
		var n int
		if conn.QueryRow(ctx, "SELECT count(*) FROM "+t).Scan(&n) == nil {
			rows = append(rows, []string{t, fmt.Sprint(n)})
		}
	}
	return "<h2>Tables</h2>" + standins.Table([]string{"table", "rows"}, rows)
}
