package engine

import (
	"net/http"
	"strconv"
	"strings"
	"time"
)

// RetryAfter reads the header of that name in both forms, seconds and HTTP
// date (RFC 9110, section 10.2.3). It is 0 where there is none.
func RetryAfter(h http.Header, now time.Time) time.Duration {
	v := strings.TrimSpace(h.Get("Retry-After"))
	if v == "" {
		return 0
	}
	if n, err := strconv.Atoi(v); err == nil && n >= 0 {
		return min(time.Duration(n)*time.Second, 30*24*time.Hour)
	}
	if t, err := http.ParseTime(v); err == nil && t.After(now) {
		return t.Sub(now)
	}
	return 0
}
