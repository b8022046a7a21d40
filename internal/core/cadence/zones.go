package cadence

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strings"
	"time"
	_ "time/tzdata" // zones are known on machines that ship none
	"unicode"
)

// areas are where the zones of the database lie, those first that are asked for most.
var areas = []string{"Europe", "America", "Asia", "Africa", "Australia", "Pacific", "Atlantic", "Indian", "America/Argentina", "America/Indiana", "Antarctica"}

// Zone finds a zone by its name, as Europe/Lisbon, or by its last part, as Lisbon.
// Nothing is UTC.
func Zone(name string) (*time.Location, string, error) {
	name = strings.TrimSpace(name)
	if name == "" || strings.EqualFold(name, "utc") {
		return time.UTC, "UTC", nil
	}
	tried := strings.ReplaceAll(name, " ", "_")
	if !strings.EqualFold(tried, "local") {
		for _, spelled := range []string{tried, titled(tried)} {
			if zone, err := time.LoadLocation(spelled); err == nil {
				return zone, spelled, nil
			}
		}
		if !strings.Contains(tried, "/") {
			for _, area := range areas {
				full := area + "/" + titled(tried)
				if zone, err := time.LoadLocation(full); err == nil {
					return zone, full, nil
				}
			}
		}
	}
	return nil, "", fmt.Errorf("%q is not a zone; write one as Europe/Lisbon, or UTC", name)
}

// titled writes a zone's name as the database does: europe/lisbon is Europe/Lisbon,
// africa/dar_es_salaam is Africa/Dar_es_Salaam.
func titled(name string) string {
	out := []rune(strings.ToLower(name))
	for i, r := range out {
		if i == 0 || strings.ContainsRune("/_-", out[i-1]) {
			out[i] = unicode.ToUpper(r)
		}
	}
	return small.Replace(string(out))
}

var small = strings.NewReplacer("_Of_", "_of_", "_Es_", "_es_", "-Au-", "-au-")

// Rules tells the rules of a zone over a span from those of another edition of the
// database: it changes where an offset, or the moment of its change, does.
func Rules(zone *time.Location, from, to time.Time) string {
	h := sha256.New()
	for t, last := from, -1; t.Before(to); t = until(t.In(zone)) {
		if _, offset := t.In(zone).Zone(); offset != last {
			last = offset
			_, _ = fmt.Fprintf(h, "%d %d ", t.Unix(), offset)
		}
	}
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil)[:12])
}

// farAway is after all times that anybody asks about.
var farAway = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// until is up to when the offset of a time holds at least. The library knows the rules
// of years to come by the year, and says of the last day of a leap year that it is
// over before it has begun.
func until(local time.Time) time.Time {
	_, end := local.ZoneBounds()
	switch {
	case end.IsZero():
		return farAway
	case !end.After(local):
		return local.Add(time.Hour)
	}
	return end
}

// Clocks says what the next change of the zone's clocks does to the cadence; "" where
// none comes within a year.
func (c *Cadence) Clocks(now time.Time) string {
	local := now.In(c.zone)
	_, before := local.Zone()
	for t := until(local); t.Before(now.AddDate(1, 0, 1)); t = until(t.In(c.zone)) {
		_, after := t.In(c.zone).Zone()
		if after == before {
			continue
		}
		way := "forward"
		if after < before {
			way = "back"
		}
		said := fmt.Sprintf("%s: the clocks go %s on %s", c.named, way, t.In(c.zone).Format("Monday 2 January 2006"))
		switch {
		case c.Counts():
			return said + "; it counts the time that passes, so it comes at other times of the day from then on."
		case c.unit == byCron && c.cron.passed:
			return said + "; it is due at each minute that the line names, also when an hour comes twice."
		case len(c.at) == 1:
			return fmt.Sprintf("%s; %s stays %s.", said, c.at[0], c.at[0])
		}
		return said + "; the times of the day stay as they are."
	}
	return ""
}
