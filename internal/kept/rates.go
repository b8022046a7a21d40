package kept

import (
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

// ratesMost is how many keys a rate is kept for; those that were not heard of for
// the longest are forgotten first, so that a flood of new ones frees nobody who is
// held back.
const ratesMost = 10_000

// Rates are a rate for each of many keys.
type Rates struct {
	mu    sync.Mutex // a key has one limiter, whoever asks first
	every rate.Limit
	burst int
	kept  *lru.Cache[string, *rate.Limiter]
}

// NewRates allows each key so many a second, and burst at once.
func NewRates(every rate.Limit, burst int) *Rates {
	kept, _ := lru.New[string, *rate.Limiter](ratesMost) // fails for sizes below one only
	return &Rates{every: every, burst: burst, kept: kept}
}

// Allow takes one of what a key is allowed, if there is one.
func (k *Rates) Allow(key string) bool { return k.AllowN(key, 1) }

// AllowN takes n at once; what is more than may ever come together counts as that.
func (k *Rates) AllowN(key string, n int) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	l, ok := k.kept.Get(key)
	if !ok {
		l = rate.NewLimiter(k.every, k.burst)
		k.kept.Add(key, l)
	}
	return l.AllowN(time.Now(), min(n, k.burst))
}
