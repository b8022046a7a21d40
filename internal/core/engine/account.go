package engine

import "sync/atomic"

// ByteAccount bounds the bytes that all runs of a node hold in chunks, queues and
// lists. It is safe for concurrent use; a nil one has no bound.
type ByteAccount struct {
	Limit int64 // bytes

	used atomic.Int64
}

// take reserves bytes, and tells whether there was room for them.
func (a *ByteAccount) take(n int) bool {
	if a == nil {
		return true
	}
	if a.used.Add(int64(n)) > a.Limit {
		a.used.Add(-int64(n))
		return false
	}
	return true
}

// force counts bytes that are needed whether there is room for them or not.
func (a *ByteAccount) force(n int) {
	if a != nil {
		a.used.Add(int64(n))
	}
}

// free gives bytes back.
func (a *ByteAccount) free(n int) {
	if a != nil {
		a.used.Add(-int64(n))
	}
}

// tight tells whether most of it is in use.
func (a *ByteAccount) tight() bool { return a != nil && a.used.Load() > a.Limit/10*9 }

// Used is how many bytes are held at the moment.
func (a *ByteAccount) Used() int64 { return a.used.Load() }
