package workflow

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func limited(limits string) string {
	return strings.Replace(documentOf(fire), "steps:", "limits: "+limits+"\nsteps:", 1)
}

func TestLimitsAreChecked(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ limits, message string }{
		"all of them":                  {"{parallel_runs: 3, one_at_a_time_by: trigger.person, deadline: 2h}", ""},
		"a lane for all":               {`{one_at_a_time_by: '"all"'}`, ""},
		"a lane of the workflow":       {"{one_at_a_time_by: run.workflow}", ""},
		"a lane of what is set":        {"{one_at_a_time_by: 'vars.site + trigger.person'}", ""},
		"a lane of the run itself":     {"{one_at_a_time_by: run.id}", "of run only run.workflow can be used"},
		"a lane of all of the run":     {"{one_at_a_time_by: run}", "of run only run.workflow can be used"},
		"a lane of the item":           {"{one_at_a_time_by: item.person}", "item"},
		"a lane of a step":             {"{one_at_a_time_by: steps.fire.person}", "steps"},
		"a lane that is not finished":  {"{one_at_a_time_by: 'lower(trigger.person'}", "ends too early"},
		"none at once":                 {"{parallel_runs: 0}", "the least is 1"},
		"fewer than none at once":      {"{parallel_runs: -1}", "the least is 1"},
		"too many at once":             {"{parallel_runs: 1001}", "the most is 1000"},
		"some at once":                 {"{parallel_runs: some}", "parallel_runs"},
		"a deadline that is no time":   {"{deadline: soon}", "is not a duration"},
		"a deadline before it begins":  {"{deadline: 0s}", "lies between 1s and 400 days"},
		"a deadline in another age":    {"{deadline: 500d}", "lies between 1s and 400 days"},
		"a limit that nobody knows":    {"{at_once: 3}", "at_once"},
		"a limit that is no limit":     {"3", "limits"},
		"nothing that is said of them": {"{}", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w, problems := Check([]byte(limited(c.limits)), kilns(t))
			if c.message == "" {
				require.Empty(t, problems)
				_, err := Compile(w, kilns(t))
				require.NoError(t, err)
				return
			}
			require.True(t, HasErrors(problems), "%v", problems)
			p := problems[0]
			require.Equal(t, 4, p.Line, "%v", problems)
			require.Contains(t, p.Path+" "+p.Message+" "+p.Cure, c.message)
		})
	}
}

func planOf(t *testing.T, limits string) *Plan {
	t.Helper()
	w, problems := Check([]byte(strings.Replace(limited(limits), "steps:", "vars: {site: North}\nsteps:", 1)), kilns(t))
	require.Empty(t, problems)
	p, err := Compile(w, kilns(t))
	require.NoError(t, err)
	return p
}

func TestALaneIsToldByItsItems(t *testing.T) {
	t.Parallel()
	type items = []map[string]any
	for name, c := range map[string]struct {
		by    string
		items items
		lane  string
		wrong string
	}{
		"text":                        {"trigger.person", items{{"person": "ann"}}, `"ann`, ""},
		"a number":                    {"trigger.person", items{{"person": int64(7)}}, "7", ""},
		"a number like another":       {"trigger.person", items{{"person": 7.0}}, "7", ""},
		"a number as text is another": {"trigger.person", items{{"person": "7"}}, `"7`, ""},
		"nothing":                     {"trigger.person", items{{"person": nil}}, "", ""},
		"no field":                    {"trigger.person", items{{}}, "", ""},
		"empty text":                  {"trigger.person", items{{"person": ""}}, "", ""},
		"a list":                      {"[trigger.a, trigger.b]", items{{"a": "x", "b": int64(1)}}, `["x",1]`, ""},
		"one for all":                 {`"all"`, items{{"person": "ann"}, {"person": "ben"}}, `"all`, ""},
		"one for all, of no items":    {`"all"`, nil, `"all`, ""},
		"of the workflow":             {"run.workflow", items{{}}, `"loads`, ""},
		"of what is set":              {"vars.site + trigger.person", items{{"person": "ann"}}, `"Northann`, ""},
		"several of one":              {"trigger.person", items{{"person": "ann"}, {"person": "ann"}}, `"ann`, ""},
		"several of two":              {"trigger.person", items{{"person": "ann"}, {"person": "ben"}}, "", "items 1 and 2 belong to different lanes (“ann” and “ben”)"},
		"one of none":                 {"trigger.person", items{{"person": "ann"}, {"person": nil}}, "", "(“ann” and none)"},
		"too long":                    {"trigger.person", items{{"person": strings.Repeat("a", 501)}}, "", "longer than 500"},
		"what cannot be stored":       {"trigger.person", items{{"person": "a\x00b"}}, "", "cannot be stored"},
		"what cannot be told":         {"1 / trigger.n", items{{"n": int64(0)}}, "", "the lane of the run cannot be told"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			lane, err := planOf(t, "{one_at_a_time_by: '"+c.by+"'}").LaneOf(t.Context(), c.items, time.Now())
			if c.wrong != "" {
				require.ErrorContains(t, err, c.wrong)
				require.Empty(t, lane)
				return
			}
			require.NoError(t, err)
			require.Equal(t, c.lane, lane)
		})
	}
}

func TestWithoutLimitsThereAreNone(t *testing.T) {
	t.Parallel()
	w, _ := Check([]byte(documentOf(fire)), kilns(t))
	p, err := Compile(w, kilns(t))
	require.NoError(t, err)
	require.Zero(t, p.Limits)
	lane, err := p.LaneOf(t.Context(), []map[string]any{{"person": "ann"}}, time.Now())
	require.NoError(t, err)
	require.Empty(t, lane)
	require.Empty(t, w.LimitSentences())
	_, err = Compile(&Workflow{Limits: map[string]any{"one_at_a_time_by": "("}}, kilns(t))
	require.ErrorContains(t, err, "limits: the expression ends too early")
	b, errs := (&Workflow{Limits: map[string]any{"parallel_runs": int64(3), "deadline": "1d2h"}}).Bounds()
	require.Empty(t, errs)
	require.Equal(t, Bounds{Parallel: 3, Deadline: 26 * time.Hour}, b)
}

func TestLimitsAreSaid(t *testing.T) {
	t.Parallel()
	before, _ := Check([]byte(limited("{parallel_runs: 1, deadline: 2h}")), kilns(t))
	after, _ := Check([]byte(limited("{parallel_runs: 3, one_at_a_time_by: trigger.person}")), kilns(t))
	require.Equal(t, []string{"At most 1 run at once", "Each run takes 2 hours at most"}, before.LimitSentences())
	require.Equal(t, []string{"One run at a time by person", "At most 3 runs at once"}, after.LimitSentences())
	said := []string{}
	for _, c := range Diff(before, after, kilns(t)) {
		said = append(said, c.Sentence)
	}
	require.Equal(t, []string{"One run at a time by person.", "At most 3 runs at once, was: At most 1 run at once.", "No longer: Each run takes 2 hours at most."}, said)
	require.Empty(t, Diff(after, after, kilns(t)))
}

func TestAWorkflowWithBadLimitsIsTriedWithoutThem(t *testing.T) {
	t.Parallel()
	_, found := Examine([]byte(limited("{deadline: soon}")), kilns(t))
	require.Nil(t, found.Sound().Limits)
	require.Len(t, found.Sound().Steps, 1)
}

func TestALaneIsNotToldForEver(t *testing.T) {
	t.Parallel()
	late := errors.New("it takes longer than that")
	ctx, stop := context.WithCancelCause(t.Context())
	stop(late)
	_, err := planOf(t, "{one_at_a_time_by: trigger.person}").LaneOf(ctx, []map[string]any{{"person": "ann"}}, time.Now())
	require.ErrorIs(t, err, late)
	// Every item costs far less than the limit of one evaluation; all together do not end.
	items := make([]map[string]any, 100_000)
	list := make([]any, 20_000)
	for i := range items {
		items[i] = map[string]any{"list": list}
	}
	short, cancel := context.WithTimeoutCause(t.Context(), 50*time.Millisecond, late)
	defer cancel()
	began := time.Now()
	_, err = planOf(t, "{one_at_a_time_by: 'len(filter(trigger.list, # == 1))'}").LaneOf(short, items, time.Now())
	require.ErrorIs(t, err, late)
	require.Less(t, time.Since(began), 10*time.Second)
}
