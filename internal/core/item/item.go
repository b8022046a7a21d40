// Package item holds the records that pass through a workflow.
//
// An Item has fields (a JSON object), an address that names it within its run,
// and its lineage: a chain of pointers to the item it came from, one for every
// step on its way. Items are never changed once made; a step that changes one
// makes a new one. Below a step that makes one item of many the chain ends: such
// an item has members instead of a parent.
package item

import (
	"time"
)

// Item is one record on its way. The zero Item is not useful; see New and
// Item.Derive.
type Item struct {
	Fields  map[string]any // JSON values as Decode makes them
	Address Address        // its name within the run
	Step    uint16         // lasting number of the step that it came through last; 0 for the trigger
	Rounds  Rounds         // of the loops in which that step stands
	Parent  *Item          // the item it came from; nil for a trigger item and for a group
	Members []Address      // of a group, in order
	Trigger *Item          // of a group: the trigger item of all its members, if it is one
	Failure map[string]any // of one that took the fallback of that step: why
	At      time.Time      // latest end of an effect on its lineage; what now() gives
}

// Edited is in place of a step's number where a person has put other fields in
// place of those with which an item came to a step.
const Edited = 0xffff

// New makes the n-th trigger item of a run that started at the given time.
func New(n uint32, fields map[string]any, at time.Time) *Item {
	if fields == nil {
		fields = map[string]any{}
	}
	return &Item{Fields: fields, Address: Root(n), At: at}
}

// Derive makes the item that a step gives for it, under the same address. A zero
// at keeps the time of the lineage.
func (it *Item) Derive(step uint16, rounds Rounds, fields map[string]any, at time.Time) *Item {
	if at.Before(it.At) {
		at = it.At
	}
	return &Item{Fields: fields, Address: it.Address, Step: step, Rounds: rounds, Parent: it, At: at}
}

// Child makes the n-th of several items that a step gives for it.
func (it *Item) Child(step uint16, rounds Rounds, n uint32, fields map[string]any, at time.Time) *Item {
	c := it.Derive(step, rounds, fields, at)
	c.Address = it.Address.Child(step, rounds, n)
	return c
}

// Grouped makes the n-th item that a step makes of members, whose latest effect
// ended at the given time, of the list that the pass edition opened.
func Grouped(step uint16, rounds Rounds, edition, n uint32, fields map[string]any, members []Address, at time.Time) *Item {
	return &Item{Fields: fields, Address: Group(step, rounds, edition, n), Step: step, Rounds: rounds, Members: members, At: at}
}

// Through walks up the lineage to the item as it was after the numbered step,
// the latest time that it came through it; nil if the step is not on its way.
func (it *Item) Through(step uint16) *Item {
	for ; it != nil; it = it.Parent {
		if it.Step == step {
			return it
		}
	}
	return nil
}

// First walks up the lineage to where it begins: the trigger item, or the group.
func (it *Item) First() *Item {
	for it.Parent != nil {
		it = it.Parent
	}
	return it
}

// Group tells whether the lineage begins with one item of many.
func (it *Item) Group() bool { return it.First().Step != 0 }
