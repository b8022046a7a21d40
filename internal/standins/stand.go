package standins

import (
	"slices"
	"time"
)

// Setup is what a stand-in is made of.
type Setup struct {
	Key   func(name string) string // a key of its own, the same at every start
	Saved func(name string) Saved  // where it keeps its state
	Day   time.Time                // from which its dates count
}

// Stand is a stand-in and what one needs to connect to it.
type Stand struct {
	*Service
	Connector string            // name of its connector
	Account   map[string]string // besides the address
	Method    string            // of signing in; empty for the connector's first
	Values    map[string]string // what a person enters
	OnBase    func(base string) // told the address at which it is served
	Save      func() error
	Close     func()
	NoAddress bool // the account has no address of its own
}

// Describe puts on the page what a person needs to connect.
func (s *Stand) Describe(base string) {
	how := []How{{"Application", s.Connector, "in the list of applications"}}
	if !s.NoAddress {
		how = append(how, How{"Address", base, ""})
	}
	for _, k := range sorted(s.Account) {
		how = append(how, How{k, s.Account[k], ""})
	}
	if s.Method != "" {
		how = append(how, How{"Way to sign in", s.Method, ""})
	}
	titles := map[string]string{"secret": "Key, token or password", "user": "User name", "client_id": "Client id of the registered application", "key_id": "Key id"}
	for _, k := range sorted(s.Values) {
		title := titles[k]
		if k == "secret" && s.Values["client_id"] != "" {
			title = "Client secret"
		}
		if title == "" {
			title = k
		}
		how = append(how, How{title, s.Values[k], ""})
	}
	if s.Values["client_id"] != "" {
		how = append(how, How{"Redirect address", "any on this machine", "as registered with the application"})
	}
	if len(s.Values) == 0 {
		how = append(how, How{"Signing in", "not needed", ""})
	}
	s.Tell(how...)
	if s.OnBase != nil {
		s.OnBase(base)
	}
}

func sorted(m map[string]string) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
