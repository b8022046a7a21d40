package outbound

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"youngtrellis/internal/core/call"
)

// Bounds of one query.
const (
	maxRows      = 100_000
	pageOfRows   = 500
	queryTimeout = 60 * time.Second
)

type question struct {
	Query  string `json:"query"`
	Params []any  `json:"params"`
	Key    string `json:"key"`
	Cursor string `json:"cursor"`
}

type database struct{}

// send asks PostgreSQL in a read-only transaction. The connection is built
// from fields: no connection string, no environment, no password or service
// file, no socket. The server makes JSON of each row, so that numbers stay exact.
func (database) send(ctx context.Context, c *Client, a *Account, request *call.Call, _ string, sent *call.Sent) (*call.Answer, error) {
	var q question
	d := json.NewDecoder(strings.NewReader(string(request.Body)))
	d.UseNumber()
	if err := d.Decode(&q); err != nil {
		return nil, bad("the query cannot be made: %v", err)
	}
	if request.URL.Query().Get("cursor") != "" {
		q.Cursor = request.URL.Query().Get("cursor")
	}
	conn, err := c.connectPostgres(ctx, a, request)
	if err != nil {
		return nil, a.queryFailure(ctx, err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	answer, err := c.ask(ctx, conn, &q)
	if err != nil {
		return nil, a.queryFailure(ctx, err)
	}
	sent.Status = http.StatusOK
	return &call.Answer{Status: http.StatusOK, Header: http.Header{"Content-Type": {"application/json"}}, Body: answer}, nil
}

func (c *Client) connectPostgres(ctx context.Context, a *Account, request *call.Call) (*pgx.Conn, error) {
	host := request.URL.Hostname()
	port, _ := strconv.ParseUint(request.URL.Port(), 10, 16)
	if port == 0 {
		port = 5432
	}
	// Parsed from a fixed text, so that nothing of the environment is left; then
	// every field is set.
	cfg, err := pgx.ParseConfig("host=localhost port=5432 user=nobody dbname=none password=x sslmode=disable passfile=/dev/null servicefile=/dev/null")
	if err != nil {
		return nil, err
	}
	cfg.Host, cfg.Port, cfg.Fallbacks, cfg.RuntimeParams = host, uint16(port), nil, map[string]string{"application_name": "young-trellis"}
	cfg.Database = strings.Trim(request.URL.Path, "/")
	cfg.User, cfg.Password = "", ""
	if a.Credentials != nil {
		cfg.User, cfg.Password = a.Credentials.Values["user"], a.Credentials.Values["secret"]
	}
	cfg.ConnectTimeout = 10 * time.Second
	if ip := net.ParseIP(host); (ip == nil || !ip.IsLoopback()) && host != "localhost" {
		cfg.TLSConfig = &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	}
	cfg.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil } // the dialler resolves and checks
	cfg.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		return c.Dial(ctx, a.Workspace, network, address)
	}
	cfg.DefaultQueryExecMode = pgx.QueryExecModeDescribeExec
	conn, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	if err := c.foreign(ctx, conn, cfg.Database); err != nil {
		conn.Close(context.WithoutCancel(ctx))
		return nil, err
	}
	return conn, nil
}

// OwnServer is said of a connection to the database that we keep everything in.
const OwnServer = "this is the database server of Young Trellis itself"

var errOwnServer = errors.New(OwnServer)

// foreign refuses our own server, which a workspace has no business to ask.
func (c *Client) foreign(ctx context.Context, conn *pgx.Conn, database string) error {
	if c.OwnSystem == "" {
		return nil
	}
	var id string
	if err := conn.QueryRow(ctx, "SELECT system_identifier::text FROM pg_control_system()").Scan(&id); err != nil {
		return nil //nolint:nilerr // a server that does not tell is not ours: our own does
	}
	if id == c.OwnSystem && !slices.Contains(c.Excepted, database) {
		return fmt.Errorf("%w: %w", errOwnServer, ErrForbidden)
	}
	return nil
}

func (c *Client) ask(ctx context.Context, conn *pgx.Conn, q *question) ([]byte, error) {
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{AccessMode: pgx.ReadOnly})
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	if _, err := tx.Exec(ctx, fmt.Sprintf("SET LOCAL statement_timeout = %d", queryTimeout.Milliseconds())); err != nil {
		return nil, err
	}
	text := strings.TrimRight(strings.TrimSpace(q.Query), "; \n\t")
	args := make([]any, len(q.Params))
	for i, p := range q.Params {
		args[i] = plainParam(p)
	}
	limit := maxRows + 1
	query := "SELECT row_to_json(q)::text FROM (" + text + "\n) AS q"
	if q.Key != "" {
		limit = pageOfRows
		key := pgx.Identifier{q.Key}.Sanitize()
		query = "SELECT row_to_json(q)::text, (q." + key + ")::text FROM (" + text + "\n) AS q"
		if q.Cursor != "" {
			args = append(args, q.Cursor)
			query += fmt.Sprintf(" WHERE q.%s > $%d", key, len(args))
		}
		query += " ORDER BY q." + key
	}
	query += fmt.Sprintf(" LIMIT %d", limit)
	rows, err := tx.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out strings.Builder
	out.WriteString(`{"rows":[`)
	n, last := 0, ""
	for rows.Next() {
		var row string
		if q.Key != "" {
			err = rows.Scan(&row, &last)
		} else {
			err = rows.Scan(&row)
		}
		if err != nil {
			return nil, err
		}
		if n++; n > maxRows {
			return nil, fmt.Errorf("the query gives more than %d rows; name a key column, so that they are read by pages", maxRows)
		}
		if out.Len()+len(row) > MaxResponse {
			return nil, fmt.Errorf("the rows have more than %d MiB; name a key column, or choose fewer columns", MaxResponse>>20)
		}
		if n > 1 {
			out.WriteByte(',')
		}
		out.WriteString(row)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	out.WriteString("]")
	if q.Key != "" && n == pageOfRows {
		b, _ := json.Marshal(last)
		out.WriteString(`,"next":` + string(b))
	}
	out.WriteString("}")
	return []byte(out.String()), nil
}

// plainParam gives a value in the text form that PostgreSQL reads into whatever
// type the query wants.
func plainParam(v any) any {
	switch v := v.(type) {
	case nil:
		return nil
	case string:
		return v
	case bool:
		return strconv.FormatBool(v)
	case json.Number:
		return v.String()
	}
	b, _ := json.Marshal(v)
	return string(b)
}

func (a *Account) queryFailure(ctx context.Context, err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		f := &call.Failure{Class: call.Refused, Message: a.Hide("the database answered: " + pg.Message)}
		if pg.Hint != "" {
			f.Message += " (" + pg.Hint + ")"
		}
		switch {
		case strings.HasPrefix(pg.Code, "28"):
			f.Status = http.StatusUnauthorized
		case pg.Code == "57014":
			f.Message = fmt.Sprintf("the query took longer than %s", queryTimeout)
		case strings.HasPrefix(pg.Code, "53"), strings.HasPrefix(pg.Code, "57P"), strings.HasPrefix(pg.Code, "08"):
			f.Retryable = true
		}
		return f
	}
	var connect *pgconn.ConnectError
	var own ours
	var network net.Error
	switch {
	case errors.As(err, &connect), errors.As(err, &own), errors.Is(err, ErrForbidden):
		return a.failure(ctx, err, false)
	case ctx.Err() != nil, errors.Is(err, context.DeadlineExceeded), errors.As(err, &network), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return a.failure(ctx, err, true) // it was asked, and cut before it had answered
	}
	return &call.Failure{Class: call.Refused, Message: a.Hide(err.Error())}
}
