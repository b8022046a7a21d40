package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/switchboard"
	"youngtrellis/internal/standins/tables"
)

func (a *app) demo() *cobra.Command {
	var data, listen string
	var fresh, example, ring bool
	c := &cobra.Command{Use: "demo", Short: "Run the service with Ottermere Clayworks, a made-up supplier of clay", RunE: func(c *cobra.Command, _ []string) error {
		if example {
			return a.example(c.Context())
		}
		if ring {
			return a.ring(c.Context(), data)
		}
		dir, err := demoFolder(data)
		if err != nil {
			return err
		}
		if listen, err = a.free(listen, c.Flags().Changed("listen")); err != nil {
			return err
		}
		if fresh {
			if err := clear(dir); err != nil {
				return err
			}
		}
		log := slog.New(slog.NewTextHandler(a.errOut, &slog.HandlerOptions{Level: slog.LevelWarn}))
		w, err := ottermere.Start(c.Context(), ottermere.Options{Data: dir, Listen: listen, Pages: otherName(listen), Log: log, Say: func(s string) { fmt.Fprintln(a.errOut, "demo: "+s) }})
		if err != nil {
			return err
		}
		defer func() {
			w.Close()
			fmt.Fprintln(a.errOut, "demo: stopped; its data is kept for the next start")
		}()
		a.addresses(w)
		select {
		case <-c.Context().Done():
			fmt.Fprintln(a.errOut, "\ndemo: stopping")
			return nil
		case err := <-w.Service.Done():
			return err
		}
	}}
	c.Flags().StringVar(&data, "data", "", "folder for the demo's data; .demo unless given")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:7480", "address of the service")
	c.Flags().BoolVar(&fresh, "fresh", false, "forget the data of earlier demos and begin anew")
	c.Flags().BoolVar(&example, "example", false, "send fourteen calls through a world of its own, print what became of them, and end")
	c.Flags().BoolVar(&ring, "ring", false, "let the switchboard send fourteen calls to the running demo")
	return c
}

// free finds out, before anything is started, whether the address can be listened on. Of
// the usual one, which nobody asked for, the next that is free is taken.
func (a *app) free(listen string, asked bool) (string, error) {
	host, port, err := net.SplitHostPort(listen)
	if err != nil {
		return "", usage("--listen is %q; it is written as 127.0.0.1:7480", listen)
	}
	first, err := strconv.Atoi(port)
	if err != nil || first < 0 || first > 65535 {
		return "", usage("--listen is %q; the port is a number up to 65535", listen)
	}
	for n := range 50 {
		at := net.JoinHostPort(host, strconv.Itoa(first+n))
		l, err := net.Listen("tcp", at)
		if err == nil {
			l.Close()
			if n > 0 {
				fmt.Fprintf(a.errOut, "demo: %s is taken by another program; it listens on %s\n", listen, at)
			}
			return at, nil
		}
		taken := errors.Is(err, syscall.EADDRINUSE)
		if taken && asked {
			return "", fmt.Errorf("the address %s is taken by another program; end it, or choose another with --listen", listen)
		}
		if !taken {
			return "", fmt.Errorf("the address %s cannot be listened on: %w; choose another with --listen", listen, err)
		}
	}
	return "", fmt.Errorf("%s and the fifty ports behind it are taken; choose one with --listen", listen)
}

// otherName is a name of this machine that is not the one listened on: forms and their
// answers stand at it, where the console's cookies do not go.
func otherName(listen string) string {
	if host, _, err := net.SplitHostPort(listen); err == nil && host == "localhost" {
		return "127.0.0.1"
	}
	return "localhost"
}

// demoFolder finds a folder that PostgreSQL's user can reach as well.
func demoFolder(data string) (string, error) {
	if data != "" {
		return filepath.Abs(data)
	}
	dir, err := filepath.Abs(".demo")
	if err != nil || os.Geteuid() != 0 {
		return dir, err
	}
	for d := filepath.Dir(dir); d != "/"; d = filepath.Dir(d) {
		if info, err := os.Stat(d); err == nil && info.Mode().Perm()&0o001 == 0 {
			return "/var/tmp/young-trellis-demo", nil
		}
	}
	return dir, nil
}

// clear removes a demo's folder, and only one that is a demo's.
func clear(dir string) error {
	if _, err := os.Stat(dir); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	for _, mark := range []string{"demo.json", "postgres"} {
		if _, err := os.Stat(filepath.Join(dir, mark)); err == nil {
			return os.RemoveAll(dir)
		}
	}
	return usage("%s does not look like a demo's folder; it was left alone", dir)
}

func (a *app) addresses(w *ottermere.World) {
	fmt.Fprintf(a.out, `
  %s  %s
     sign in as  %s
     password    %s

  webhook  %s

  The stand-ins, each with a page that says how to connect it:
%s
  On the command line:
     export TRELLIS_CONFIG=%s
     bin/trellis workflow list
  Let the switchboard send fourteen calls:
     bin/trellis demo --ring

  Ctrl-C stops everything; the data stays.
`, a.paint(bold, "console"), w.Service.Address, w.Email, w.Password, w.HookAddress, standinLines(w), w.ConfigPath())
}

// standinLines lists the pages of the stand-ins, two on a line.
func standinLines(w *ottermere.World) string {
	var b strings.Builder
	for i, s := range w.Stands {
		b.WriteString("     " + fit(s.Connector, 12) + s.Base)
		if i%2 == 1 || i == len(w.Stands)-1 {
			b.WriteString("\n")
		}
	}
	return b.String()
}

// ring sends the afternoon's calls to a demo that is running.
func (a *app) ring(ctx context.Context, data string) error {
	dir, err := demoFolder(data)
	if err != nil {
		return err
	}
	w, err := ottermere.Find(dir)
	if err != nil {
		return err
	}
	sent, err := w.Report(ctx, switchboard.Fourteen(time.Now().UTC(), strconv.FormatInt(time.Now().Unix(), 36)))
	if err != nil {
		return err
	}
	return a.show(sent, func() { a.sentCalls(sent) })
}

func (a *app) sentCalls(sent []ottermere.Sent) {
	rows := [][]string{}
	for i, s := range sent {
		became := "run " + s.Run.String()
		switch {
		case s.Kept:
			became = "nothing yet: kept while it is paused"
		case s.Duplicate:
			became = "nothing: that run was there already"
		}
		rows = append(rows, []string{strconv.Itoa(i + 1), s.Call.Caller, s.Call.Number + s.Call.Shown, fmt.Sprintf("%d s", s.Call.Seconds), s.Call.Note, became})
	}
	a.grid([]string{"call", "caller", "number", "length", "special", "started"}, rows)
}

// example runs the slice end to end in a world of its own. It fails unless
// everything is as it should be.
func (a *app) example(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "young-trellis-example-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(a.errOut, &slog.HandlerOptions{Level: slog.LevelWarn}))
	w, err := ottermere.Start(ctx, ottermere.Options{Data: dir, Log: log, Few: true, Say: func(s string) { fmt.Fprintln(a.errOut, "example: "+s) }})
	if err != nil {
		return err
	}
	defer w.Close()
	return a.runExample(ctx, w)
}

// Example runs the example in a world that is there already, and returns its
// exit code.
func Example(ctx context.Context, w *ottermere.World, out io.Writer) int {
	a := &app{out: out, errOut: out, output: "table"}
	if err := a.runExample(ctx, w); err != nil {
		fmt.Fprintln(out, err)
		return exitFailed
	}
	return 0
}

// found gathers what the example should and did find.
type found struct {
	a    *app
	lost int
}

func (f *found) is(what string, got, want any) {
	mark := f.a.paint(green, "as it should be")
	if fmt.Sprint(got) != fmt.Sprint(want) {
		mark = f.a.paint(red, fmt.Sprintf("should be %v", want))
		f.lost++
	}
	fmt.Fprintf(f.a.out, "  %s %v  %s\n", fit(what, 46), got, mark)
}

func (a *app) runExample(ctx context.Context, w *ottermere.World) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	before := len(w.Contacts.Studios())
	sent, err := w.Report(ctx, switchboard.Fourteen(time.Now().UTC(), "ex"))
	if err != nil {
		return err
	}
	fmt.Fprintln(a.out, a.paint(bold, "\nThe switchboard reports fourteen calls"))
	a.sentCalls(sent)

	f := &found{a: a}
	var rows []api.Row
	var columns []api.Column
	held, aside, duplicates := 0, 0, 0
	var heldWhy, asideWhy []string
	for i, s := range sent {
		if s.Duplicate {
			duplicates++
			continue
		}
		r, err := w.Wait(ctx, s.Run)
		if err != nil {
			return err
		}
		l, err := w.Rows(ctx, s.Run, 10)
		if err != nil {
			return err
		}
		for _, row := range l.Rows {
			row.Row = i + 1
			rows = append(rows, row)
			for _, c := range row.Cells {
				switch c.Fate {
				case "held_back":
					held++
					heldWhy = append(heldWhy, c.Text)
				case "set_aside":
					aside++
					asideWhy = append(asideWhy, c.Text)
				}
			}
		}
		columns = add(columns, r.Columns)
	}
	fmt.Fprintln(a.out, a.paint(bold, "\nCalls at the counter, each call a row"))
	a.lattice(columns, rows, 60)

	loads, err := got[api.Started](w.Client.StartWorkflow(ctx, "kiln-list", api.Items{}))
	if err != nil {
		return err
	}
	run, err := w.Wait(ctx, loads.Run)
	if err != nil {
		return err
	}
	l, err := w.Rows(ctx, loads.Run, 60)
	if err != nil {
		return err
	}
	fmt.Fprintln(a.out, a.paint(bold, "\nPieces ready for the kiln, started by hand"))
	a.lattice(run.Columns, l.Rows, 60)

	noted, listed := w.Tables.Rows(tables.CallsTab), w.Tables.Rows(tables.LoadsTab)
	fmt.Fprintln(a.out, a.paint(bold, "\nWhat arrived in the tab Calls"))
	table := [][]string{}
	for _, r := range noted {
		table = append(table, []string{strconv.Itoa(r.Number), fmt.Sprint(r.Values["number"]), fmt.Sprint(r.Values["name"]), fmt.Sprint(r.Values["minutes"]), fmt.Sprint(r.Values["ended"])})
	}
	a.grid([]string{"row", "number", "name", "minutes", "ended"}, table)
	fmt.Fprintln(a.out, a.paint(bold, "\nFound"))
	f.is("reports sent", len(sent), 14)
	f.is("duplicates that started nothing", duplicates, 1)
	f.is("short calls held back", held, 3)
	f.is("why", strings.Join(heldWhy, "; "), "4, needs 20; 19, needs 20; 11, needs 20")
	f.is("calls set aside", aside, 1)
	f.is("why, before anything was sent", strings.Join(asideWhy, "; "), "Telephone number is “+44 1632”; it is written as +441632960142")
	f.is("rows in the tab Calls, one for each real call", len(noted), 9)
	f.is("studios made, one for each new number", len(w.Contacts.Studios())-before, 1)
	f.is("pieces read", len(l.Rows), 11)
	f.is("rows in the tab Loads", len(listed), 8)
	f.is("calls that came twice to tables", w.Tables.Repeats(), 0)
	if f.lost > 0 {
		return fmt.Errorf("%s not as it should be", plural(f.lost, "thing"))
	}
	return nil
}

// add sums the columns of several runs of one workflow.
func add(sum, more []api.Column) []api.Column {
	if sum == nil {
		return more
	}
	for i := range sum {
		sum[i].In += more[i].In
		sum[i].Out += more[i].Out
	}
	return sum
}

func (a *app) standins() *cobra.Command {
	var data string
	c := &cobra.Command{Use: "standins", Short: "Run only the stand-ins, and print their addresses and keys", RunE: func(c *cobra.Command, _ []string) error {
		if data == "" {
			data = ".demo-standins"
		}
		w, err := ottermere.StartStandins(data)
		if err != nil {
			return err
		}
		defer w.Close()
		rows := [][]string{}
		for _, s := range w.Stands {
			for i, k := range sortedKeys(s.Values) {
				row := []string{s.Connector, s.Base, k, s.Values[k]}
				if i > 0 {
					row[0], row[1] = "", ""
				}
				rows = append(rows, row)
			}
			if len(s.Values) == 0 {
				rows = append(rows, []string{s.Connector, s.Base, "", "open to everybody"})
			}
		}
		a.grid([]string{"stand-in", "page and address", "asked for", "value"}, rows)
		<-c.Context().Done()
		return nil
	}}
	c.Flags().StringVar(&data, "data", "", "folder for what they hold; .demo-standins unless given")
	return c
}
