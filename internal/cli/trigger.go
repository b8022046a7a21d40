package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

func (a *app) trigger() *cobra.Command {
	return noun("trigger", "What starts workflows, and when next", a.triggerList(), a.triggerShow(), a.triggerNext())
}

func (a *app) triggerList() *cobra.Command {
	return a.listOfWorkflows("List what starts each workflow, and how that stands", []string{"workflow", "state", "starts", "stands"}, func(w api.WorkflowSummary) []string {
		return []string{w.Name, string(w.State), w.Trigger, standingWords(w.Standing)}
	})
}

// standingWords says how a start stands: "Next Mon 30 Nov 16:30".
func standingWords(s *api.Standing) string {
	if s == nil {
		return ""
	}
	out := s.Words
	if s.At != nil {
		out += " " + when(*s.At)
	}
	if why := deref(s.Why); why != "" {
		out += ": " + why
	}
	return out
}

func (a *app) triggerShow() *cobra.Command {
	return &cobra.Command{Use: "show WORKFLOW", Short: "What starts a workflow, its next times, and what it missed", RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
		w, err := got[api.Workflow](cl.GetWorkflow(c.Context(), args[0]))
		if err != nil {
			return err
		}
		hours, most := 744, 5
		s, err := got[api.Schedule](cl.GetSchedule(c.Context(), &api.GetScheduleParams{Workflow: &args[0], Hours: &hours, Most: &most}))
		if err != nil {
			return err
		}
		shown := struct {
			Workflow string        `json:"workflow"`
			State    string        `json:"state"`
			Trigger  string        `json:"trigger"`
			Standing *api.Standing `json:"standing,omitempty"`
			Schedule api.Schedule  `json:"schedule"`
		}{w.Name, string(w.State), w.Trigger, w.Standing, s}
		return a.show(shown, func() {
			fmt.Fprintf(a.out, "%s.\n", w.Trigger)
			switch {
			case w.Standing != nil:
				fmt.Fprintf(a.out, "%s.\n", strings.TrimSuffix(standingWords(w.Standing), "."))
			case w.Live == nil:
				fmt.Fprintf(a.out, "It is a draft: nothing starts it yet. Put it live with: trellis workflow live %s\n", w.Name)
			}
			for _, e := range s.Entries {
				if len(e.Times) > 0 {
					fmt.Fprintln(a.out)
					if who := deref(e.Reader); who != "" {
						fmt.Fprintf(a.out, "For %s\n", who)
					}
					a.times(e.Times, e.Zone)
				}
			}
			if len(s.Missed) > 0 {
				fmt.Fprintln(a.out, "\nMissed, while nothing could start it:")
				for _, m := range s.Missed {
					fmt.Fprintln(a.out, "  "+missedWords(m))
				}
			}
			if deref(w.Called) {
				fmt.Fprintf(a.out, "Its address and secret: trellis workflow address %s\n", w.Name)
			}
		})
	})}
}

// missedWords says what was missed: "3 times, Fri 27 Nov 08:00 to 10:00; the last started a run".
func missedWords(m api.MissedTimes) string {
	out := fmt.Sprintf("%s, %s", plural(m.Times, "time"), when(m.First))
	if m.Times > 1 {
		out += " to " + when(m.Last)
	}
	switch {
	case m.Started == 0:
		return out + "; let go"
	case m.Started == m.Times && m.Times > 1:
		return out + "; each started a run later"
	case m.Started == 1:
		return out + "; the last started a run later"
	}
	return fmt.Sprintf("%s; %d of them started a run later", out, m.Started)
}

func (a *app) triggerNext() *cobra.Command {
	var phrase, zone string
	var count int
	c := &cobra.Command{
		Use: "next [WORKFLOW]", Short: "The next times of a workflow, or of a cadence that you write",
		Example: "  trellis trigger next kiln-loads\n  trellis trigger next --cadence \"every working day at 8\" --zone Europe/Lisbon\n  trellis trigger next --cadence \"on the last Friday of the month at 17:00\"",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			asked := api.AskedCadence{Count: &count}
			switch {
			case len(args) == 0 && phrase == "":
				return usage("name a workflow, or write a cadence: trellis trigger next --cadence \"every working day at 8\"")
			case len(args) == 1 && phrase != "":
				return usage("name either a workflow or a cadence, not both")
			case phrase != "":
				asked.Phrase, asked.Zone = &phrase, &zone
			default:
				w, err := got[api.Workflow](cl.GetWorkflow(c.Context(), args[0]))
				if err != nil {
					return err
				}
				if !deref(w.Timed) {
					return fmt.Errorf("%s does not start by the clock: %s", w.Name, strings.ToLower(w.Trigger[:1])+w.Trigger[1:])
				}
				empty := api.Fields("{}")
				if asked.Settings = w.TriggerSettings; asked.Settings == nil {
					asked.Settings = &empty
				}
				asked.Workflow = &w.Name
			}
			got, err := got[api.Cadence](cl.ReadCadence(c.Context(), asked))
			if err != nil {
				return err
			}
			return a.show(got, func() {
				fmt.Fprintf(a.out, "%s: %s within seven days.\n\n", strings.ToUpper(got.Sentence[:1])+got.Sentence[1:], plural(got.AWeek, "time"))
				a.times(got.Times, got.Zone)
				if c := deref(got.Clocks); c != "" {
					fmt.Fprintln(a.out, "\n"+c)
				}
			})
		}),
	}
	c.Flags().StringVar(&phrase, "cadence", "", "a cadence as you would say it")
	c.Flags().StringVar(&zone, "zone", localZone(), "whose clock it goes by, unless the cadence names one")
	c.Flags().IntVar(&count, "count", 10, "how many times, at most 100")
	return c
}

// localZone is the zone of this machine, where it has a name.
func localZone() string {
	if name := time.Local.String(); name != "Local" {
		return name
	}
	return "UTC"
}

// times prints due times with what the change of clocks does to them.
func (a *app) times(list []api.DueTime, zone string) {
	rows := [][]string{}
	for _, t := range list {
		rows = append(rows, []string{t.Wall, t.At.UTC().Format("2006-01-02 15:04"), deref(t.Note)})
	}
	a.grid([]string{"due, " + zone, "utc", ""}, rows)
}
