package triggers

// Manual is the type of what somebody starts. Whatever starts a workflow,
// somebody may start it by hand as well.
const Manual = "manual"

var manualKind = New(Info{
	Type: Manual, Title: "Somebody starts it", Alone: true,
	Help: "Started in the console, by command or over the API, with or without items.",
}, func(*struct{}) string { return "When somebody starts it" }, func(*struct{}) Start { return Start{} })
