package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/words"
)

func (a *app) run() *cobra.Command {
	return noun("run", "Look at runs, go on with them, retry", a.runList(), a.runShow(), a.runWatch(), a.runPlan(), a.runResume(), a.runRetry(), a.runCancel(), a.runDismiss(), a.runItem(), a.runExecuting())
}

func (a *app) runList() *cobra.Command {
	var workflow, state, fate, since, until string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List runs, newest first", Example: "  trellis run list --workflow counter-calls --fate set_aside --since 7d\n  trellis run list --since 2026-11-20 --until \"2026-11-21 12:00\"", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		params := &api.ListRunsParams{Limit: &limit}
		if workflow != "" {
			params.Workflow = &workflow
		}
		if state != "" {
			s := api.RunState(state)
			params.State = &s
		}
		if fate != "" {
			f := api.ListRunsParamsFate(fate)
			params.Fate = &f
		}
		for _, t := range []struct {
			flag, typed string
			into        **time.Time
		}{{"since", since, &params.From}, {"until", until, &params.To}} {
			if t.typed == "" {
				continue
			}
			at, err := moment(t.typed, time.Now())
			if err != nil {
				return usage("--%s: %v", t.flag, err)
			}
			*t.into = &at
		}
		page, err := got[api.RunPage](cl.ListRuns(c.Context(), params))
		if err != nil {
			return err
		}
		return a.show(page, func() {
			if len(page.Runs) == 0 {
				fmt.Fprintln(a.out, "There are no such runs.")
				return
			}
			rows := [][]string{}
			for _, r := range page.Runs {
				rows = append(rows, []string{r.Id.String(), r.Workflow, stateWords(r), when(r.Accepted), r.Label, countWords(r.Counts)})
			}
			a.grid([]string{"run", "workflow", "state", "began", "label", "items"}, rows)
		})
	})}
	c.Flags().StringVar(&workflow, "workflow", "", "only runs of this workflow")
	oneOf(c, &state, "state", "only runs in this state", "queued", "running", "waiting", "succeeded", "partial", "failed", "cancelled")
	oneOf(c, &fate, "fate", "only runs in which an item ended so", "held_back", "gave_nothing", "set_aside", "stopped", "may_have_been_sent")
	c.Flags().StringVar(&since, "since", "", "only runs that began then or later: 7d for seven days ago, 2026-11-20, or \"2026-11-20 16:30\"")
	c.Flags().StringVar(&until, "until", "", "only runs that began before")
	c.Flags().IntVar(&limit, "limit", 20, "how many, at most 200")
	return c
}

// moment reads a time as people type it: how long ago, a day, or a day and a time
// by the clock of this machine, or a time with its offset (RFC 3339).
func moment(typed string, now time.Time) (time.Time, error) {
	if d, err := expr.ParseDuration(typed); err == nil {
		return now.Add(-d), nil
	}
	for _, form := range []string{time.RFC3339, "2006-01-02", "2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02 15:04:05"} {
		if t, err := time.ParseInLocation(form, typed, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time; it is written as 7d, 2026-11-20 or \"2026-11-20 16:30\"", typed)
}

func stateWords(r api.RunSummary) string {
	if r.State == "waiting" {
		if why, ok := words.ReasonOf(r.Reason); ok && (r.Wake != nil || !strings.Contains(why.Short, "{wake}")) {
			wake := ""
			if r.Wake != nil {
				wake = when(*r.Wake)
			}
			return strings.NewReplacer("{connection}", deref(r.Connection), "{wake}", wake).Replace(why.Short)
		}
		if r.Wake != nil {
			return "waiting until " + when(*r.Wake)
		}
	}
	if deref(r.Cancelling) {
		return "being cancelled"
	}
	return string(r.State)
}

func countWords(c *api.Counts) string {
	if c == nil {
		return ""
	}
	parts := []string{fmt.Sprintf("%d in", c.In)}
	for _, p := range []struct {
		n    int
		word string
	}{{c.Through, "through"}, {deref(c.Joined), "joined groups"}, {c.HeldBack, "held back"}, {c.GaveNothing, "gave nothing"}, {c.SetAside, "set aside"}, {c.Stopped, "stopped"}, {c.MayHaveBeenSent, "may have been sent"}, {c.NotDone, "not done"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.word))
		}
	}
	return strings.Join(parts, ", ")
}

// runID reads which run is meant: its id, last for the newest, last:WORKFLOW for the
// newest of a workflow.
func runID(ctx context.Context, cl *api.Client, s string) (uuid.UUID, error) {
	id, err := uuid.Parse(s)
	if err == nil {
		return id, nil
	}
	last, workflow, of := strings.Cut(s, ":")
	if last != "last" || of && workflow == "" {
		return id, usage("%q is not a run; it is an id of trellis run list, last for the newest, or last:WORKFLOW", s)
	}
	one := 1
	params := &api.ListRunsParams{Limit: &one}
	if of {
		params.Workflow = &workflow
	}
	page, err := got[api.RunPage](cl.ListRuns(ctx, params))
	if err != nil {
		return id, err
	}
	if len(page.Runs) == 0 {
		return id, &coded{exitNotFound, errors.New("there is no such run yet")}
	}
	return page.Runs[0].Id, nil
}

func (a *app) runShow() *cobra.Command {
	var fate string
	var rows int
	var open []string
	c := &cobra.Command{Use: "show RUN", Short: "Draw a run's lattice", RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
		return a.showRun(c.Context(), cl, id, fate, open, rows)
	})}
	oneOf(c, &fate, "fate", "only rows that ended so", "passed", "read", "written", "prepared", "joined", "held_back", "gave_nothing", "set_aside", "stopped", "may_have_been_sent", "went_on", "fell_back", "ended_run", "waiting", "off", "not_reached")
	c.Flags().StringSliceVar(&open, "open", nil, "look into a case or a round, as way/urgent or pairs/3")
	c.Flags().IntVar(&rows, "rows", 60, "how many lines of each band, at most 500")
	return c
}

func (a *app) showRun(ctx context.Context, cl *api.Client, id uuid.UUID, fate string, open []string, rows int) error {
	r, err := got[api.Run](cl.GetRun(ctx, id))
	if err != nil {
		return err
	}
	if a.output != "table" {
		params := &api.GetLatticeParams{Count: &rows}
		if fate != "" {
			f := api.Fate(fate)
			params.Fate = &f
		}
		if len(open) > 0 {
			params.Within = &open
		}
		l, err := got[api.Lattice](cl.GetLattice(ctx, id, params))
		if err != nil {
			return err
		}
		return a.show(map[string]any{"run": r.Run, "first": r.First, "answer": r.Answer, "columns": r.Columns, "passes": r.Passes, "lattice": l}, nil)
	}
	list, hint, err := a.bands(ctx, cl, r, fate, open, min(rows, 500))
	if err != nil {
		return err
	}
	a.runHead(r)
	if len(list) == 0 {
		fmt.Fprintln(a.out, "  no rows yet")
		return nil
	}
	a.sheets(list)
	for _, h := range hint {
		fmt.Fprintln(a.out, "       "+h)
	}
	return nil
}

func (a *app) runHead(r api.Run) {
	color := green
	switch r.Run.State {
	case "failed", "partial":
		color = red
	case "waiting":
		color = yellow
	}
	fmt.Fprintf(a.out, "%s  %s  %s\n", a.paint(bold, r.Run.Title), a.paint(color, stateWords(r.Run)), a.paint(grey, fmt.Sprintf("%s, revision %d, %s", when(r.Run.Accepted), r.Run.Revision, by(r))))
	if w := countWords(r.Run.Counts); w != "" {
		fmt.Fprintf(a.out, "%s, %s\n", w, plural(r.Run.Counts.Calls, "call"))
	}
	if r.Answer != nil {
		fmt.Fprintf(a.out, "answered %d, by the item %s at %s\n", r.Answer.Status, r.Answer.Item, r.Answer.Step)
	}
	if r.Run.Message != "" {
		fmt.Fprintln(a.out, a.paint(color, r.Run.Message))
	}
	if r.First != nil && (r.Run.Ended == nil || r.Run.Counts != nil && r.Run.Counts.SetAside > 0) {
		fmt.Fprintf(a.out, "It takes the first %s to its first write and sets the others aside; trellis run retry lets them go on.\n", words.Count(*r.First, "item"))
	}
	fmt.Fprintln(a.out)
}

func by(r api.Run) string {
	s := "started by " + r.Passes[0].StartedBy
	if n := len(r.Passes); n > 1 {
		s += fmt.Sprintf(", pass %d, a %s by %s", n, r.Passes[n-1].Kind, r.Passes[n-1].StartedBy)
	}
	return s
}

func (a *app) runWatch() *cobra.Command {
	return &cobra.Command{Use: "watch RUN", Short: "Follow a run to its end", RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
		return a.watchRun(c.Context(), cl, id)
	})}
}

// watchRun prints the run as it changes, then its lattice. On a terminal the
// line is rewritten in place.
func (a *app) watchRun(ctx context.Context, cl *api.Client, id uuid.UUID) error {
	res, err := cl.WatchRun(ctx, id)
	if err != nil {
		return err
	}
	if res.StatusCode != 200 {
		_, err := got[struct{}](res, nil)
		return err
	}
	defer res.Body.Close()
	sc := bufio.NewScanner(res.Body)
	sc.Buffer(nil, 4<<20)
	last, now := "", api.RunSummary{}
	for sc.Scan() {
		data, ok := strings.CutPrefix(sc.Text(), "data: ")
		if !ok {
			continue
		}
		var r api.Run
		if err := json.Unmarshal([]byte(data), &r); err != nil {
			return err
		}
		now = r.Run
		line := stateWords(r.Run) + "  " + countWords(r.Run.Counts)
		if line == last || a.output != "table" {
			continue
		}
		last = line
		if a.color {
			fmt.Fprintf(a.errOut, "\r\x1b[K%s", line)
		} else {
			fmt.Fprintln(a.errOut, line)
		}
	}
	if a.color && last != "" {
		fmt.Fprint(a.errOut, "\r\x1b[K")
	}
	if err := sc.Err(); err != nil {
		return err
	}
	if err := a.showRun(ctx, cl, id, "", nil, 60); err != nil {
		return err
	}
	switch now.State {
	case "failed":
		return fmt.Errorf("the run failed: %s", cmp.Or(now.Message, "its cells say why"))
	case "cancelled":
		return errors.New("the run was cancelled")
	case "succeeded", "partial":
		return nil
	}
	return errors.New("the service told nothing more of the run, which is not over; follow it again with: trellis run watch " + id.String())
}

func (a *app) runCancel() *cobra.Command {
	return &cobra.Command{Use: "cancel RUN", Short: "Let nothing further begin; that is final", Long: "Lets nothing further begin. Calls that are under way are awaited, and what they give is kept.\nCancelling a second time cuts them; whether they had their effect is then not known.", RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
		r, err := got[api.Run](cl.CancelRun(c.Context(), id))
		if err != nil {
			return err
		}
		return a.show(r, func() {
			fmt.Fprintf(a.out, "run %s: %s\n", id, stateWords(r.Run))
			if deref(r.Run.Cancelling) {
				fmt.Fprintln(a.out, "Calls that are under way are awaited; cancel again to cut them.")
			}
		})
	})}
}

func (a *app) runExecuting() *cobra.Command {
	return &cobra.Command{Use: "executing", Short: "What the node that answers has in hand", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		n, err := got[api.Node](cl.ShowNode(c.Context()))
		if err != nil {
			return err
		}
		return a.show(n, func() {
			if len(n.Runs) == 0 {
				fmt.Fprintf(a.out, "The node %s has nothing in hand.\n", n.Name)
				return
			}
			fmt.Fprintf(a.out, "The node %s has in hand:\n", n.Name)
			rows := [][]string{}
			for _, r := range n.Runs {
				rows = append(rows, []string{r.Run.String(), string(r.Stage), fmt.Sprint(r.Claim)})
			}
			a.grid([]string{"run", "stage", "claim"}, rows)
		})
	})}
}
