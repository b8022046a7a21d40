package expr

import (
	"errors"
	"fmt"
	"math"
	"time"
)

var timeFunctions = group("times",
	fn("now() time", "The time of the run at this item: the end of the last effect on its way.", `type(now())`, `"text"`, func(m *machine, _ args) (any, error) { return m.scope.Now, nil }, found("today current date time")),
	fn("time(text: any, zone?: zone) time", "A time from text as 2026-11-23, 2026-11-23T16:30:00+01:00 or a mail's date, or from seconds or milliseconds since 1970; a zone for text without an offset.", `time("2026-11-23 16:30", "Europe/Lisbon")`, `"2026-11-23T16:30:00Z"`, func(m *machine, a args) (any, error) {
		t, err := m.time(a[0], a.zone(m, 1))
		if err == nil && a.has(1) {
			t = t.In(a.zone(m, 1))
		}
		return t, err
	}, fails("the text is no time that can be read in one way only"), found("parse date timestamp epoch unix convert")),
	fn("parse_date(text: text, pattern: text, zone?: zone, locale?: text) time", "A time from text by a Unicode date pattern (UTS 35), the names of months in English or as in a locale.", `parse_date("23.11.2026", "d.M.yyyy")`, `"2026-11-23T00:00:00Z"`, func(m *machine, a args) (any, error) {
		return ParsePattern(a.text(0), a.text(1), a.text(3), a.zone(m, 2))
	}, fails("the text does not fit the pattern, or names a day that does not exist"), found("read date day month order format european american custom"), byDate(1, 3)),
	fn("format(time: time, pattern: text, zone?: zone, locale?: text) text", "A time as text by a Unicode date pattern (UTS 35), the names of days and months in English or as in a locale.", `format("2026-11-23T16:30:00Z", "EEE d MMM HH:mm")`, `"Mon 23 Nov 16:30"`, func(m *machine, a args) (any, error) {
		t := a.time(0)
		if a.has(2) {
			t = t.In(a.zone(m, 2))
		}
		return FormatTime(t, a.text(1), a.text(3))
	}, fails("the pattern has a letter that stands for nothing"), found("date display write day month year weekday name"), byDate(1, 3)),
	fn("duration(text: duration) duration", "A length of time: 90s, 5m, 2h, 3d, 1d12h.", `duration("36h")`, `"1d12h"`, func(_ *machine, a args) (any, error) { return a.duration(0), nil }, fails("the text is no duration"), found("length of time hours days")),
	fn("age(time: time) duration", "How long ago a time was.", `age("2026-11-20") >= duration("3d")`, `true`, func(m *machine, a args) (any, error) { return m.scope.Now.Sub(a.time(0)), nil }, found("since old elapsed how long ago")),
	fn("add(time: time, n: whole, unit: text, zone?: zone) time", "So many units later, earlier if negative. Days, weeks, months, quarters and years go by the calendar, at the same hour of the clock; hours, minutes and seconds as they pass.", `add("2026-03-28T12:00", 1, "day", "Europe/Lisbon")`, `"2026-03-29T12:00:00+01:00"`, func(m *machine, a args) (any, error) {
		unit, err := unitOf(a.text(2))
		if err != nil {
			return nil, err
		}
		return addUnits(a.time(0).In(zoneOf(m, a, 3, a.time(0))), a.whole(1, 0), unit)
	}, fails("the unit is not known, or the year is not one of 1 to 9999"), found("later plus tomorrow next day week month calendar same hour subtract minus before")),
	fn("diff(from: time, to: time, unit: text, zone?: zone) whole", "How many whole units lie between two times, negative if the second is earlier; days and what is longer by the calendar.", `diff("2026-01-31", "2026-03-01", "month")`, `1`, func(m *machine, a args) (any, error) {
		unit, err := unitOf(a.text(2))
		if err != nil {
			return nil, err
		}
		return unitsBetween(a.time(0).In(zoneOf(m, a, 3, a.time(0))), a.time(1), unit)
	}, fails("the unit is not known"), found("difference days between months until age in years count")),
	fn("between(time: time, from: time, to: time) yes", "Whether a time is at or after one and before another.", `between("2026-11-23T10:00", "2026-11-23T09:00", "2026-11-23T17:00")`, `true`, func(_ *machine, a args) (any, error) {
		return !a.time(0).Before(a.time(1)) && a.time(0).Before(a.time(2)), nil
	}, found("within range period inside")),
	fn("in_zone(time: time, zone: zone) time", "The same moment on the clocks of another zone.", `in_zone("2026-07-01T12:00:00Z", "Europe/Lisbon")`, `"2026-07-01T13:00:00+01:00"`, func(m *machine, a args) (any, error) { return a.time(0).In(a.zone(m, 1)), nil }, fails("the zone is not known"), found("timezone convert local time utc")),
	fn("start_of(time: time, unit: text, zone?: zone) time", "The start of its second, minute, hour, day, week (Monday), month, quarter or year.", `start_of("2026-11-25T16:30:00Z", "week")`, `"2026-11-23T00:00:00Z"`, func(m *machine, a args) (any, error) {
		unit, err := unitOf(a.text(1))
		if err != nil {
			return nil, err
		}
		return startOfUnit(a.time(0).In(zoneOf(m, a, 2, a.time(0))), unit), nil
	}, fails("the unit is not known"), found("midnight first day of month monday beginning truncate")),
	fn("end_of(time: time, unit: text, zone?: zone) time", "The last millisecond of its second, minute, hour, day, week (Sunday), month, quarter or year.", `end_of("2026-11-25", "month")`, `"2026-11-30T23:59:59.999Z"`, func(m *machine, a args) (any, error) {
		unit, err := unitOf(a.text(1))
		if err != nil {
			return nil, err
		}
		next, err := addUnits(startOfUnit(a.time(0).In(zoneOf(m, a, 2, a.time(0))), unit), 1, unit)
		return next.Add(-time.Millisecond), err
	}, fails("the unit is not known"), found("last day of month end deadline midnight")),
	fn("weekday(time: time, zone?: zone) whole", "1 for Monday to 7 for Sunday (ISO 8601).", `weekday("2026-11-23")`, `1`, func(m *machine, a args) (any, error) {
		return int64((a.time(0).In(zoneOf(m, a, 1, a.time(0))).Weekday()+6)%7 + 1), nil
	}, found("day of week monday sunday weekend number")),
	fn("hours(duration: duration) number", "A length of time as a number of hours.", `hours(duration("90m"))`, `1.5`, lengthIn(time.Hour), found("duration to number")),
	fn("minutes(duration: duration) number", "A length of time as a number of minutes.", `minutes(duration("90s"))`, `1.5`, lengthIn(time.Minute), found("duration to number")),
	fn("seconds(duration: duration) number", "A length of time as a number of seconds.", `seconds(duration("2m"))`, `120`, lengthIn(time.Second), found("duration to number")),
	fn("epoch(time: time) whole", "Whole seconds since the start of 1970 in UTC.", `epoch("2026-11-23")`, `1795392000`, func(_ *machine, a args) (any, error) { return a.time(0).Unix(), nil }, found("unix timestamp seconds since 1970")),
)

// time reads a value as a time.
func (m *machine) time(v any, zone *time.Location) (time.Time, error) {
	switch v := v.(type) {
	case time.Time:
		return v, nil
	case string:
		return ParseTime(v, zone)
	case int64:
		return fromEpoch(float64(v), v)
	case float64:
		return fromEpoch(v, 0)
	}
	return time.Time{}, fmt.Errorf("%s is not a time", show(v))
}

// fromEpoch reads seconds since 1970, or milliseconds where they would be after
// the year 5000.
func fromEpoch(f float64, whole int64) (time.Time, error) {
	if math.Abs(f) > 2.5e14 {
		return time.Time{}, errors.New("the number " + Text(f) + " is no time: neither seconds nor milliseconds since 1970")
	}
	if whole == 0 {
		whole = int64(f)
	}
	if math.Abs(f) > 1e11 {
		return time.UnixMilli(whole).UTC(), nil
	}
	return time.Unix(whole, int64((f-math.Trunc(f))*1e9)).UTC(), nil
}

// zoneOf is the zone given, or the one in which a time stands.
func zoneOf(m *machine, a args, i int, t time.Time) *time.Location {
	if a.has(i) {
		return a.zone(m, i)
	}
	return t.Location()
}

func lengthIn(unit time.Duration) func(*machine, args) (any, error) {
	return func(_ *machine, a args) (any, error) {
		return calculateNumbers("/", int64(a.duration(0)), int64(unit))
	}
}
