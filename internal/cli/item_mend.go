package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
	"youngtrellis/internal/core/words"
)

func (a *app) itemEdit() *cobra.Command {
	var set, unset []string
	var file string
	var newest, wait bool
	c := &cobra.Command{Use: "edit RUN ITEM", Short: "Give an item other fields and try it again",
		Long: "Gives an item other fields, as it comes to the step where it stands, and tries it again.\n\n--set NAME=VALUE changes one field: VALUE is JSON if it can be read as JSON, else text. --file takes all\nfields as a JSON object. On a terminal, without either, an editor opens.", RunE: a.onRun(func(c *cobra.Command, cl *api.Client, id uuid.UUID, args []string) error {
			x, o, err := a.standing(c.Context(), cl, id, args[1])
			if err != nil {
				return err
			}
			fields, err := a.edited(o.Before, set, unset, file)
			if err != nil {
				return err
			}
			a.changed(o.Before, fields)
			ref := api.ItemRef{Run: id, Address: x.Address}
			if len(set)+len(unset) > 0 && file == "" {
				some, err := setFields(set)
				if err != nil {
					return err
				}
				if ref.Set = &some; len(unset) > 0 {
					ref.Unset = &unset
				}
			} else {
				raw := api.Fields(fields)
				ref.Fields = &raw
			}
			items := []api.ItemRef{ref}
			return a.mend(c.Context(), cl, api.MendingWish{What: api.MendingWishWhatRetry, Items: &items, Newest: &newest}, wait)
		})}
	c.Flags().StringArrayVar(&set, "set", nil, "a field and its value, as phone=+441632960141")
	c.Flags().StringArrayVar(&unset, "unset", nil, "a field to take away")
	c.Flags().StringVar(&file, "file", "", "all fields as JSON, - for standard input")
	mendFlags(c, &newest, &wait)
	return c
}

func mendFlags(c *cobra.Command, newest, wait *bool) {
	c.Flags().BoolVar(newest, "newest", false, "with the live revision instead of the run's own")
	c.Flags().BoolVar(wait, "wait", true, "follow it to its end")
}

// edited are the fields of an item with the changes that a person wants.
func (a *app) edited(before []byte, set, unset []string, file string) ([]byte, error) {
	if file != "" {
		b, err := a.readText(file)
		if err != nil {
			return nil, err
		}
		var m map[string]json.RawMessage
		if err := json.Unmarshal(b, &m); err != nil {
			return nil, usage("%s does not hold a JSON object: %v", file, err)
		}
		return b, nil
	}
	if len(set)+len(unset) == 0 {
		return a.inEditor(before)
	}
	m := map[string]json.RawMessage{}
	if err := json.Unmarshal(before, &m); err != nil {
		return nil, err
	}
	given, err := setFields(set)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(given, &m); err != nil { // over those that are there
		return nil, err
	}
	for _, name := range unset {
		if _, ok := m[name]; !ok {
			return nil, usage("the item has no field %q; it has %s", name, strings.Join(sortedKeys(m), ", "))
		}
		delete(m, name)
	}
	return json.Marshal(m)
}

// setFields reads NAME=VALUE: VALUE is JSON if it can be read as JSON, else text.
func setFields(set []string) (api.Fields, error) {
	m := map[string]json.RawMessage{}
	for _, s := range set {
		name, value, ok := strings.Cut(s, "=")
		if !ok || name == "" {
			return nil, usage("--set %q is not NAME=VALUE", s)
		}
		if !json.Valid([]byte(value)) {
			b, err := json.Marshal(value)
			if err != nil {
				return nil, err
			}
			value = string(b)
		}
		m[name] = json.RawMessage(value)
	}
	return json.Marshal(m)
}

// changed prints which fields are others than before.
func (a *app) changed(before, after []byte) {
	var x, y map[string]json.RawMessage
	if a.output != "table" || json.Unmarshal(before, &x) != nil || json.Unmarshal(after, &y) != nil {
		return
	}
	for _, k := range sortedKeys(y) {
		if string(x[k]) != string(y[k]) {
			was := "not there"
			if x[k] != nil {
				was = string(x[k])
			}
			fmt.Fprintf(a.out, "  %s: %s, was %s\n", k, a.paint(bold, string(y[k])), was)
		}
	}
	for _, k := range sortedKeys(x) {
		if _, ok := y[k]; !ok {
			fmt.Fprintf(a.out, "  %s is taken away, was %s\n", k, x[k])
		}
	}
}

func (a *app) itemRetry() *cobra.Command {
	var m meant
	var newest, wait bool
	c := &cobra.Command{Use: "retry [RUN ITEM…]", Short: "Try items again: single ones, or all that flags narrow",
		Long: "Tries items again: single ones, by row (row3) or address (@0-1.7), or all that the flags narrow.\nWhat will happen is told first. Ending it half-way (trellis item cancel) leaves those that have not\nbegun as they were.",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			wish := api.MendingWish{What: api.MendingWishWhatRetry, Newest: &newest}
			if err := a.meantBy(c.Context(), cl, args, m, &wish.Items, &wish.Where); err != nil {
				return err
			}
			return a.mend(c.Context(), cl, wish, wait)
		})}
	m.flags(c)
	mendFlags(c, &newest, &wait)
	return c
}

// meantBy reads which items a command is about.
func (a *app) meantBy(ctx context.Context, cl *api.Client, args []string, m meant, items **[]api.ItemRef, where **api.ItemWhere) error {
	switch {
	case len(args) > 0 && m.some():
		return usage("give either a run and its items, or flags that narrow them")
	case len(args) > 0:
		list, err := itemRefs(ctx, cl, args)
		*items = &list
		return err
	case !m.some():
		return usage("say which items: a run and its items, or flags as --workflow and --step; trellis item list shows what waits")
	}
	w, err := m.where(ctx, cl)
	*where = w
	return err
}

func (a *app) itemConfirm() *cobra.Command {
	var done, again, wait bool
	newest := false
	c := &cobra.Command{Use: "confirm RUN ITEM…", Short: "Say of sends that may have happened that they did, or send again", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		if done == again {
			return usage("look at the other side, then say one of --was-done and --send-again")
		}
		list, err := itemRefs(c.Context(), cl, args)
		if err != nil {
			return err
		}
		wish := api.MendingWish{What: api.MendingWishWhatConfirm, Items: &list, Newest: &newest}
		if again {
			wish.What = api.MendingWishWhatRetry
		}
		return a.mend(c.Context(), cl, wish, wait)
	})}
	c.Flags().BoolVar(&done, "was-done", false, "the other side has it: nothing is sent, and the items go on")
	c.Flags().BoolVar(&again, "send-again", false, "the other side does not have it: it is sent again")
	mendFlags(c, &newest, &wait)
	return c
}

func (a *app) itemDismiss() *cobra.Command {
	var m meant
	var restore bool
	c := &cobra.Command{Use: "dismiss [RUN ITEM…]", Short: "Let items be: they wait for nobody any more",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			d := api.Dismissal{Restore: &restore}
			if err := a.meantBy(c.Context(), cl, args, m, &d.Items, &d.Where); err != nil {
				return err
			}
			return a.dismiss(c.Context(), cl, d)
		})}
	m.flags(c)
	c.Flags().BoolVar(&restore, "restore", false, "let dismissed items wait again")
	return c
}

// dismiss lets items be, or lets them wait again; of many it asks first.
func (a *app) dismiss(ctx context.Context, cl *api.Client, d api.Dismissal) error {
	if d.Where != nil && !deref(d.Restore) {
		n, err := got[api.ItemPage](cl.ListItems(ctx, &api.ListItemsParams{Run: d.Where.Run, Workflow: d.Where.Workflow, Step: d.Where.Step, Kind: d.Where.Kind, Alike: d.Where.Alike}))
		if err != nil {
			return err
		}
		if n.Total == 0 {
			return &coded{exitNotFound, errors.New("no such item waits for anybody; trellis item list shows what does")}
		}
		if err := a.agrees("Dismiss " + plural(n.Total, "item") + "?"); err != nil {
			return err
		}
	}
	out, err := got[api.Dismissed](cl.DismissItems(ctx, d))
	if err != nil {
		return err
	}
	return a.show(out, func() {
		verb := "dismissed; --restore takes it back"
		if deref(d.Restore) {
			verb = "waiting again"
		}
		fmt.Fprintf(a.out, "%s %s\n", plural(out.Items, "item"), verb)
	})
}

// agrees asks on a terminal; elsewhere --yes must have been said.
func (a *app) agrees(question string) error {
	if a.yes {
		return nil
	}
	f, ok := a.asks()
	if !ok {
		return usage("nothing was done: say --yes to do it without being asked")
	}
	fmt.Fprint(a.errOut, question+" [y/N] ")
	line, _ := bufio.NewReader(f).ReadString('\n')
	if s := strings.ToLower(strings.TrimSpace(line)); s != "y" && s != "yes" {
		return fmt.Errorf("nothing was done")
	}
	return nil
}

// mend tells what would happen, and does it.
func (a *app) mend(ctx context.Context, cl *api.Client, wish api.MendingWish, wait bool) error {
	p, err := got[api.MendingPlan](cl.PlanMending(ctx, wish))
	if err != nil {
		return err
	}
	if p.Items == 0 {
		return &coded{exitNotFound, fmt.Errorf("no such item waits for anybody; trellis item list shows what does")}
	}
	if a.output == "table" {
		a.mendPlan(p, wish.What)
	}
	if p.Refused != nil {
		return &coded{exitConflict, fmt.Errorf("nothing was done")}
	}
	if err := a.agrees("Do it?"); err != nil {
		return err
	}
	m, err := got[api.Mending](cl.BeginMending(ctx, wish))
	if err != nil {
		return err
	}
	if !wait {
		return a.show(m, func() {
			fmt.Fprintf(a.out, "begun; follow it with: trellis item watch %s\n", m.Id)
		})
	}
	return a.watchMending(ctx, cl, m)
}

func (a *app) mendPlan(p api.MendingPlan, what api.MendingWishWhat) {
	fmt.Fprintf(a.out, "%s in %s\n", plural(p.Items, "item"), plural(p.Runs, "run"))
	for _, s := range p.Steps {
		verb := "go on at"
		switch {
		case what == api.MendingWishWhatConfirm:
			verb = "count as done, and go on behind"
		case s.Writes:
			verb = "are sent by"
		}
		n := plural(s.Count, "item")
		if s.Count == 1 {
			verb = strings.NewReplacer("go on", "goes on", "are sent", "is sent", "count as", "counts as").Replace(verb)
		}
		fmt.Fprintf(a.out, "  %s %s %s: %s\n", n, verb, s.Step, s.Sentence)
	}
	if p.Runs > p.Looked {
		fmt.Fprintf(a.out, "  %s looked at; the others are like them\n", plural(p.Looked, "run"))
	}
	for _, list := range []struct {
		lines *[]string
		color string
	}{{p.Changes, grey}, {p.Late, yellow}, {p.Refused, red}} {
		for _, l := range deref(list.lines) {
			fmt.Fprintln(a.out, "  "+a.paint(list.color, l))
		}
	}
}

func (a *app) itemWatch() *cobra.Command {
	return &cobra.Command{Use: "watch ID", Short: "Follow a retry of many items to its end", RunE: a.onMending(func(ctx context.Context, cl *api.Client, id uuid.UUID) error {
		m, err := got[api.Mending](cl.GetMending(ctx, id))
		if err != nil {
			return err
		}
		return a.watchMending(ctx, cl, m)
	})}
}

func (a *app) itemCancel() *cobra.Command {
	return &cobra.Command{Use: "cancel ID", Short: "End a retry half-way; what has not begun stays as it was", RunE: a.onMending(func(ctx context.Context, cl *api.Client, id uuid.UUID) error {
		m, err := got[api.Mending](cl.CancelMending(ctx, id))
		if err != nil {
			return err
		}
		return a.watchMending(ctx, cl, m)
	})}
}

func (a *app) onMending(body func(context.Context, *api.Client, uuid.UUID) error) func(*cobra.Command, []string) error {
	return a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		id, err := uuid.Parse(args[0])
		if err != nil {
			return usage("%q is not what trellis item retry printed", args[0])
		}
		return body(c.Context(), cl, id)
	})
}

// watchMending follows one to its end. On a terminal there is a bar.
func (a *app) watchMending(ctx context.Context, cl *api.Client, m api.Mending) error {
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	for m.State == api.MendingStateGoing || m.State == api.MendingStateCancelling {
		if a.color {
			fmt.Fprintf(a.errOut, "\r\x1b[K%s %s of %s; end it with: trellis item cancel %s", bar(m.Begun, m.Items, 30), words.Number(m.Begun), plural(m.Items, "item"), m.Id)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
		var err error
		if m, err = got[api.Mending](cl.GetMending(ctx, m.Id)); err != nil {
			return err
		}
	}
	if a.color {
		fmt.Fprint(a.errOut, "\r\x1b[K")
	}
	return a.show(m, func() {
		text := plural(m.Done, "item") + " went on"
		if m.State == api.MendingStateCancelled {
			text = "ended half-way: " + text
		}
		if m.Again > 0 {
			text += fmt.Sprintf(", %s still waiting", words.Number(m.Again))
		}
		fmt.Fprintln(a.out, text)
		for _, r := range m.Refused {
			fmt.Fprintf(a.out, "  %s\n", a.paint(red, fmt.Sprintf("run %s: %s", r.Run, r.Message)))
		}
		if m.Again > 0 {
			fmt.Fprintln(a.out, "what waits: trellis item list")
		}
	})
}

// bar draws how far something is.
func bar(n, of, width int) string {
	full := 0
	if of > 0 {
		full = n * width / of
	}
	return strings.Repeat("━", full) + strings.Repeat("╌", width-full)
}
