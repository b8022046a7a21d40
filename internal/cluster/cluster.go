// Package cluster runs a private PostgreSQL cluster in a folder of its own, on
// a free loopback port, for the demo and the tests. Access is by password
// (scram) only; the folder is 0700.
package cluster

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Cluster is a running private cluster.
type Cluster struct {
	Dir      string
	Port     int
	password string
	cmd      *exec.Cmd
	done     chan error
}

// Options of Start.
type Options struct {
	Dir string
	// Fast gives up durability against power loss for tests that make and drop
	// many databases. A killed process still loses nothing, nor does a killed server.
	Fast bool
}

// ErrNoServer says that PostgreSQL's server is not installed.
var ErrNoServer = errors.New("PostgreSQL's server was not found; install it with: apt-get install postgresql")

// binaries finds the newest installed server.
func binaries() (string, error) {
	if dir := os.Getenv("TRELLIS_POSTGRES_BIN"); dir != "" {
		return dir, nil
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		if p, err := exec.LookPath("postgres"); err == nil {
			return filepath.Dir(p), nil
		}
		return "", ErrNoServer
	}
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// Start makes the cluster if the folder is empty, and starts it.
func Start(ctx context.Context, o Options) (*Cluster, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	c := &Cluster{Dir: dir}
	if err := c.prepare(ctx, bin); err != nil {
		return nil, err
	}
	if err := c.reap(); err != nil {
		return nil, err
	}
	if c.Port, err = freePort(); err != nil {
		return nil, err
	}
	args := []string{"-D", c.data(), "-p", strconv.Itoa(c.Port), "-h", "127.0.0.1", "-k", "",
		"-c", "password_encryption=scram-sha-256", "-c", "max_connections=200", "-c", "log_min_messages=fatal",
		"-c", "shared_buffers=256MB", "-c", "wal_compression=on", "-c", "timezone=UTC", "-c", "log_timezone=UTC", "-c", "autovacuum_naptime=15s"}
	if o.Fast {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off")
	}
	c.cmd = command(bin, "postgres", args...)
	log, err := os.OpenFile(filepath.Join(dir, "postgres.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	c.cmd.Stdout, c.cmd.Stderr = log, log
	if err := c.cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting PostgreSQL: %w", err)
	}
	c.done = make(chan error, 1)
	go func() { c.done <- c.cmd.Wait() }()
	return c, c.ready(ctx)
}

func (c *Cluster) data() string { return filepath.Join(c.Dir, "data") }

// command runs a server program, as the postgres user where we are root, since
// the server refuses to run as root. It dies with us.
func command(bin, name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(bin, name), args...)
	cmd.Env = []string{"LC_ALL=C.UTF-8", "TZ=UTC", "PATH=/usr/bin:/bin"}
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGINT}
	if uid, gid, ok := serverUser(); ok {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uid, Gid: gid}
	}
	return cmd
}

func serverUser() (uid, gid uint32, ok bool) {
	if os.Geteuid() != 0 {
		return 0, 0, false
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return 0, 0, false
	}
	ui, _ := strconv.Atoi(u.Uid)
	gi, _ := strconv.Atoi(u.Gid)
	return uint32(ui), uint32(gi), true
}

func (c *Cluster) prepare(ctx context.Context, bin string) error {
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return err
	}
	passwordFile := filepath.Join(c.Dir, "password")
	if _, err := os.Stat(filepath.Join(c.data(), "PG_VERSION")); err == nil {
		b, err := os.ReadFile(passwordFile)
		if err != nil {
			return fmt.Errorf("the cluster in %s has lost its password file: %w", c.Dir, err)
		}
		c.password = strings.TrimSpace(string(b))
		return nil
	}
	c.password = random()
	if err := os.WriteFile(passwordFile, []byte(c.password+"\n"), 0o600); err != nil {
		return err
	}
	if uid, gid, ok := serverUser(); ok {
		// The server's user must reach its folder, and nobody else.
		for _, path := range []string{c.Dir, passwordFile} {
			if err := os.Chown(path, int(uid), int(gid)); err != nil {
				return err
			}
		}
		if err := reachable(c.Dir); err != nil {
			return err
		}
	}
	cmd := command(bin, "initdb", "-D", c.data(), "-U", "postgres", "-A", "scram-sha-256", "--pwfile", passwordFile, "-E", "UTF8", "--locale=C.UTF-8")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("making the database cluster in %s: %w\n%s", c.Dir, err, out.String())
	}
	return ctx.Err()
}

// reachable tells where a folder above keeps the server's user out.
func reachable(dir string) error {
	for d := filepath.Dir(dir); d != "/"; d = filepath.Dir(d) {
		if info, err := os.Stat(d); err == nil && info.Mode().Perm()&0o001 == 0 {
			return fmt.Errorf("the user postgres cannot reach %s, because %s is closed to others; choose another folder with --data", dir, d)
		}
	}
	return nil
}

// reap ends a server that an earlier, killed process left behind.
func (c *Cluster) reap() error {
	b, err := os.ReadFile(filepath.Join(c.data(), "postmaster.pid"))
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(strings.TrimSpace(strings.SplitN(string(b), "\n", 2)[0]))
	if err != nil || pid <= 1 {
		return nil
	}
	cmdline, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if !bytes.Contains(cmdline, []byte(c.data())) {
		return nil
	}
	if err := syscall.Kill(pid, syscall.SIGINT); err != nil {
		return nil
	}
	for range 200 {
		if syscall.Kill(pid, 0) != nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("another PostgreSQL (process %d) runs in %s and does not end", pid, c.Dir)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func random() string {
	b := make([]byte, 20)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

func (c *Cluster) ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, c.admin("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case err := <-c.done:
			c.done <- err
			log, _ := os.ReadFile(filepath.Join(c.Dir, "postgres.log"))
			return fmt.Errorf("PostgreSQL ended at once (%w); the end of its log: %s", err, tail(log))
		case <-ctx.Done():
			return fmt.Errorf("PostgreSQL did not become ready: %w", err)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func tail(b []byte) string {
	return string(b[max(0, len(b)-600):])
}

func (c *Cluster) admin(database string) string {
	return c.url("postgres", c.password, database)
}

func (c *Cluster) url(user, password, database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(user, password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(c.Port)), Path: "/" + database, RawQuery: "sslmode=disable"}
	return u.String()
}

// Database gives the address of a database, made if it is not there, with an
// owner of its own that is no superuser.
func (c *Cluster) Database(ctx context.Context, name string) (string, error) {
	conn, err := pgx.Connect(ctx, c.admin("postgres"))
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	owner, password := "trellis_owner", c.ownerPassword()
	_, err = conn.Exec(ctx, fmt.Sprintf(`DO $$ BEGIN
		PERFORM pg_advisory_xact_lock(7243105517);
		IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = '%s') THEN CREATE ROLE %s LOGIN CREATEROLE PASSWORD '%s'; END IF; END $$`, owner, owner, password))
	if err != nil {
		return "", err
	}
	var exists bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", name).Scan(&exists); err != nil {
		return "", err
	}
	if !exists {
		if _, err := conn.Exec(ctx, fmt.Sprintf("CREATE DATABASE %s OWNER %s", pgx.Identifier{name}.Sanitize(), owner)); err != nil {
			return "", err
		}
		if _, err := conn.Exec(ctx, fmt.Sprintf("REVOKE ALL ON DATABASE %s FROM PUBLIC", pgx.Identifier{name}.Sanitize())); err != nil {
			return "", err
		}
	}
	return c.url(owner, password, name), nil
}

// The owner's password is made of the cluster's, so that one file keeps both.
func (c *Cluster) ownerPassword() string {
	sum := sha256.Sum256([]byte("owner " + c.password))
	return hex.EncodeToString(sum[:20])
}

// Drop removes a database.
func (c *Cluster) Drop(ctx context.Context, name string) error {
	conn, err := pgx.Connect(ctx, c.admin("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, fmt.Sprintf("DROP DATABASE IF EXISTS %s WITH (FORCE)", pgx.Identifier{name}.Sanitize()))
	return err
}

// Stop ends the server. Immediate cuts it off as a crash would.
func (c *Cluster) Stop(immediate bool) error {
	if c.cmd == nil || c.cmd.Process == nil {
		return nil
	}
	signal := syscall.SIGINT
	if immediate {
		signal = syscall.SIGQUIT
	}
	_ = c.cmd.Process.Signal(signal)
	select {
	case <-c.done:
	case <-time.After(15 * time.Second):
		_ = c.cmd.Process.Kill()
		<-c.done
	}
	return nil
}

// Restart starts the same cluster again on the same port, after Stop.
func (c *Cluster) Restart(ctx context.Context) error {
	args := c.cmd.Args[1:]
	bin := filepath.Dir(c.cmd.Path)
	c.cmd = command(bin, "postgres", args...)
	if err := c.cmd.Start(); err != nil {
		return err
	}
	c.done = make(chan error, 1)
	go func(cmd *exec.Cmd, done chan error) { done <- cmd.Wait() }(c.cmd, c.done)
	return c.ready(ctx)
}

// SetReadOnly turns a database read-only for every session that begins from now
// on, as a failover does, or back; those that there are end.
func (c *Cluster) SetReadOnly(ctx context.Context, name string, on bool) error {
	conn, err := pgx.Connect(ctx, c.admin("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, fmt.Sprintf("ALTER DATABASE %s SET default_transaction_read_only = %t", pgx.Identifier{name}.Sanitize(), on)); err != nil {
		return err
	}
	_, err = conn.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1", name)
	return err
}

// PID is the process of the server, whose children serve its connections.
func (c *Cluster) PID() int { return c.cmd.Process.Pid }

// Admin carries a statement out as the server's superuser.
func (c *Cluster) Admin(ctx context.Context, sql string) error {
	return c.AdminOf(ctx, "postgres", sql)
}

// AdminOf does the same within a database.
func (c *Cluster) AdminOf(ctx context.Context, database, sql string) error {
	conn, err := pgx.Connect(ctx, c.admin(database))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, sql)
	return err
}
