package engine

import (
	"maps"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

// Edit is what a person put in place of an item's fields as it comes to a step:
// all of them, or some, and those that are taken away.
type Edit struct {
	Fields map[string]any // nil: the others stay
	Set    map[string]any
	Unset  []string
	By     string
	At     time.Time
}

// apply gives the fields of an item with the edit.
func (e *Edit) apply(was map[string]any, secrets *call.Secrets) map[string]any {
	if e.Fields != nil {
		fields, _ := restored(e.Fields, was, secrets).(map[string]any)
		return fields
	}
	out := make(map[string]any, len(was)+len(e.Set))
	maps.Copy(out, was)
	for k, v := range e.Set {
		out[k] = restored(v, was[k], secrets)
	}
	for _, k := range e.Unset {
		delete(out, k)
	}
	return out
}

// Entry is the edit as the journal keeps it. The key names the pass in which the
// item is tried again, the step at which it enters, its rounds and its address.
func (e Edit) Entry(k Key) (*Entry, error) {
	k.Part = PartEdit
	result, err := item.Encode(e.object())
	return &Entry{Key: k, Outcome: Closed, Started: e.At, Ended: e.At, Result: result}, err
}

func (e Edit) object() map[string]any {
	out := map[string]any{"by": e.By}
	if e.Fields != nil {
		out["fields"] = e.Fields
		return out
	}
	unset := make([]any, len(e.Unset))
	for i, k := range e.Unset {
		unset[i] = k
	}
	out["set"], out["unset"] = e.Set, unset
	return out
}

// ReadEdit reads it back.
func ReadEdit(e *Entry) (*Edit, error) {
	v, err := item.DecodeObject(e.Result)
	if err != nil {
		return nil, err
	}
	out := &Edit{At: e.Ended}
	out.Fields, _ = v["fields"].(map[string]any)
	out.Set, _ = v["set"].(map[string]any)
	out.By, _ = v["by"].(string)
	list, _ := v["unset"].([]any)
	for _, k := range list {
		name, _ := k.(string)
		out.Unset = append(out.Unset, name)
	}
	return out, nil
}

// restored puts secrets back into fields that a person has changed: where a text
// still is what was shown of it, with its secrets masked, it is what it was.
func restored(edited, was any, secrets *call.Secrets) any {
	if secrets == nil {
		return edited
	}
	switch e := edited.(type) {
	case string:
		if w, ok := was.(string); ok && e == secrets.Mask(w) {
			return w
		}
	case []any:
		w, _ := was.([]any)
		out := make([]any, len(e))
		for i := range e {
			var before any
			if i < len(w) {
				before = w[i]
			}
			out[i] = restored(e[i], before, secrets)
		}
		return out
	case map[string]any:
		w, _ := was.(map[string]any)
		out := make(map[string]any, len(e))
		for k := range e {
			out[k] = restored(e[k], w[k], secrets)
		}
		return out
	}
	return edited
}

// Confirmed is the end of an effect of which a person says that it was done, as
// the journal keeps it: the item goes on with nothing given.
func Confirmed(k Key, by string, at time.Time) *Entry {
	k.Part = 0
	return &Entry{Key: k, Outcome: Done, Started: at, Ended: at, Failure: &call.Failure{Message: "was done, says " + by}}
}
