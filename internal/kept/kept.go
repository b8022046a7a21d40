// Package kept remembers for a moment what was read elsewhere.
package kept

import (
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2/simplelru"
)

// Values keeps each value for a while after it was read, and not more than so many.
// It may be used by several goroutines.
type Values[K comparable, V any] struct {
	// Over tells when a value is over by itself, or the zero time for never. It is
	// optional, and set before the first use.
	Over func(V) time.Time

	while time.Duration

	mu     sync.Mutex // protects the following fields
	list   *lru.LRU[K, value[V]]
	forgot uint64 // how often something was to be forgotten
}

type value[V any] struct {
	v     V
	until time.Time
}

// New makes one that holds nothing. It keeps at least one value.
func New[K comparable, V any](while time.Duration, most int) *Values[K, V] {
	list, err := lru.NewLRU[K, value[V]](max(most, 1), nil)
	if err != nil {
		panic(err) // only for a size below one
	}
	return &Values[K, V]{while: while, list: list}
}

// Get gives the value that is kept, or reads it. A value that was being read while
// something was forgotten may be older than the change, and is not kept.
func (k *Values[K, V]) Get(key K, read func() (V, error)) (V, error) {
	k.mu.Lock()
	kept, ok := k.list.Get(key)
	before := k.forgot
	k.mu.Unlock()
	if ok && time.Now().Before(kept.until) {
		return kept.v, nil
	}
	v, err := read()
	if err != nil {
		return v, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.forgot == before {
		until := time.Now().Add(k.while)
		if k.Over != nil {
			if over := k.Over(v); !over.IsZero() && over.Before(until) {
				until = over
			}
		}
		k.list.Add(key, value[V]{v, until})
	}
	return v, nil
}

// Forget lets a value be read anew. It is called after what is read has changed: a
// value read between the two would be the old one.
func (k *Values[K, V]) Forget(key K) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.forgot++
	k.list.Remove(key)
}
