package expr

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

const hoursHelp = `Working hours are {"from": "09:00", "to": "17:00", "days": [1, 2, 3, 4, 5], "holidays": ["2026-12-25"], "zone": "Europe/Lisbon"}; what is left out is as here, without holidays.`

var workFunctions = group("working time",
	fn("workday_add(time: time, n: whole, hours?: object) time", "So many working days later at the same hour, earlier if negative. "+hoursHelp, `workday_add("2026-11-27T10:00", 1)`, `"2026-11-30T10:00:00Z"`, workdayAdd, takes(8), fails("the working hours cannot be read, or no working day is found within ten years"), found("business day next monday skip weekend holiday deadline"), byHours(2)),
	fn("working_hours(from: time, to: time, hours?: object) number", "How many working hours lie between two times. "+hoursHelp, `working_hours("2026-11-27T16:00", "2026-11-30T10:00")`, `2`, workingHours, takes(8), fails("the working hours cannot be read, or the times are more than ten years apart"), found("business hours between office elapsed response time sla"), byHours(2)),
	fn("free_slots(busy: list, from: time, to: time, length: duration, hours?: object) list", "The times of at least this length within working hours in which nothing is busy; each busy time is an object with from and to, or start and end. "+hoursHelp, `free_slots([{"from": "2026-11-23T10:00", "to": "2026-11-23T12:30"}], "2026-11-23", "2026-11-24", "3h")`, `[{"from":"2026-11-23T12:30:00Z","to":"2026-11-23T17:00:00Z"}]`, freeSlots, takes(12), takesNothing, fails("a busy time cannot be read, or the times are more than ten years apart"), found("calendar appointment available gap booking schedule"), byHours(4)),
)

// farthest bounds how many days are looked through.
const farthest = 3660

// workingWeek is when work is done.
type workingWeek struct {
	from, to time.Duration // since midnight, by the clock
	days     [7]bool       // from Monday
	off      map[string]bool
	zone     *time.Location
}

func (m *machine) workingWeek(given map[string]any, t time.Time) (*workingWeek, error) {
	w := &workingWeek{from: 9 * time.Hour, to: 17 * time.Hour, days: [7]bool{true, true, true, true, true}, off: map[string]bool{}, zone: t.Location()}
	for name, v := range given {
		var err error
		switch name {
		case "from":
			w.from, err = clockTime(v)
		case "to":
			w.to, err = clockTime(v)
		case "days":
			list, ok := v.([]any)
			w.days = [7]bool{}
			for _, e := range list {
				n, whole := e.(int64)
				if ok = ok && whole && n >= 1 && n <= 7; ok {
					w.days[n-1] = true
				}
			}
			if !ok || len(list) == 0 {
				err = errors.New("days are numbers from 1 for Monday to 7 for Sunday")
			}
		case "holidays":
			list, _ := v.([]any)
			for _, e := range list {
				d, err := m.time(e, time.UTC)
				if err != nil {
					return nil, fmt.Errorf("holidays: %w", err)
				}
				w.off[d.Format(time.DateOnly)] = true
			}
		case "zone":
			w.zone, err = Zone(Text(v))
		default:
			err = errors.New("is not known; there are from, to, days, holidays and zone")
		}
		if err != nil {
			return nil, fmt.Errorf("the working hours' %s: %w", name, err)
		}
	}
	if w.to <= w.from {
		return nil, errors.New("the working hours end before they begin")
	}
	return w, nil
}

// clockTime reads a time of day as 09:00.
func clockTime(v any) (time.Duration, error) {
	s := strings.TrimSpace(Text(v))
	if s == "24:00" {
		return 24 * time.Hour, nil
	}
	for _, form := range []string{"15:04", "15:04:05"} {
		if t, err := time.Parse(form, s); err == nil {
			return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute + time.Duration(t.Second())*time.Second, nil
		}
	}
	return 0, fmt.Errorf("%s is no time of day; it is written as 09:00", show(v))
}

func (w *workingWeek) works(t time.Time) bool {
	return w.days[(t.Weekday()+6)%7] && !w.off[t.Format(time.DateOnly)]
}

// hours are those of the day in which a time lies, by the clocks of the zone.
func (w *workingWeek) hours(t time.Time) (from, to time.Time) {
	y, mo, d := t.Date()
	at := func(c time.Duration) time.Time {
		return local(y, mo, d, int(c/time.Hour), int(c/time.Minute%60), int(c/time.Second%60), 0, w.zone)
	}
	return at(w.from), at(w.to)
}

// each goes through the working hours of the days from one time to another.
func (w *workingWeek) each(m *machine, from, to time.Time, visit func(a, b time.Time) error) error {
	if to.Sub(from) > farthest*24*time.Hour {
		return errors.New("the times are more than ten years apart")
	}
	for day := startOfUnit(from.In(w.zone), "day"); day.Before(to); {
		if err := m.step(0); err != nil {
			return err
		}
		if w.works(day) {
			a, b := w.hours(day)
			if a.Before(from) {
				a = from.In(w.zone)
			}
			if b.After(to) {
				b = to.In(w.zone)
			}
			if a.Before(b) {
				if err := visit(a, b); err != nil {
					return err
				}
			}
		}
		next, err := addUnits(day, 1, "day")
		if err != nil {
			return err
		}
		day = next
	}
	return nil
}

func workdayAdd(m *machine, a args) (any, error) {
	w, err := m.workingWeek(a.object(2), a.time(0))
	if err != nil {
		return nil, err
	}
	t, n := a.time(0).In(w.zone), a.whole(1, 0)
	if n > farthest || n < -farthest {
		return nil, fmt.Errorf("at most %d working days can be added", farthest)
	}
	step := int64(1)
	if n < 0 {
		step, n = -1, -n
	}
	day := t
	for i := int64(1); n > 0; i++ {
		if err := m.step(0); err != nil {
			return nil, err
		}
		if i > 2*farthest {
			return nil, errors.New("no working day is found within ten years")
		}
		if day, err = addUnits(t, step*i, "day"); err != nil {
			return nil, err
		}
		if w.works(day) {
			n--
		}
	}
	return day, nil
}

func workingHours(m *machine, a args) (any, error) {
	w, err := m.workingWeek(a.object(2), a.time(0))
	if err != nil {
		return nil, err
	}
	from, to, sign := a.time(0), a.time(1), int64(1)
	if to.Before(from) {
		from, to, sign = to, from, -1
	}
	var sum time.Duration
	if err := w.each(m, from, to, func(a, b time.Time) error { sum += b.Sub(a); return nil }); err != nil {
		return nil, err
	}
	return calculateNumbers("/", sign*int64(sum), int64(time.Hour))
}

type slot struct{ from, to time.Time }

func (m *machine) slots(list []any, zone *time.Location) ([]slot, error) {
	var out []slot
	for i, e := range list {
		o, _ := e.(map[string]any)
		var s slot
		for _, names := range [][2]string{{"from", "to"}, {"start", "end"}, {"starts", "ends"}, {"begins", "ends"}} {
			a, b := o[names[0]], o[names[1]]
			if a == nil || b == nil {
				continue
			}
			var err1, err2 error
			s.from, err1 = m.time(a, zone)
			s.to, err2 = m.time(b, zone)
			if err := errors.Join(err1, err2); err != nil {
				return nil, fmt.Errorf("busy time %d: %w", i+1, errors.Join(err1, err2))
			}
			break
		}
		if s.from.IsZero() {
			return nil, fmt.Errorf("busy time %d is %s; it should be an object with from and to", i+1, show(e))
		}
		if s.from.Before(s.to) {
			out = append(out, s)
		}
	}
	slices.SortFunc(out, func(a, b slot) int { return cmp.Or(a.from.Compare(b.from), a.to.Compare(b.to)) })
	return out, nil
}

func freeSlots(m *machine, a args) (any, error) {
	w, err := m.workingWeek(a.object(4), a.time(1))
	if err != nil {
		return nil, err
	}
	busy, err := m.slots(a.list(0), w.zone)
	if err != nil {
		return nil, err
	}
	length, out, next := a.duration(3), []any{}, 0
	if length <= 0 {
		return nil, errors.New("the length is more than nothing")
	}
	give := func(from, to time.Time) error {
		if to.Sub(from) < length {
			return nil
		}
		out = append(out, map[string]any{"from": from, "to": to})
		return m.charge(0, 200)
	}
	err = w.each(m, a.time(1), a.time(2), func(from, to time.Time) error {
		for next < len(busy) && !busy[next].to.After(from) {
			next++
		}
		for i := next; i < len(busy) && busy[i].from.Before(to); i++ {
			if err := m.step(0); err != nil {
				return err
			}
			if busy[i].from.After(from) {
				if err := give(from, busy[i].from.In(w.zone)); err != nil {
					return err
				}
			}
			if busy[i].to.After(from) {
				from = busy[i].to.In(w.zone)
			}
		}
		if from.Before(to) {
			return give(from, to)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}
