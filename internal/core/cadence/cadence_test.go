package cadence

import (
	_ "embed"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func utc(t require.TestingT, s string) time.Time {
	at, err := time.Parse("2006-01-02T15:04Z", s)
	require.NoError(t, err)
	return at
}

func phrased(t require.TestingT, phrase, zone string) *Cadence {
	c, err := Read(phrase, zone)
	require.NoError(t, err, phrase)
	return c
}

//go:embed testdata/cases.tsv
var cases string

func TestDueAsWorkedOutApart(t *testing.T) {
	t.Parallel()
	zones, seen := map[string]bool{}, 0
	for _, line := range strings.Split(cases, "\n") {
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		f := strings.Split(line, "\t")
		require.Len(t, f, 5, line)
		c := phrased(t, f[0], f[1])
		after, anchor, want := utc(t, f[2]), utc(t, f[3]), strings.Fields(f[4])
		var got []string
		for _, d := range c.List(after, anchor, len(want)) {
			got = append(got, d.At.Format("2006-01-02T15:04Z"))
		}
		require.Equal(t, want, got, "%s in %s after %s", f[0], f[1], f[2])
		zones[f[1]], seen = true, seen+1
	}
	require.Greater(t, seen, 300)
	require.Greater(t, len(zones), 15)
}

var testZones = []string{"UTC", "Europe/Lisbon", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu", "Pacific/Chatham", "Africa/Cairo", "Antarctica/Troll", "America/Santiago", "Pacific/Apia"}

func anyCadence(t *rapid.T) Settings {
	s := Settings{Zone: rapid.SampledFrom(testZones).Draw(t, "zone")}
	times := func() string {
		var out []string
		for range rapid.IntRange(1, 4).Draw(t, "times") {
			out = append(out, clock(rapid.IntRange(0, 24*60-1).Draw(t, "time")).String())
		}
		return strings.Join(out, ", ")
	}
	day := rapid.SampledFrom([]string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"})
	switch rapid.IntRange(0, 6).Draw(t, "unit") {
	case 0:
		s.Every = rapid.SampledFrom([]string{"minute", "7 minutes", "90 minutes", "30 seconds", "5 hours", "hour", "48 hours"}).Draw(t, "every")
	case 1:
		s.Every, s.At = rapid.SampledFrom([]string{"hour", "2 hours", "5 hours"}).Draw(t, "every"), rapid.SampledFrom([]string{":15", ":00 and :30", ":59"}).Draw(t, "at")
	case 2:
		s.Every, s.At = rapid.SampledFrom([]string{"day", "weekday", "2 days", "9 days"}).Draw(t, "every"), times()
	case 3:
		s.Every, s.At = day.Draw(t, "day")+" and "+day.Draw(t, "day"), times()
	case 4:
		s.Every, s.On, s.At = rapid.SampledFrom([]string{"2 weeks", "5 weeks"}).Draw(t, "every"), day.Draw(t, "on"), times()
	case 5:
		s.Every, s.At = rapid.SampledFrom([]string{"month", "2 months", "quarter", "7 months"}).Draw(t, "every"), times()
		s.On = rapid.SampledFrom([]string{"1", "15 and last", "29", "first " + day.Draw(t, "on"), "last " + day.Draw(t, "on"), "last weekday", "5th weekday", "fifth sunday"}).Draw(t, "on")
	case 6:
		s.Cron = rapid.SampledFrom([]string{"*/7 * * * *", "0 */5 * * *", "30 1,2 * * *", "15 4 1 * mon", "0 0 29 2 *", "*/30 2 * * sun", "59 23 31 * *"}).Draw(t, "cron")
	}
	if rapid.Bool().Draw(t, "bounded") {
		s.From = time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, rapid.IntRange(0, 900).Draw(t, "from")).Format("2006-01-02")
	}
	s.Jitter = time.Duration(rapid.SampledFrom([]int{0, 0, 90, 300, 7200}).Draw(t, "jitter")) * time.Second
	return s
}

func TestNextIsAfterNoneIsSkippedNoneTwice(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		c, err := New(anyCadence(t))
		require.NoError(t, err)
		now := time.Date(2021, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(rapid.IntRange(0, 40*365*24*3600).Draw(t, "now")) * time.Second)
		anchor := c.Anchor(now.Add(-time.Duration(rapid.IntRange(0, 1000).Draw(t, "since")) * time.Hour))
		list := c.List(now, anchor, 12)
		require.NotEmpty(t, list)
		keys := map[string]bool{}
		last := now
		for _, d := range list {
			require.True(t, d.At.After(last), "%s: %s after %s", c.Sentence(), d.At, last)
			require.False(t, keys[d.Key], "%s: %s twice", c.Sentence(), d.Key)
			keys[d.Key], last = true, d.At
			// Asked from anywhere before it, and not before the one before, it is the same.
			again, ok := c.Next(d.At.Add(-time.Second), anchor)
			require.True(t, ok)
			require.Equal(t, d, again, c.Sentence())
		}
		end := list[len(list)-1].At
		count, some := c.Between(now, end, anchor, 5)
		require.Equal(t, len(list), count, c.Sentence())
		require.Equal(t, list[max(0, len(list)-5):], some, c.Sentence())
		count, some = c.Between(now, end.Add(-time.Second), anchor, 100)
		require.Equal(t, len(list)-1, count, c.Sentence())
		require.Equal(t, list[:len(list)-1], some[:])
	})
}

func TestTheSentenceReadBackIsTheSame(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		c, err := New(anyCadence(t))
		require.NoError(t, err)
		back, err := Read(c.Sentence(), "")
		require.NoError(t, err, c.Sentence())
		require.Equal(t, c.Sentence(), back.Sentence())
		require.Equal(t, c.Jitter, back.Jitter)
		same, err := New(c.Settings())
		require.NoError(t, err, "%+v", c.Settings())
		now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(rapid.IntRange(0, 365*24).Draw(t, "now")) * time.Hour)
		anchor := c.Anchor(now)
		require.Equal(t, anchor, back.Anchor(now))
		require.Equal(t, c.List(now, anchor, 5), back.List(now, anchor, 5), c.Sentence())
		require.Equal(t, c.List(now, anchor, 5), same.List(now, anchor, 5), c.Sentence())
	})
}

func TestPhrasesAsPeopleTypeThem(t *testing.T) {
	t.Parallel()
	for phrase, want := range map[string]string{
		"every working day at 8":                                    "every weekday at 08:00",
		"Every weekday at 16:30 in Europe/Lisbon":                   "every weekday at 16:30 in Europe/Lisbon",
		"weekdays at 4.30 pm, Lisbon":                               "",
		"weekdays at 4.30 pm in lisbon":                             "every weekday at 16:30 in Europe/Lisbon",
		"every 10 minutes":                                          "every 10 minutes",
		"each half hour":                                            "every 30 minutes",
		"hourly":                                                    "every hour",
		"every hour at :15 and :45":                                 "every hour at :15 and :45",
		"every hour at 5 past":                                      "every hour at :05",
		"Mondays at 9":                                              "every Monday at 09:00",
		"on Mondays and Thursdays at 9 o'clock":                     "every Monday and Thursday at 09:00",
		"mon-fri at 7:15":                                           "every weekday at 07:15",
		"every fri, sat at noon and midnight":                       "every Friday and Saturday at 00:00 and 12:00",
		"every weekend at 10":                                       "every Saturday and Sunday at 10:00",
		"every other week on friday at 17":                          "every 2 weeks on Friday at 17:00",
		"every second day at 6 in the morning":                      "every 2 days at 06:00",
		"every day at 6 in the evening":                             "every day at 18:00",
		"at 8 every working day":                                    "every weekday at 08:00",
		"on the 1st of every month at 9":                            "every month on the 1st at 09:00",
		"on the last day of the month at 23:59":                     "every month on the last day at 23:59",
		"every month on the 15th and last at 8":                     "every month on the 15th and last day at 08:00",
		"on the first working day of each month at 9":               "every month on the first weekday at 09:00",
		"every quarter on the 1st at 6":                             "every 3 months on the 1st at 06:00",
		"every year on the 1st at 0:00 from 2027-03-01":             "every 12 months on the 1st at 00:00 from 2027-03-01",
		"cron 30 16 * * mon-fri":                                    "by cron 30 16 * * mon-fri",
		"every day at 8 from 2026-12-01 08:00 until 2027-01-31":     "every day at 08:00 from 2026-12-01 08:00 until 2027-01-31",
		"every day at 8 within 5 minutes":                           "every day at 08:00, within 5 minutes",
		"every day at 8 in America/Port-au-Prince, within 90s":      "every day at 08:00 in America/Port-au-Prince, within 90 seconds",
		"every day at 8 in dar es salaam":                           "every day at 08:00 in Africa/Dar_es_Salaam",
		"every third day at 12am":                                   "every 3 days at 00:00",
		"every week on monday at 08:00":                             "every Monday at 08:00",
		"every morning at 7":                                        "every day at 07:00",
		"every 1 days at 07:00":                                     "every day at 07:00",
		"every twenty minutes":                                      "every 20 minutes",
		"every day at 8; in UTC":                                    "every day at 08:00",
		"every fifteen minutes starting 2026-12-01 till 2026-12-02": "every 15 minutes from 2026-12-01 until 2026-12-02",
	} {
		c, err := Read(phrase, "")
		if want == "" {
			require.Error(t, err, phrase)
			continue
		}
		require.NoError(t, err, phrase)
		require.Equal(t, want, c.Sentence(), phrase)
	}
}

func TestWhatIsNoCadenceIsSaidWithItsCure(t *testing.T) {
	t.Parallel()
	for phrase, want := range map[string][2]string{
		"":                                    {"every", "say how often"},
		"soon":                                {"every", `"soon" is no cadence`},
		"every wekday at 8":                   {"every", "Did you mean weekday?"},
		"every day":                           {"at", "say at what time of the day"},
		"every day at 25:00":                  {"at", "a day has no 25:00"},
		"every day at teatime":                {"at", `"teatime" is no time of the day`},
		"every day at 13 pm":                  {"at", "from 1 to 12"},
		"every 10 minutes at 8":               {"at", "every hour at :15"},
		"every hour at 8":                     {"at", "no minute of the hour"},
		"every week at 8":                     {"on", "as monday"},
		"every month at 8":                    {"on", "as 1, 15, last"},
		"every month on 32 at 8":              {"on", "no month has a day 32"},
		"every month on sixth monday at 8":    {"on", "is no day of the month"},
		"every 6th weekday at 8":              {"every", "is no cadence"},
		"every 2 weekdays at 8":               {"every", "working days are not counted"},
		"every day on monday at 8":            {"on", "weeks and months only"},
		"every monday on friday at 8":         {"on", "named already"},
		"every 2 seconds":                     {"every", "the shortest interval is 5 seconds"},
		"every 0 minutes":                     {"every", "it begins at 1"},
		"every 99999999 minutes":              {"every", "more than the"},
		"every 999999999999999999999 minutes": {"every", "is no cadence"},
		"every day at 8 in Atlantis":          {"zone", "write one as Europe/Lisbon"},
		"every day at 8 in local":             {"zone", "is not a zone"},
		"every day at 8 from tomorrow":        {"from", "is not a day"},
		"every day at 8 until 2020-13-01":     {"until", "is not a day"},
		"every day at 8 from 2027-01-01 until 2026-01-01": {"until", "before it begins"},
		"every day at 8 at 9":                             {"at", "said twice"},
		"every day at 8 every week":                       {"every", "said twice"},
		"every day at":                                    {"at", "something is missing"},
		"every day at 8 within 7h":                        {"jitter", "at most 6 hours"},
		"every day at 8 within a bit":                     {"jitter", "is not a duration"},
		"cron 30 16 * *":                                  {"cron", "has five fields"},
		"cron 61 16 * * *":                                {"cron", `"61" is not a minute of cron (0 to 59`},
		"cron 0 9 * * mo-fr":                              {"cron", `"mo-fr" is not a day of the week of cron`},
		"cron @daily":                                     {"cron", "has five fields"},
		"cron 0 0 31 2 *":                                 {"cron", "never due"},
		"cron 0 8 * * * at 9":                             {"at", "says itself"},
		"every 2 months on 30 at 8 from 2027-02-01 until 2027-02-28": {"until", "never due"},
	} {
		_, err := Read(phrase, "")
		var placed *Error
		require.ErrorAs(t, err, &placed, phrase)
		require.Equal(t, want[0], placed.Field, phrase)
		require.ErrorContains(t, err, want[1], phrase)
	}
	c, err := Read("every day at 8", "Europe/Lisbon")
	require.NoError(t, err)
	require.Equal(t, "every day at 08:00 in Europe/Lisbon", c.Sentence(), "where it names no zone")
	c, err = Read("every day at 8 in UTC", "Europe/Lisbon")
	require.NoError(t, err)
	require.Equal(t, "every day at 08:00", c.Sentence())
	_, err = New(Settings{Every: "day", Cron: "* * * * *"})
	require.ErrorContains(t, err, "not both")
}

func TestWhatClocksDoIsPointedOut(t *testing.T) {
	t.Parallel()
	c := phrased(t, "every day at 01:30", "Europe/Lisbon")
	list := c.List(utc(t, "2027-03-27T12:00Z"), time.Time{}, 2)
	require.Equal(t, "the clocks go forward over 01:30 on Sunday 28 March; it is due once they have", list[0].Note)
	require.Equal(t, "2027-03-28T01:30", list[0].Key, "by what the wall should show")
	require.Equal(t, utc(t, "2027-03-28T01:00Z"), list[0].At)
	require.Empty(t, list[1].Note)
	list = c.List(utc(t, "2026-10-24T12:00Z"), time.Time{}, 2)
	require.Equal(t, "the clocks go back over 01:30 on Sunday 25 October; it is due the first time", list[0].Note)
	c = phrased(t, "cron 30 * * * *", "Europe/Lisbon")
	list = c.List(utc(t, "2026-10-24T23:45Z"), time.Time{}, 3)
	require.Equal(t, []string{"2026-10-25T01:30", "2026-10-25T01:30/2", "2026-10-25T02:30"}, []string{list[0].Key, list[1].Key, list[2].Key})
	require.Contains(t, list[1].Note, "comes once more")
}

func TestTheNextChangeOfClocksIsToldAhead(t *testing.T) {
	t.Parallel()
	now := utc(t, "2026-11-27T12:00Z")
	for phrase, want := range map[string]string{
		"every day at 8 in Lisbon":            "Europe/Lisbon: the clocks go forward on Sunday 28 March 2027; 08:00 stays 08:00.",
		"every day at 8 and 9 in Lord Howe":   "Australia/Lord_Howe: the clocks go back on Sunday 4 April 2027; the times of the day stay as they are.",
		"every 6 hours in New York":           "America/New_York: the clocks go forward on Sunday 14 March 2027; it counts the time that passes, so it comes at other times of the day from then on.",
		"cron */15 * * * * in Lisbon":         "Europe/Lisbon: the clocks go forward on Sunday 28 March 2027; it is due at each minute that the line names, also when an hour comes twice.",
		"every day at 8 in Kathmandu":         "",
		"every day at 8":                      "",
		"every day at 8 in America/Sao_Paulo": "",
	} {
		require.Equal(t, want, phrased(t, phrase, "").Clocks(now), phrase)
	}
}

func TestDaysTellWhetherAnythingIsDueOnThem(t *testing.T) {
	t.Parallel()
	days := func(phrase, now string) string {
		c := phrased(t, phrase, "Europe/Lisbon")
		out := ""
		for _, d := range c.Days(utc(t, now), c.Anchor(utc(t, now)), 7) {
			out += map[bool]string{true: "x", false: "."}[d.Due]
		}
		return out
	}
	require.Equal(t, "x..xxxx", days("every weekday at 16:30", "2026-11-27T12:00Z"))
	require.Equal(t, "...xxxx", days("every weekday at 16:30", "2026-11-27T17:00Z"), "what has come today is over")
	require.Equal(t, "xxxxxxx", days("every 10 minutes", "2026-10-24T17:00Z"), "over the change of clocks")
	require.Equal(t, ".......", days("every day at 8 from 2027-01-01", "2026-11-27T12:00Z"))
	c := phrased(t, "every day at 8", "Europe/Lisbon")
	list := c.Days(utc(t, "2026-10-24T12:00Z"), time.Time{}, 3)
	require.Equal(t, utc(t, "2026-10-23T23:00Z"), list[0].Date)
	require.Equal(t, utc(t, "2026-10-26T00:00Z"), list[2].Date)
}

func TestIntervalsCountFromTheirAnchor(t *testing.T) {
	t.Parallel()
	c := phrased(t, "every 6 hours", "Europe/Lisbon")
	anchor := c.Anchor(utc(t, "2026-10-24T15:20Z"))
	require.Equal(t, utc(t, "2026-10-23T23:00Z"), anchor, "the midnight before, on the wall")
	list := c.List(utc(t, "2026-10-24T15:20Z"), anchor, 3)
	require.Equal(t, []time.Time{utc(t, "2026-10-24T17:00Z"), utc(t, "2026-10-24T23:00Z"), utc(t, "2026-10-25T05:00Z")}, []time.Time{list[0].At, list[1].At, list[2].At}, "six hours that pass, over the change of clocks too")
	before, ok := c.Next(anchor.Add(-7*time.Hour), anchor)
	require.True(t, ok)
	require.Equal(t, anchor.Add(-6*time.Hour), before.At, "also before it")
	from := phrased(t, "every 6 hours from 2026-11-01 10:00", "Europe/Lisbon")
	first, _ := from.Next(utc(t, "2026-01-01T00:00Z"), anchor)
	require.Equal(t, utc(t, "2026-11-01T10:00Z"), first.At)
	until := phrased(t, "every day at 8 until 2026-11-02", "Europe/Lisbon")
	require.Len(t, until.List(utc(t, "2026-10-31T12:00Z"), anchor, 10), 2, "the last day is one of them")
	count, last := phrased(t, "every 5 seconds until 2026-11-02", "").Between(utc(t, "2026-01-01T00:00Z"), utc(t, "2027-01-01T00:00Z"), utc(t, "2026-01-01T00:00Z"), 2)
	require.Equal(t, 306*86400/5-1, count, "without going through them all")
	require.Equal(t, utc(t, "2026-11-02T23:59Z").Add(55*time.Second), last[1].At)
}

func TestRulesOfZonesAreToldApart(t *testing.T) {
	t.Parallel()
	from, to := utc(t, "2026-01-01T00:00Z"), utc(t, "2027-06-01T00:00Z")
	seen := map[string]string{}
	for _, name := range testZones {
		zone, _, err := Zone(name)
		require.NoError(t, err)
		rules := Rules(zone, from, to)
		require.Equal(t, rules, Rules(zone, from, to))
		require.Empty(t, seen[rules], "%s and %s", name, seen[rules])
		seen[rules] = name
	}
}

// The rules of years far ahead are known by the year.
func TestYearsFarAheadHaveRulesToo(t *testing.T) {
	t.Parallel()
	c := phrased(t, "every day at 02:30", "America/New_York")
	list := c.List(utc(t, "2040-12-30T12:00Z"), time.Time{}, 3)
	require.Equal(t, utc(t, "2040-12-31T07:30Z"), list[0].At)
	require.Equal(t, utc(t, "2041-01-02T07:30Z"), list[2].At)
	list = c.List(utc(t, "2040-03-10T12:00Z"), time.Time{}, 1)
	require.Equal(t, utc(t, "2040-03-11T07:00Z"), list[0].At, "the clocks go forward over it")
	require.NotEmpty(t, Rules(c.Zone(), utc(t, "2020-01-01T00:00Z"), utc(t, "2100-01-01T00:00Z")))
}

func BenchmarkNext(b *testing.B) {
	for _, phrase := range []string{"every weekday at 16:30", "cron * * * * *", "every 10 minutes", "every month on the last weekday at 8:00"} {
		b.Run(phrase, func(b *testing.B) {
			c := phrased(b, phrase, "Europe/Lisbon")
			t := time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)
			for b.Loop() {
				d, _ := c.Next(t, t)
				t = d.At
			}
		})
	}
}

func FuzzParse(f *testing.F) {
	for _, phrase := range []string{"every weekday at 8", "cron 0 9 * * 1-7", "on the last friday of the month at 5 pm in Lisbon", "every every at at", "at 8 every", "in in in"} {
		f.Add(phrase)
	}
	f.Fuzz(func(t *testing.T, phrase string) {
		c, err := Read(phrase, "")
		if err != nil {
			return
		}
		back, err := Read(c.Sentence(), "")
		require.NoError(t, err, "%q became %q", phrase, c.Sentence())
		require.Equal(t, c.Settings(), back.Settings(), "%q became %q", phrase, c.Sentence())
		same, err := New(c.Settings())
		require.NoError(t, err, "%q became %+v", phrase, c.Settings())
		require.Equal(t, c.Sentence(), same.Sentence())
	})
}
