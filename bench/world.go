package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	api "youngtrellis/api/client"
	"youngtrellis/internal/cluster"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/store"
)

// world is one set of processes on a database of its own.
type world struct {
	dir      string
	binary   string
	cluster  *cluster.Cluster
	database string
	service  *process
	bare     *process
	other    *process
	pool     *pgxpool.Pool // the bench's own look at the database
	store    *store.Store  // to fill it
	sc       store.Scope
	token    string
	client   *api.Client
}

const otherKey = "key-of-the-other-side"

func newWorld(ctx context.Context, binary string) (w *world, err error) {
	w = &world{binary: binary}
	defer func() {
		if err != nil {
			w.close()
		}
	}()
	if w.dir, err = os.MkdirTemp("", "trellis-bench-"); err != nil {
		return w, err
	}
	if err := os.Chmod(w.dir, 0o755); err != nil {
		return w, err
	}
	if w.cluster, err = cluster.Start(ctx, cluster.Options{Dir: filepath.Join(w.dir, "postgres")}); err != nil {
		return w, err
	}
	if w.database, err = w.cluster.Database(ctx, "trellis"); err != nil {
		return w, err
	}
	plain, err := w.cluster.Database(ctx, "bare")
	if err != nil {
		return w, err
	}
	self, err := os.Executable()
	if err != nil {
		return w, err
	}
	if w.other, err = begin(exec.Command(self, "other")); err != nil {
		return w, err
	}
	if w.bare, err = begin(exec.Command(self, "bare", plain, w.other.address, w.database)); err != nil {
		return w, err
	}
	if err := w.serve(); err != nil {
		return w, err
	}
	if w.pool, err = pgxpool.New(ctx, w.database); err != nil {
		return w, err
	}
	return w, w.fill(ctx)
}

// serve starts the service, with its limits against floods lifted.
func (w *world) serve(flags ...string) error {
	u, err := url.Parse(w.database)
	if err != nil {
		return err
	}
	password, _ := u.User.Password()
	u.User = url.User(u.User.Username())
	secret := filepath.Join(w.dir, "password")
	if err := os.WriteFile(secret, []byte(password), 0o600); err != nil {
		return err
	}
	args := append([]string{"serve", "--database-url", u.String(), "--database-password-file", secret, "--data", filepath.Join(w.dir, "data"), "--listen", "127.0.0.1:0", "--log", "warn", "--hook-rate", "1000000"}, flags...)
	if w.service, err = begin(exec.Command(w.binary, args...)); err != nil || w.token == "" {
		return err
	}
	return w.connect()
}

func (w *world) fill(ctx context.Context) error {
	var err error
	if w.store, err = store.Open(ctx, w.database, ""); err != nil {
		return err
	}
	return w.workspace(ctx, "Ottermere Clayworks", "mara@ottermere.example")
}

// workspace makes a workspace that may call the other side, and works in it from
// now on.
func (w *world) workspace(ctx context.Context, name, email string) (err error) {
	if w.sc, err = w.store.CreateOwner(ctx, name, email, "Mara Quill", "a password to bench"); err != nil {
		return err
	}
	if w.token, _, err = w.store.CreateToken(ctx, w.sc, store.NewToken{Name: "bench", Role: store.Owner}); err != nil {
		return err
	}
	if err := w.store.Allow(ctx, w.sc, strings.TrimPrefix(w.other.address, "http://")); err != nil {
		return err
	}
	if err := w.connect(); err != nil {
		return err
	}
	account, err := json.Marshal(map[string]string{"address": w.other.address})
	if err != nil {
		return err
	}
	secret := otherKey
	_, err = ottermere.Answer[api.Connection](w.client.AddConnection(ctx, api.NewConnection{Name: "tables", Connector: "tables", Account: account, Secret: &secret}))
	return err
}

// connect makes a client of the service as it is reached now.
func (w *world) connect() (err error) {
	w.client, err = api.NewClient(w.service.address+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+w.token)
		return nil
	}))
	return err
}

func (w *world) close() {
	if w.pool != nil {
		w.pool.Close()
	}
	if w.store != nil {
		w.store.Close()
	}
	for _, p := range []*process{w.service, w.bare, w.other} {
		p.stop()
	}
	if w.cluster != nil {
		_ = w.cluster.Stop(true)
	}
	if w.dir != "" {
		_ = os.RemoveAll(w.dir)
	}
}

// live puts a workflow live and gives its name's id.
func (w *world) live(ctx context.Context, document string) (id uuid.UUID, err error) {
	made, err := ottermere.Answer[api.Workflow](w.client.CreateWorkflow(ctx, api.Document{Document: document}))
	if err != nil {
		return id, err
	}
	if _, err = ottermere.Answer[api.Workflow](w.client.GoLive(ctx, made.Name, &api.GoLiveParams{})); err != nil {
		return id, err
	}
	return id, w.pool.QueryRow(ctx, "SELECT id FROM workflow WHERE name = $1 AND workspace_id = $2", made.Name, w.sc.Workspace()).Scan(&id)
}

// hook gives the address and the secret of a live workflow's webhook.
func (w *world) hook(ctx context.Context, name string) (address, secret string, err error) {
	made, err := ottermere.Answer[api.MadeSecret](w.client.MakeHookSecret(ctx, name, api.MakeHookSecretJSONRequestBody{}))
	if err != nil {
		return "", "", err
	}
	sheet, err := ottermere.Answer[api.CallSheet](w.client.CallSheet(ctx, name))
	return sheet.Address, *made.Secret, err
}

// drained waits until no run is left.
func (w *world) drained(ctx context.Context) error {
	for {
		var left bool
		if err := w.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM live)").Scan(&left); err != nil || !left {
			return err
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// drainedOf waits until no run of a workspace is left.
func (w *world) drainedOf(ctx context.Context, workspace uuid.UUID) error {
	for {
		var left bool
		if err := w.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM live WHERE workspace_id = $1)", workspace).Scan(&left); err != nil || !left {
			return err
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// settle lets the database finish what it does behind our back, so that
// neither side pays for the other's.
func (w *world) settle(ctx context.Context) error {
	if err := w.drained(ctx); err != nil {
		return err
	}
	for _, sql := range []string{"CHECKPOINT"} {
		if err := w.cluster.Admin(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// process is a program of its own that serves at an address.
type process struct {
	*exec.Cmd
	address string
}

// begin starts a program that prints its address as the last word of its first line.
func begin(cmd *exec.Cmd) (*process, error) {
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		_ = cmd.Process.Kill()
		return nil, fmt.Errorf("%s did not say its address: %w", filepath.Base(cmd.Path), err)
	}
	words := strings.Fields(line)
	return &process{cmd, words[len(words)-1]}, nil
}

func (p *process) stop() {
	if p == nil {
		return
	}
	_ = p.Process.Signal(os.Interrupt)
	done := make(chan struct{})
	go func() { _ = p.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(30 * time.Second):
		_ = p.Process.Kill()
		<-done
	}
}

// ticks of the kernel's clock in a second (proc(5)).
const ticks = 100

// cpu reads the processor time that a process has used, in seconds; of its
// ended children too where they are asked for.
func cpu(pid int, children bool) float64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	sum := 0.0
	last := 13
	if children {
		last = 15
	}
	for _, s := range f[11:last] {
		n, _ := strconv.ParseFloat(s, 64)
		sum += n
	}
	return sum / ticks
}

// processors reads the processor time of everything that takes part.
func (w *world) processors() map[string]float64 {
	server := w.cluster.PID()
	sum := cpu(server, true)
	list, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range list {
		b, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
		if len(f) > 1 && f[1] == strconv.Itoa(server) {
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(path)))
			sum += cpu(pid, false)
		}
	}
	return map[string]float64{"service": cpu(w.service.Process.Pid, false), "bare": cpu(w.bare.Process.Pid, false), "PostgreSQL": sum, "other side": cpu(w.other.Process.Pid, false)}
}

// memory reads one of the figures of a process's memory, in MiB.
func memory(pid int, figure string) float64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	for _, l := range strings.Split(string(b), "\n") {
		if v, ok := strings.CutPrefix(l, figure+":"); ok {
			n, _ := strconv.ParseFloat(strings.Fields(v)[0], 64)
			return n / 1024
		}
	}
	return 0
}

func mapKeys[V any](m map[string]V) iter.Seq[string] {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// fetched reads an answer whole.
func fetched(res *http.Response, err error) ([]byte, error) {
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode >= 300 {
		err = fmt.Errorf("answered %d: %s", res.StatusCode, b)
	}
	return b, err
}
