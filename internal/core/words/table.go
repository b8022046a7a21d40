package words

//go:generate go run ./generate ../../../web/src/words/table.ts

// Fate is what became of an item at a step.
type Fate struct {
	Name  string // its stable word in the API, in filters and on disk
	Words string
	Mark  string // in the terminal; no two alike
	Tone  string // leaf, amber, rust, or plain
}

// Fates are all of them, in the order in which they are explained.
var Fates = []Fate{
	{"passed", "passed", "●", "leaf"},
	{"read", "read outside", "○", "leaf"},
	{"written", "written outside", "■", "leaf"},
	{"prepared", "prepared, not sent", "□", "leaf"},
	{"joined", "joined a group", "╯", "leaf"},
	{"held_back", "held back", "┃", "plain"},
	{"gave_nothing", "gave nothing", "▯", "plain"},
	{"set_aside", "set aside", "▲", "rust"},
	{"stopped", "stopped the run", "✕", "rust"},
	{"may_have_been_sent", "may have been sent", "?", "amber"},
	{"went_on", "went on with nothing", "◐", "amber"},
	{"fell_back", "took the fallback", "↳", "amber"},
	{"ended_run", "ended the run", "┻", "plain"},
	{"waiting", "waiting", "◌", "amber"},
	{"off", "switched off", " ", "plain"},
	{"not_reached", "not reached", " ", "plain"},
}

// FateOf finds a fate by its name; an unknown one is worded by itself.
func FateOf(name string) Fate {
	for _, f := range Fates {
		if f.Name == name {
			return f
		}
	}
	return Fate{Name: name, Words: name, Mark: " ", Tone: "plain"}
}

// State is how a run does.
type State struct{ Name, Words, Tone string }

// States are all of them.
var States = []State{
	{"queued", "Queued", "plain"},
	{"running", "Running", "plain"},
	{"waiting", "Waiting", "amber"},
	{"succeeded", "Succeeded", "leaf"},
	{"partial", "Partial", "amber"},
	{"failed", "Failed", "rust"},
	{"cancelled", "Cancelled", "plain"},
}

// Reason is why a run waits. In Words, {connection} and {wake} stand for what is
// known of them; Short is for lists.
type Reason struct{ Name, Words, Short string }

// Reasons are all of them.
var Reasons = []Reason{
	{"connection_broken", "Waiting for {connection} to be mended", "waiting for {connection}"},
	{"job_running", "Waiting for a job of the other side", "waiting for a job of the other side"},
	{"fault_of_ours", "Waiting: something here does not work", "waiting: something here does not work"},
	{"told_to_wait", "Waiting until {wake}: the other side asked for it", "waiting until {wake}"},
	{"unread", "Some of it has not been read yet", "to be read"},
	{"items_wait", "Waiting until {wake}, as a step says", "waiting until {wake}"},
	{"lane", "In line: a run of the same lane comes first", "in line, its lane is taken"},
	{"place", "In line: as many runs of this workflow are on their way as may be at once", "in line for a place"},
}

// ReasonOf finds a reason by its name.
func ReasonOf(name string) (Reason, bool) {
	for _, r := range Reasons {
		if r.Name == name {
			return r, true
		}
	}
	return Reason{}, false
}

// Consent is why a consent page was come back from without a sign-in. Only its
// name stands in an address: what stands there anybody may have written.
type Consent struct{ Name, Words string }

// Consents are all of them.
var Consents = []Consent{
	{"session", "You are not signed in here any more. Sign in, and begin again from the connection."},
	{"role", "You are not an administrator here any more. Ask one to sign the connection in."},
	{"state", "This sign-in was not begun here, was used already, or is older than ten minutes. Begin it again from the connection."},
	{"denied", "Consent was refused on the other side's page. What the connection had is as it was."},
	{"answered", "The other side's page did not give consent. Begin again from the connection, or look at the scopes it asks for."},
	{"no_code", "The other side's page sent no code. Begin again from the connection."},
	{"issuer", "The answer came from another server than the one that this connection signs in at. Nothing was accepted."},
	{"refused", "The authorization server did not accept the sign-in. Sign in again; if it happens again, look at the client id and the client secret."},
	{"away", "The authorization server cannot be reached at the moment. Begin again in a while."},
	{"other", "The sign-in did not succeed. The service's log says more."},
}
