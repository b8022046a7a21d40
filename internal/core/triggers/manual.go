package triggers

// Manual is the type of what somebody starts. Whatever starts a workflow,
// somebody may start it by hand as well.
const Manual = "manual"

type manual struct {
	Fields Asked `form:"fields" title:"Asks for" help:"The fields that whoever starts it fills in."`
}

var manualKind = New(Info{
	Type: Manual, Title: "Somebody starts it", Alone: true, Began: "by hand",
	Help: "Started in the console, by command or over the API, with or without items. It can ask for fields.",
}, func(m *manual) string {
	if len(m.Fields.Properties) == 0 {
		return "When somebody starts it"
	}
	return "When somebody starts it with " + m.Fields.words()
}, func(m *manual) (Start, error) { return Start{Asks: m.Fields, Lists: m.Fields.Lists()}, nil })
