// Package calendar is the stand-in for a calendar of the kiln hall: free times,
// events, booking, and an iCalendar feed. It signs in by a personal token; its
// times carry the zone of the hall.
package calendar

import (
	"fmt"
	"html/template"
	"net/http"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"youngtrellis/internal/standins"
)

// Zone is the hall's.
const Zone = "Europe/Lisbon"

// Event in the calendar.
type Event struct {
	ID     string    `json:"id"`
	Title  string    `json:"title"`
	Starts time.Time `json:"starts"`
	Ends   time.Time `json:"ends"`
}

// Calendar is the stand-in.
type Calendar struct {
	*standins.Stand
	mu     sync.Mutex
	events []Event
	zone   *time.Location
	base   string
	token  string
}

// New makes it with the hall's week.
func New(o standins.Setup) (*Calendar, error) {
	zone, err := time.LoadLocation(Zone)
	if err != nil {
		return nil, err
	}
	k := &Calendar{zone: zone, token: o.Key("calendar")}
	saved := o.Saved("calendar")
	if !saved.Load(&k.events) {
		day := time.Date(o.Day.Year(), o.Day.Month(), o.Day.Day(), 0, 0, 0, 0, zone)
		for i, e := range []struct {
			day, from, to int
			title         string
		}{{0, 8, 12, "Kiln 2, cone 9"}, {1, 9, 11, "Lowlight, tiles"}, {1, 14, 17, "Kiln 1, cone 04"}, {2, 8, 16, "Relining kiln 2"}, {4, 10, 12, "Hollowbank, test rings"}} {
			k.events = append(k.events, Event{fmt.Sprintf("ev_%02d", i+1), e.title, day.AddDate(0, 0, e.day).Add(time.Duration(e.from) * time.Hour), day.AddDate(0, 0, e.day).Add(time.Duration(e.to) * time.Hour)})
		}
	}
	event := map[string]any{"id": "ev_9", "title": "…", "starts": "2026-11-24T09:00:00+00:00", "ends": "2026-11-24T11:00:00+00:00", "link": ""}
	service := standins.Build(standins.Spec{Name: "Calendar", About: "The kiln hall's time, in the zone " + Zone + ".", Check: standins.Header("Authorization", "Bearer ", k.token), Page: k.page,
		Security: map[string]any{"type": "http", "scheme": "bearer"},
		Ops: []standins.Op{
			{Method: "GET", Path: "/me", ID: "me", Summary: "Whose calendar this is", Answer: map[string]any{"name": "Kiln hall", "zone": Zone}, Handle: func(*standins.Call) (any, error) { return map[string]any{"name": "Kiln hall", "zone": Zone}, nil }},
			{Method: "GET", Path: "/events", ID: "list_events", Summary: "List events between two times", Query: []string{"from", "to"}, Answer: map[string]any{"events": []any{event}, "book": ""}, Handle: k.list},
			{Method: "GET", Path: "/free", ID: "free_times", Summary: "Free times of the hall's day, 8 to 18", Query: []string{"day!", "hours"}, Answer: map[string]any{"free": []any{map[string]any{"starts": "", "ends": ""}}}, Handle: k.free},
			{Method: "POST", Path: "/events", ID: "book", Summary: "Book a time", Body: map[string]any{"title": "…", "starts": "2026-11-24T09:00:00Z", "ends": "2026-11-24T11:00:00Z"}, Answer: event, Handle: k.book},
			{Method: "DELETE", Path: "/events/:id", ID: "cancel_event", Summary: "Cancel a booking", Answer: event, Handle: k.cancel},
		}})
	service.Engine.GET("/book", k.offer)
	service.Engine.POST("/book", k.offer)
	service.Engine.GET("/feed.ics", standins.Plain("text/calendar; charset=utf-8", k.feed))
	k.Stand = &standins.Stand{Service: service, Connector: "calendar", Values: map[string]string{"secret": k.token}, OnBase: func(base string) { k.base = base },
		Save: func() error { k.mu.Lock(); defer k.mu.Unlock(); return saved.Save(k.events) }}
	return k, nil
}

func (k *Calendar) view(e Event) map[string]any {
	return map[string]any{"id": e.ID, "title": e.Title, "starts": e.Starts.In(k.zone).Format(time.RFC3339), "ends": e.Ends.In(k.zone).Format(time.RFC3339), "zone": Zone, "link": k.base + "/#" + e.ID}
}

func (k *Calendar) sorted() []Event {
	out := append([]Event{}, k.events...)
	sort.Slice(out, func(i, j int) bool { return out[i].Starts.Before(out[j].Starts) })
	return out
}

// Events are those in the calendar, in the order in which they were made.
func (k *Calendar) Events() []Event {
	k.mu.Lock()
	defer k.mu.Unlock()
	return append([]Event{}, k.events...)
}

func (k *Calendar) list(c *standins.Call) (any, error) {
	from, to := time.Time{}, time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)
	for name, t := range map[string]*time.Time{"from": &from, "to": &to} {
		if v := c.Query(name); v != "" {
			at, err := time.Parse(time.RFC3339, v)
			if err != nil {
				return nil, standins.Invalid(name, "“%s” is not a time such as 2026-11-24T09:00:00Z", v)
			}
			*t = at
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	out := []any{}
	for _, e := range k.sorted() {
		if e.Ends.After(from) && e.Starts.Before(to) {
			out = append(out, k.view(e))
		}
	}
	return map[string]any{"events": out, "book": k.base + "/book"}, nil
}

func (k *Calendar) free(c *standins.Call) (any, error) {
	day, err := time.ParseInLocation("2006-01-02", c.Query("day"), k.zone)
	if err != nil {
		return nil, standins.Invalid("day", "“%s” is not a day such as 2026-11-24", c.Query("day"))
	}
	hours := 1
	_, _ = fmt.Sscan(c.Query("hours"), &hours)
	at, end := day.Add(8*time.Hour), day.Add(18*time.Hour)
	k.mu.Lock()
	defer k.mu.Unlock()
	out := []any{}
	add := func(from, to time.Time) {
		if to.Sub(from) >= time.Duration(hours)*time.Hour {
			out = append(out, map[string]any{"starts": from.Format(time.RFC3339), "ends": to.Format(time.RFC3339)})
		}
	}
	for _, e := range k.sorted() {
		if e.Ends.After(at) && e.Starts.Before(end) {
			if e.Starts.After(at) {
				add(at, e.Starts.In(k.zone))
			}
			at = e.Ends.In(k.zone)
		}
	}
	if at.Before(end) {
		add(at, end)
	}
	return map[string]any{"free": out, "zone": Zone}, nil
}

func (k *Calendar) book(c *standins.Call) (any, error) {
	var in struct{ Title, Starts, Ends string }
	if err := c.In(&in); err != nil {
		return nil, err
	}
	e, err := k.put(in.Title, in.Starts, in.Ends)
	if err != nil {
		return nil, err
	}
	return standins.Made{Body: k.view(e)}, nil
}

// put books a time that is free.
func (k *Calendar) put(title, from, to string) (Event, error) {
	starts, err1 := time.Parse(time.RFC3339, from)
	ends, err2 := time.Parse(time.RFC3339, to)
	switch {
	case title == "":
		return Event{}, standins.Invalid("title", "an event needs a title")
	case err1 != nil:
		return Event{}, standins.Invalid("starts", "“%s” is not a time with its zone, such as 2026-11-24T09:00:00Z", from)
	case err2 != nil || !ends.After(starts):
		return Event{}, standins.Invalid("ends", "the end should be a time after the start")
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, e := range k.events {
		if e.Ends.After(starts) && e.Starts.Before(ends) {
			return Event{}, &standins.No{Status: 409, Field: "starts", Message: "that time is taken by " + e.Title}
		}
	}
	e := Event{fmt.Sprintf("ev_%04x", 4096+len(k.events)*37), title, starts, ends}
	k.events = append(k.events, e)
	return e, nil
}

// offer is the page on which people book a time.
func (k *Calendar) offer(c *gin.Context) {
	title, from, to := c.Query("title"), c.Query("starts"), c.Query("ends")
	said := template.HTML(fmt.Sprintf(`<form method="post"><p>%s, %s</p><button>Book it</button></form>`, template.HTMLEscapeString(title), template.HTMLEscapeString(from)))
	if c.Request.Method == http.MethodPost {
		e, err := k.put(title, from, to)
		said = template.HTML("<p>Booked: " + template.HTMLEscapeString(e.Title) + "</p>")
		if err != nil {
			said = template.HTML("<p>" + template.HTMLEscapeString(err.Error()) + "</p>")
		}
	}
	c.Data(http.StatusOK, "text/html; charset=utf-8", []byte("<!doctype html><title>Book</title><h1>Time in the hall</h1>"+said))
}

func (k *Calendar) cancel(c *standins.Call) (any, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i, e := range k.events {
		if e.ID == c.Param("id") {
			k.events = append(k.events[:i], k.events[i+1:]...)
			return k.view(e), nil
		}
	}
	return nil, standins.Missing("event", c.Param("id"))
}

// feed writes the events as iCalendar (RFC 5545).
func (k *Calendar) feed() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	var b strings.Builder
	b.WriteString("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Ottermere//Kiln hall//EN\r\n")
	for _, e := range k.sorted() {
		fmt.Fprintf(&b, "BEGIN:VEVENT\r\nUID:%s@ottermere.example\r\nDTSTART:%s\r\nDTEND:%s\r\nSUMMARY:%s\r\nEND:VEVENT\r\n", e.ID, e.Starts.UTC().Format("20060102T150405Z"), e.Ends.UTC().Format("20060102T150405Z"), strings.ReplaceAll(e.Title, ",", "\\,"))
	}
	return b.String() + "END:VCALENDAR\r\n"
}

func (k *Calendar) page() template.HTML {
	k.mu.Lock()
	defer k.mu.Unlock()
	rows := [][]string{}
	for _, e := range k.sorted() {
		rows = append(rows, []string{e.Starts.In(k.zone).Format("Mon 2 Jan 15:04"), e.Ends.In(k.zone).Format("15:04"), e.Title})
	}
	return "<h2>Events</h2>" + standins.Table([]string{"from", "to", "title"}, rows) + `<p class="note">As a feed: <a href="/feed.ics">/feed.ics</a></p>`
}
