package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/words"
)

func (a *app) workflowLive() *cobra.Command {
	var kept string
	var first int
	c := &cobra.Command{Use: "live NAME", Short: "Freeze the draft as a revision and put it live", Example: "  trellis workflow live near-suppliers --first 5", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		how, err := whatWasKept[api.GoLiveParamsKept](kept)
		if err != nil {
			return err
		}
		most, err := firstItems(c, first)
		if err != nil {
			return err
		}
		if err := a.warned(c.Context(), cl, args[0]); err != nil {
			return err
		}
		w, err := got[api.Workflow](cl.GoLive(c.Context(), args[0], &api.GoLiveParams{Kept: how, First: most}))
		if err != nil {
			return err
		}
		return a.show(w, func() {
			fmt.Fprintf(a.out, "%s is live, revision %d. %s\n", w.Name, deref(w.Live), startsWords(w))
			if w.First != nil {
				fmt.Fprintf(a.out, "Its next run takes %s to the first write and sets the others aside; trellis run retry RUN lets them go on.\n", words.Count(*w.First, "item"))
			}
		})
	})}
	keptFlag(c, &kept)
	firstFlag(c, &first, "the next run")
	return c
}

// warned prints what the checker warns of before a draft goes live, and asks on a terminal
// whether it should all the same. Errors are told by the service, which refuses it.
func (a *app) warned(ctx context.Context, cl *api.Client, name string) error {
	w, err := got[api.Workflow](cl.GetWorkflow(ctx, name))
	if err != nil {
		return err
	}
	warnings := 0
	for _, p := range w.Problems {
		if p.Severity == "error" {
			return nil
		}
		if p.Severity == "warning" {
			warnings++
			fmt.Fprintln(a.errOut, placed(p))
		}
	}
	if _, ok := a.asks(); warnings == 0 || !ok {
		return nil
	}
	return a.agrees(fmt.Sprintf("Put it live with %s?", plural(warnings, "warning")))
}

// firstFlag lets somebody say how many items a run takes at first.
func firstFlag(c *cobra.Command, n *int, run string) {
	c.Flags().IntVar(n, "first", 0, "how many items "+run+" takes to its first write; the others are set aside until the run is retried")
}

func firstItems(c *cobra.Command, n int) (*int, error) {
	switch {
	case !c.Flags().Changed("first"):
		return nil, nil
	case n < 1:
		return nil, usage("--first is %d; it is how many items go on, from 1", n)
	}
	return &n, nil
}

// keptFlag lets somebody say what becomes of calls that were kept.
func keptFlag(c *cobra.Command, kept *string) {
	oneOf(c, kept, "kept", "what becomes of calls that were kept while it was paused", "start", "dismiss")
}

func whatWasKept[T ~string](s string) (*T, error) {
	switch s {
	case "":
		return nil, nil
	case "start", "dismiss":
		how := T(s)
		return &how, nil
	}
	return nil, usage("--kept is %q; it can be start, or dismiss", s)
}

func (a *app) workflowPause() *cobra.Command {
	return &cobra.Command{Use: "pause NAME", Short: "Let nothing start it for now", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		w, err := got[api.Workflow](cl.PauseWorkflow(c.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.show(w, func() {
			fmt.Fprintf(a.out, "%s is paused. Let it go on with: trellis workflow unpause %s\n", w.Name, w.Name)
			if deref(w.Called) {
				fmt.Fprintln(a.out, "Calls are kept meanwhile, for 7 days.")
			}
		})
	})}
}

func (a *app) workflowUnpause() *cobra.Command {
	var kept string
	c := &cobra.Command{Use: "unpause NAME", Short: "Let it start again, as it was live before", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		how, err := whatWasKept[api.UnpauseWorkflowParamsKept](kept)
		if err != nil {
			return err
		}
		w, err := got[api.Workflow](cl.UnpauseWorkflow(c.Context(), args[0], &api.UnpauseWorkflowParams{Kept: how}))
		if err != nil {
			return err
		}
		return a.show(w, func() {
			fmt.Fprintf(a.out, "%s goes on, revision %d. %s\n", w.Name, deref(w.Live), startsWords(w))
		})
	})}
	keptFlag(c, &kept)
	return c
}

// startsWords says what starts it, and when next.
func startsWords(w api.Workflow) string {
	out := w.Trigger + "."
	if deref(w.Timed) && w.Standing != nil {
		out += " " + standingWords(w.Standing) + "."
	}
	return out
}
