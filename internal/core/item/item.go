// Package item holds the records that pass through a workflow.
//
// An Item has fields (a JSON object), an address that names it within its run,
// and its lineage: a chain of pointers to the item it came from. Items are
// never changed once made; a step that changes one makes a new one.
package item

import (
	"time"
)

// Item is one record on its way. The zero Item is not useful; see New and
// Item.Derive.
type Item struct {
	Fields  map[string]any // JSON values as Decode makes them
	Address Address        // its name within the run
	Step    int            // index of the step that made it; -1 for the trigger
	Parent  *Item          // the item it came from; nil for a trigger item
	At      time.Time      // latest end of an effect on its lineage; what now() gives
}

// New makes the n-th trigger item of a run that started at the given time.
func New(n uint32, fields map[string]any, at time.Time) *Item {
	if fields == nil {
		fields = map[string]any{}
	}
	return &Item{Fields: fields, Address: Root(n), Step: -1, At: at}
}

// Derive makes the item that step gives for it, under the same address.
// A zero at keeps the time of the lineage.
func (it *Item) Derive(step int, fields map[string]any, at time.Time) *Item {
	if at.Before(it.At) {
		at = it.At
	}
	return &Item{Fields: fields, Address: it.Address, Step: step, Parent: it, At: at}
}

// Child makes the n-th of several items that step gives for it.
// Number is the step's lasting number within its workflow.
func (it *Item) Child(step int, number uint16, n uint32, fields map[string]any, at time.Time) *Item {
	c := it.Derive(step, fields, at)
	c.Address = it.Address.Child(number, n)
	return c
}

// AsOf walks up the lineage to the item as it was after the step with this
// index: the newest ancestor that was made there or before.
func (it *Item) AsOf(step int) *Item {
	for it.Step > step {
		it = it.Parent
	}
	return it
}

// Trigger walks up the lineage to the trigger item.
func (it *Item) Trigger() *Item { return it.AsOf(-1) }
