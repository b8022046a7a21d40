package server

import (
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

// keyedMost is how many keys a rate is kept for; those that were not heard of for
// the longest are forgotten first, so that a flood of new ones frees nobody who is
// held back.
const keyedMost = 10_000

// keyed is a rate for each of many keys.
type keyed struct {
	mu    sync.Mutex // a key has one limiter, whoever asks first
	every rate.Limit
	burst int
	kept  *lru.Cache[string, *rate.Limiter]
}

func newKeyed(every rate.Limit, burst int) *keyed {
	kept, _ := lru.New[string, *rate.Limiter](keyedMost) // fails for sizes below one only
	return &keyed{every: every, burst: burst, kept: kept}
}

func (k *keyed) allow(key string) bool { return k.allowN(key, 1) }

// allowN takes n at once; what is more than may ever come together counts as that.
func (k *keyed) allowN(key string, n int) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	l, ok := k.kept.Get(key)
	if !ok {
		l = rate.NewLimiter(k.every, k.burst)
		k.kept.Add(key, l)
	}
	return l.AllowN(time.Now(), min(n, k.burst))
}
