package engine

import "time"

// Waits puts an item that waits where the run's next wake is found.
type Waits struct {
	Key
	Due time.Time
}

// JournalWrite implements Write.
func (Waits) JournalWrite() {}

// Wakes takes an item that went on from there.
type Wakes struct{ Key }

// JournalWrite implements Write.
func (Wakes) JournalWrite() {}
