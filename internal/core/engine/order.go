package engine

import (
	"encoding/binary"
	"time"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// order says where an item stands among the others of its list: by its address,
// until a step changes that. What such a step gave stands at some place of its
// own, and what comes of it later stands there too, by the rest of its address.
type order struct {
	place string // "" is by the whole address
	cut   int    // how much of the address it stands for
}

// key sorts as the items of a list follow one another.
func (f *flow) key() string { return f.order.place + string(f.it.Address[f.order.cut:]) }

// Marks of places: behind an item, and at the end of a list.
const (
	behind = "\x40"
	atEnd  = "\xfe"
)

// stands puts a flow at the n-th place of those that a step gave.
func (f *flow) stands(place string, n uint64) {
	f.order = order{string(binary.BigEndian.AppendUint64([]byte(place), n)), len(f.it.Address)}
}

// behindOf is the place behind an item.
func behindOf(last *flow) string { return last.key() + behind }

// ending is the place of what a step gives when its list has ended.
func ending(step *workflow.CompiledStep) string {
	return string(binary.BigEndian.AppendUint16([]byte(atEnd), uint16(step.Column)))
}

// endedWithin tells whether an item that was left comes from the end of a list
// within a step, as it stands there.
func (f *flow) endedWithin(step *workflow.CompiledStep, plan *workflow.Plan) bool {
	place := f.order.place
	if places := placesOf(f); len(places) > step.Depth { // its round is what stands there
		place = places[step.Depth]
	}
	if len(place) < len(atEnd)+2 || place[:len(atEnd)] != atEnd {
		return false
	}
	column := int(binary.BigEndian.Uint16([]byte(place[len(atEnd):])))
	return column < len(plan.Steps) && plan.Steps[column].Within(step)
}

// timely is the place of what a step gives as it is done.
func (f *flow) timely(step *workflow.CompiledStep, at time.Time) {
	f.last(step, uint64(at.UnixMicro()))
}

// last is the place of what a step gives when its list has ended: the n-th of
// them, and those of one number as they came.
func (f *flow) last(step *workflow.CompiledStep, n uint64) {
	key := f.key()
	f.stands(ending(step), n)
	f.order.place += key
}

// inRound is a round of a loop.
type inRound struct {
	loop uint16
	item.Round
}
