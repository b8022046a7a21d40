package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

func (a *app) run() *cobra.Command {
	return noun("run", "Look at runs, go on with them, retry", a.runList(), a.runShow(), a.runWatch(), a.runPlan(), a.runResume(), a.runRetry(), a.runCancel(), a.runItem(), a.runExecuting())
}

func (a *app) runList() *cobra.Command {
	var workflow, state string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List runs, newest first", Args: cobra.NoArgs, RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
		params := &api.ListRunsParams{Limit: &limit}
		if workflow != "" {
			params.Workflow = &workflow
		}
		if state != "" {
			s := api.RunState(state)
			params.State = &s
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
	c.Flags().StringVar(&state, "state", "", "only runs in this state: queued, running, waiting, succeeded, partial, failed, cancelled")
	c.Flags().IntVar(&limit, "limit", 20, "how many, at most 200")
	return c
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

func runID(s string) (uuid.UUID, error) {
	id, err := uuid.Parse(s)
	if err != nil {
		return id, usage("%q is not a run; trellis run list shows them", s)
	}
	return id, nil
}

func (a *app) runShow() *cobra.Command {
	var fate string
	var rows int
	var open []string
	c := &cobra.Command{Use: "show RUN", Short: "Draw a run's lattice", Args: cobra.ExactArgs(1), RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
		return a.showRun(c.Context(), cl, id, fate, open, rows)
	})}
	c.Flags().StringVar(&fate, "fate", "", "only rows that ended so, as set_aside or held_back")
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
		return a.show(map[string]any{"run": r.Run, "columns": r.Columns, "passes": r.Passes, "lattice": l}, nil)
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
	if r.Run.Message != "" {
		fmt.Fprintln(a.out, a.paint(color, r.Run.Message))
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
	return &cobra.Command{Use: "watch RUN", Short: "Follow a run to its end", Args: cobra.ExactArgs(1), RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
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
	last := ""
	for sc.Scan() {
		data, ok := strings.CutPrefix(sc.Text(), "data: ")
		if !ok {
			continue
		}
		var r api.Run
		if err := json.Unmarshal([]byte(data), &r); err != nil {
			return err
		}
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
	return a.showRun(ctx, cl, id, "", nil, 60)
}

func (a *app) runPlan() *cobra.Command {
	var newest bool
	var at []string
	c := &cobra.Command{Use: "plan RUN", Short: "What a resume or retry would take up; nothing is sent", Args: cobra.ExactArgs(1), RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
		p, err := a.planned(c.Context(), cl, id, newest, at)
		if err != nil {
			return err
		}
		return a.show(p, func() { a.plan(p) })
	})}
	c.Flags().BoolVar(&newest, "newest", false, "with the live revision instead of the run's own")
	c.Flags().StringSliceVar(&at, "at", nil, "where items go on whose step is gone, as OLD=NEW")
	return c
}

// planned asks for a plan until it is there. On a terminal it says how far it is.
func (a *app) planned(ctx context.Context, cl *api.Client, id uuid.UUID, newest bool, at []string) (api.Plan, error) {
	params := &api.PlanRunParams{Newest: &newest}
	if len(at) > 0 {
		params.At = &at
	}
	for {
		p, err := got[api.Plan](cl.PlanRun(ctx, id, params))
		if err != nil || p.Looked == nil {
			if a.color {
				fmt.Fprint(a.errOut, "\r\x1b[K")
			}
			return p, err
		}
		if a.color {
			fmt.Fprintf(a.errOut, "\r\x1b[Klooking: %s open so far", plural(*p.Looked, "item"))
		}
	}
}

func (a *app) plan(p api.Plan) {
	if p.Open+p.SetAside+p.MayHaveBeenSent == 0 {
		fmt.Fprintln(a.out, "Every item is done.")
		return
	}
	fmt.Fprintf(a.out, "%s to go on with, %d set aside, %d may have been sent; with revision %d\n\n", plural(p.Open, "item"), p.SetAside, p.MayHaveBeenSent, p.Revision)
	for _, s := range p.Steps {
		at := "at " + s.Step
		if s.Into != s.Step && s.Into != "" {
			at = "from " + s.Step + " to " + s.Into
		}
		fmt.Fprintf(a.out, "  %s %s: %s\n", plural(s.Count, "item"), at, s.Sentence)
	}
	for _, list := range []struct {
		title string
		lines *[]string
		color string
	}{{"New in that revision", p.Changes, grey}, {"Lists that were closed", p.Late, yellow}, {"This cannot be done", p.Refused, red}} {
		if list.lines == nil {
			continue
		}
		fmt.Fprintf(a.out, "\n%s\n", list.title)
		for _, l := range *list.lines {
			fmt.Fprintln(a.out, "  "+a.paint(list.color, l))
		}
	}
	fmt.Fprintln(a.out)
	rows := [][]string{}
	for _, i := range p.Items {
		rows = append(rows, []string{i.Address, i.Label, i.Step, i.Outcome, i.Text})
	}
	a.grid([]string{"item", "label", "before step", "stands", "because"}, rows)
}

// onward makes the verbs that begin a further pass.
func (a *app) onward(use, short string, send func(context.Context, *api.Client, uuid.UUID, api.Onward) (api.Run, error), withItems bool) *cobra.Command {
	var newest, watch bool
	var items []string
	at := map[string]string{}
	c := &cobra.Command{Use: use + " RUN", Short: short, Args: cobra.ExactArgs(1), RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
		body := api.Onward{Newest: &newest}
		if len(at) > 0 {
			body.At = &at
		}
		if newest || len(at) > 0 { // it may take a while, and is made before anything is sent
			var moves []string
			for _, old := range sortedKeys(at) {
				moves = append(moves, old+"="+at[old])
			}
			if _, err := a.planned(c.Context(), cl, id, newest, moves); err != nil {
				return err
			}
		}
		if len(items) > 0 {
			body.Items = &items
		}
		r, err := send(c.Context(), cl, id, body)
		if err != nil {
			return err
		}
		if watch {
			return a.watchRun(c.Context(), cl, id)
		}
		return a.show(r, func() {
			fmt.Fprintf(a.out, "pass %d is queued\nFollow it with: trellis run watch %s\n", r.Run.Pass, id)
		})
	})}
	c.Flags().BoolVar(&newest, "newest", false, "go on with the live revision instead of the run's own")
	c.Flags().BoolVar(&watch, "watch", false, "follow the run to its end")
	c.Flags().StringToStringVar(&at, "at", nil, "where items go on whose step is gone, as OLD=NEW")
	if withItems {
		c.Flags().StringSliceVar(&items, "item", nil, "only these items, by address; all that are set aside unless given")
	}
	return c
}

func (a *app) runResume() *cobra.Command {
	return a.onward("resume", "Go on where a failed run stopped", func(ctx context.Context, cl *api.Client, id uuid.UUID, b api.Onward) (api.Run, error) {
		return got[api.Run](cl.ResumeRun(ctx, id, b))
	}, false)
}

func (a *app) runRetry() *cobra.Command {
	return a.onward("retry", "Try items again that were set aside", func(ctx context.Context, cl *api.Client, id uuid.UUID, b api.Onward) (api.Run, error) {
		return got[api.Run](cl.RetryRun(ctx, id, b))
	}, true)
}

func (a *app) runCancel() *cobra.Command {
	return &cobra.Command{Use: "cancel RUN", Short: "Let nothing further begin; that is final", Long: "Lets nothing further begin. Calls that are under way are awaited, and what they give is kept.\nCancelling a second time cuts them; whether they had their effect is then not known.", Args: cobra.ExactArgs(1), RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
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
	return &cobra.Command{Use: "executing", Short: "What the node that answers has in hand", Args: cobra.NoArgs, RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, _ []string) error {
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

func (a *app) runItem() *cobra.Command {
	return &cobra.Command{Use: "item RUN ITEM STEP", Short: "Everything about one item at one step",
		Long: "Everything about one item at one step.\n\nITEM is a row as run show draws it, as row3, or STEP:row3 below a step that makes one of many; or the\nitem's address, as 0-1.7 (run show -o json).\nSTEP is the step's name, or - for the trigger.",
		Args: cobra.ExactArgs(3), RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
			address, err := addressOf(c.Context(), cl, id, args[1])
			if err != nil {
				return err
			}
			o, err := got[api.OpenedCell](cl.OpenCell(c.Context(), id, address, args[2]))
			if err != nil {
				return err
			}
			return a.show(o, func() { a.opened(o) })
		})}
}

// addressOf is the address of an item that is given by its row, as row3 or, below
// a step that made one of many, as STEP:row3.
func addressOf(ctx context.Context, cl *api.Client, run uuid.UUID, given string) (string, error) {
	band, text, named := strings.Cut(given, ":")
	if !named {
		band, text = "-", given
	}
	text, ok := strings.CutPrefix(text, "row")
	if !ok {
		return given, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return "", fmt.Errorf("%q is no row: rows are numbered from 1, as in row3", given)
	}
	from, count := n-1, 1
	l, err := got[api.Lattice](cl.GetLattice(ctx, run, &api.GetLatticeParams{Band: &band, From: &from, Count: &count}))
	if err != nil {
		return "", err
	}
	if len(l.Rows) == 0 {
		return "", fmt.Errorf("the run has no row %d: it has %s", n, plural(l.Matching, "row"))
	}
	return l.Rows[0].Address, nil
}

func (a *app) opened(o api.OpenedCell) {
	about := o.Sentence
	if o.Cell.Text != "" {
		about += ": " + o.Cell.Text
	}
	fmt.Fprintf(a.out, "%s  %s\n%s\n", a.paint(bold, o.Label), a.paint(fateColor(o.Cell.Fate), fateWords(o.Cell.Fate)), about)
	if n := deref(o.MadeOf); n > 0 {
		members := deref(o.Members)
		text := strings.Join(members[:min(len(members), 12)], ", ")
		if n > 12 {
			text += fmt.Sprintf(" and %d more", n-12)
		}
		fmt.Fprintf(a.out, "made of %s: %s\n", plural(n, "item"), text)
	}
	if o.EditedBy != nil {
		fmt.Fprintf(a.out, "its fields were changed by %s, %s\n", *o.EditedBy, when(*o.EditedAt))
	}
	if string(o.Before) != "{}" {
		a.fields("as it came", o.Before)
	}
	if o.After != nil {
		a.fields("as it went on", *o.After)
	}
	if o.Sent != nil {
		fmt.Fprintf(a.out, "\n%s %s  %s\n", o.Sent.Method, o.Sent.Url, statusWord(o.Sent.Status))
		if o.Sent.Body != nil {
			fmt.Fprintln(a.out, "  "+*o.Sent.Body)
		}
	}
	if f := o.Failure; f != nil {
		fmt.Fprintf(a.out, "\n%s\n", a.paint(red, f.Message))
		fmt.Fprintln(a.out, triedWords(deref(f.Tried), deref(f.OverMs), deref(f.Class), deref(f.Status)))
	}
	fmt.Fprintln(a.out, "\nits way")
	for i, w := range o.Way {
		fmt.Fprintf(a.out, "%3d  %s %s  %s\n", i+1, a.paint(fateColor(w.Fate), mark(w.Fate)), w.Sentence, a.paint(grey, w.Text))
	}
}

// triedWords says how often a call was made, and why no more often.
func triedWords(tried int, overMs int64, class string, status int) string {
	switch {
	case tried > 1:
		return fmt.Sprintf("tried %d times over %.1f s", tried, float64(overMs)/1000)
	case class == string(call.InDoubt):
		return "tried once: it may have had its effect, and a repeat would be a second one"
	case tried == 1 && status >= 400 && status < 500 && status != http.StatusTooManyRequests && status != http.StatusRequestTimeout:
		return "tried once: a refusal of this kind is not worth repeating"
	case tried == 1:
		return "tried once"
	}
	return "not tried"
}

func statusWord(s *int) string {
	if s == nil {
		return "not sent"
	}
	return fmt.Sprint(*s)
}

func (a *app) fields(title string, raw json.RawMessage) {
	var m map[string]json.RawMessage
	if json.Unmarshal(raw, &m) != nil {
		return
	}
	fmt.Fprintln(a.out, "\n"+title)
	rows := [][]string{}
	for _, k := range sortedKeys(m) {
		value := string(m[k])
		if v, err := item.Decode(m[k]); err == nil { // without the escapes of what came over the wire
			if b, err := item.Plain(v); err == nil {
				value = string(b)
			}
		}
		rows = append(rows, []string{"  " + k, value})
	}
	for _, r := range rows {
		fmt.Fprintf(a.out, "%s %s\n", fit(r[0], 18), fit(r[1], min(width(r[1]), 200)))
	}
}
