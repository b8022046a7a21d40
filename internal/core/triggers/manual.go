package triggers

import (
	"time"

	"youngtrellis/internal/core/expr"
)

// Manual is the type of what somebody starts. Whatever starts a workflow,
// somebody may start it by hand as well.
const Manual = "manual"

type manual struct {
	Fields Asked `form:"fields" title:"Asks for" help:"The fields that whoever starts it fills in."`
	several
	Key *expr.Program `form:"key" title:"Once for each" part:"Several items at once" example:"item.order" help:"An expression over the item. An item whose key was there before is left out."`
	For time.Duration `form:"for" title:"Remembered for" part:"Several items at once" default:"7d" help:"How long a key is remembered, as 7d."`
}

var manualKind = New(Info{
	Type: Manual, Title: "Somebody starts it", Alone: true, Began: "by hand",
	Help: "Started in the console, by command or over the API, with or without items. It can ask for fields.",
}, func(m *manual) string {
	out := "When somebody starts it"
	if len(m.Fields.Properties) > 0 {
		out += " with " + m.Fields.words()
	}
	return out + m.words(m.Key)
}, func(m *manual) (Start, error) {
	runs, err := m.runs()
	return Start{Key: m.Key, KeyLasts: m.For, Runs: runs, KeyedByHand: m.Key != nil, Asks: m.Fields, Lists: m.Fields.Lists()}, err
})
