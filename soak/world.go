package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	api "youngtrellis/api/client"
	"youngtrellis/internal/cluster"
	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/store"
)

// lease is scaled down, so that nodes die and are taken over within seconds.
const lease = 2 * time.Second

// world is everything that takes part: the database, nodes in processes of
// their own behind proxies of their own, the other side, and the callers.
type world struct {
	settings
	dir       string
	cluster   *cluster.Cluster
	database  string // its name
	pool      *pgxpool.Pool
	side      *side
	nodes     []*node
	token     string
	hooks     map[string]string // path, by workflow
	documents map[string]string

	mu       sync.Mutex       // protects the following fields
	accepted map[string]event // answered 2xx
	left     map[string]event // whose callers left and never came back
	answers  map[string]heard // what each was told
	retold   int              // accepted once, and told something else later
}

// node is a service in a process of its own.
type node struct {
	name, data string
	proxy      *clustertest.Proxy
	world      *world

	mu      sync.Mutex // protects the following fields
	cmd     *exec.Cmd
	address string
	down    bool // on purpose, and not to be called
}

func newWorld(ctx context.Context, s settings) (w *world, err error) {
	w = &world{settings: s, database: "soak", hooks: map[string]string{}, accepted: map[string]event{}, left: map[string]event{}, answers: map[string]heard{}}
	if w.dir, err = os.MkdirTemp("", "trellis-soak-"); err != nil {
		return nil, err
	}
	if err := os.Chmod(w.dir, 0o755); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			w.close()
		}
	}()
	if w.cluster, err = cluster.Start(ctx, cluster.Options{Dir: filepath.Join(w.dir, "postgres"), Fast: s.fast}); err != nil {
		return nil, err
	}
	address, err := w.cluster.Database(ctx, w.database)
	if err != nil {
		return nil, err
	}
	if w.pool, err = pgxpool.New(ctx, address); err != nil {
		return nil, err
	}
	w.side = newSide(s.seed)
	w.documents = documents(w.side.URL)
	maps.Copy(w.documents, forest(s.trees, w.side.URL, s.seed))
	for i := range s.nodes {
		p, err := clustertest.StartProxy(address)
		if err != nil {
			return nil, err
		}
		n := &node{name: fmt.Sprintf("node %d", i+1), data: filepath.Join(w.dir, fmt.Sprintf("node-%d", i+1)), proxy: p, world: w}
		w.nodes = append(w.nodes, n)
		if i > 0 { // all have one vault
			key, err := os.ReadFile(filepath.Join(w.nodes[0].data, "vault.key"))
			if err != nil {
				return nil, err
			}
			if err := errors.Join(os.MkdirAll(n.data, 0o700), os.WriteFile(filepath.Join(n.data, "vault.key"), key, 0o600)); err != nil {
				return nil, err
			}
		}
		if err := n.start(); err != nil {
			return nil, err
		}
		if i == 0 {
			if err := w.fill(ctx, address); err != nil {
				return nil, err
			}
		}
	}
	return w, nil
}

// fill makes the workspace and puts its workflows live.
func (w *world) fill(ctx context.Context, address string) error {
	s, err := store.Open(ctx, address, "")
	if err != nil {
		return err
	}
	defer s.Close()
	sc, err := s.CreateOwner(ctx, "Ottermere Clayworks", "mara@ottermere.example", "Mara Quill", "a password to soak")
	if err != nil {
		return err
	}
	if w.token, _, err = s.CreateToken(ctx, sc, store.NewToken{Name: "soak", Role: store.Owner}); err != nil {
		return err
	}
	if err := s.Allow(ctx, sc, w.side.host()); err != nil {
		return err
	}
	c := w.nodes[0].client()
	for name, text := range w.documents {
		if _, err := ottermere.Answer[api.Workflow](c.CreateWorkflow(ctx, api.Document{Document: text})); err != nil {
			return err
		}
		if _, err := ottermere.Answer[api.Workflow](c.GoLive(ctx, name, &api.GoLiveParams{})); err != nil {
			return err
		}
		sheet, err := ottermere.Answer[api.CallSheet](c.CallSheet(ctx, name))
		if err != nil {
			return err
		}
		u, err := url.Parse(sheet.Address)
		if err != nil {
			return err
		}
		w.hooks[name] = u.Path
	}
	return w.clockwork(ctx, c)
}

func (w *world) close() {
	for _, n := range w.nodes {
		n.kill()
		n.proxy.Close()
	}
	if w.side != nil {
		w.side.CloseClientConnections()
		w.side.Close()
	}
	if w.pool != nil {
		w.pool.Close()
	}
	if w.cluster != nil {
		_ = w.cluster.Stop(true)
	}
	if !w.keep {
		_ = os.RemoveAll(w.dir)
	}
}

// start starts the node's process and learns its address.
func (n *node) start() error {
	u, err := url.Parse(n.proxy.URL())
	if err != nil {
		return err
	}
	password, _ := u.User.Password()
	u.User = url.User(u.User.Username())
	file := filepath.Join(n.world.dir, "password")
	if err := os.WriteFile(file, []byte(password+"\n"), 0o600); err != nil {
		return err
	}
	log, err := os.OpenFile(n.data+".log", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	for tries := 0; ; tries++ {
		cmd := exec.Command(n.world.binary, "serve", "--database-url", u.String(), "--database-password-file", file, "--data", n.data, "--listen", "127.0.0.1:0", "--lease", lease.String(), "--hook-rate", "1000000", "--log", "warn")
		cmd.Stderr = log
		out, err := cmd.StdoutPipe()
		if err != nil {
			return err
		}
		if err := cmd.Start(); err != nil {
			return err
		}
		line, err := bufio.NewReader(out).ReadString('\n')
		if err == nil {
			go func() { _, _ = io.Copy(io.Discard, out) }()
			n.mu.Lock()
			n.cmd, n.address, n.down = cmd, strings.Fields(line)[len(strings.Fields(line))-1], false
			n.mu.Unlock()
			return nil
		}
		_ = cmd.Wait() // the database was away just then
		if tries == 50 {
			return fmt.Errorf("%s does not start; its log is %s.log", n.name, n.data)
		}
		time.Sleep(200 * time.Millisecond)
	}
}

// signal sends the process a signal.
func (n *node) signal(s os.Signal) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.cmd != nil {
		_ = n.cmd.Process.Signal(s)
	}
}

// kill ends the process at once.
func (n *node) kill() {
	n.mu.Lock()
	n.down = true
	cmd := n.cmd
	n.cmd = nil
	n.mu.Unlock()
	if cmd != nil {
		_ = cmd.Process.Signal(syscall.SIGCONT)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
}

// stop ends the process in order; it is killed if that takes too long.
func (n *node) stop() {
	n.mu.Lock()
	n.down = true
	cmd := n.cmd
	n.cmd = nil
	n.mu.Unlock()
	if cmd == nil {
		return
	}
	_ = cmd.Process.Signal(os.Interrupt)
	done := make(chan struct{})
	go func() { _ = cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(60 * time.Second):
		_ = cmd.Process.Kill()
		<-done
	}
}

// where gives the node's address, if it may be called.
func (n *node) where() (string, bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.address, !n.down
}

func (n *node) client() *api.Client {
	address, _ := n.where()
	c, err := api.NewClient(address+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+n.world.token)
		return nil
	}))
	if err != nil {
		panic(err) // an address that a server printed
	}
	return c
}

// anywhere gives the address of some node.
func (w *world) anywhere(dice *rand.Rand) (string, bool) {
	for range 20 {
		if a, ok := w.nodes[dice.IntN(len(w.nodes))].where(); ok {
			return a, true
		}
	}
	return "", false
}

// heard is what a caller was told: the run, and what that answered, where it did.
type heard struct{ run, reply string }

// tell calls a webhook once.
func (w *world) tell(ctx context.Context, client *http.Client, address string, e event) (out heard, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address+w.hooks[e.workflow], strings.NewReader(string(e.body())))
	if err != nil {
		return out, err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := client.Do(req)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		return out, err
	}
	if res.StatusCode/100 != 2 {
		return out, fmt.Errorf("answered %d: %s", res.StatusCode, text)
	}
	if out.run = res.Header.Get("X-Run"); out.run != "" {
		out.reply = fmt.Sprint(res.StatusCode, " ", string(text))
		return out, nil
	}
	if res.StatusCode == http.StatusNoContent { // no item came to an answer
		return out, nil
	}
	var said struct {
		Run uuid.UUID `json:"run"`
	}
	err = json.Unmarshal(text, &said)
	out.run = said.Run.String()
	return out, err
}

// callers tell of events until ctx ends, each again and again until it was
// answered 2xx; some leave early and come back, some leave for good.
func (w *world) callers(ctx context.Context, numbers <-chan int) {
	var wait sync.WaitGroup
	for i := range 12 {
		wait.Go(func() {
			dice := rand.New(rand.NewPCG(w.seed, uint64(100+i)))
			client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 4}}
			defer client.CloseIdleConnections()
			for n := range numbers {
				w.call(ctx, client, dice, nth(n, w.trees, time.Now().Add(w.wait)))
			}
		})
	}
	wait.Wait()
}

func (w *world) call(ctx context.Context, client *http.Client, dice *rand.Rand, e event) {
	forGood := dice.IntN(25) == 0
	for ctx.Err() == nil {
		address, ok := w.anywhere(dice)
		if !ok {
			time.Sleep(20 * time.Millisecond)
			continue
		}
		patience := 20 * time.Second
		leaves := forGood || dice.IntN(6) == 0
		if leaves {
			patience = time.Duration(dice.IntN(20_000)) * time.Microsecond
		}
		within, cancel := context.WithTimeout(ctx, patience)
		said, err := w.tell(within, client, address, e)
		cancel()
		if err == nil {
			w.mu.Lock()
			w.accepted[e.name] = e
			before := w.answers[e.name]
			if before.run != "" && said.run != "" && before.run != said.run || before.reply != "" && said.reply != "" && before.reply != said.reply {
				w.retold++
			}
			if said.run == "" {
				said.run = before.run
			}
			if said.reply == "" {
				said.reply = before.reply
			}
			w.answers[e.name] = said
			again := dice.IntN(10) == 0
			w.mu.Unlock()
			if again { // it was told twice
				continue
			}
			return
		}
		if leaves {
			w.counted("a caller that left")
		}
		if forGood {
			w.mu.Lock()
			w.left[e.name] = e
			w.mu.Unlock()
			return
		}
		time.Sleep(time.Duration(10+dice.IntN(40)) * time.Millisecond)
	}
}

// rows asks the database for rows of one column each.
func column[T any](ctx context.Context, w *world, sql string, args ...any) ([]T, error) {
	rows, err := w.pool.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[T])
}
