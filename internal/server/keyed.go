package server

import (
	"sync"

	"golang.org/x/time/rate"
)

// keyed is a rate for each of many keys. It forgets all when it holds too many.
type keyed struct {
	mu    sync.Mutex
	every rate.Limit
	burst int
	kept  map[string]*rate.Limiter
}

func newKeyed(every rate.Limit, burst int) *keyed {
	return &keyed{every: every, burst: burst, kept: map[string]*rate.Limiter{}}
}

func (k *keyed) allow(key string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	l, ok := k.kept[key]
	if !ok {
		if len(k.kept) > 10_000 {
			clear(k.kept)
		}
		l = rate.NewLimiter(k.every, k.burst)
		k.kept[key] = l
	}
	return l.Allow()
}
