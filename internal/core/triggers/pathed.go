package triggers

import (
	"errors"
	"regexp"

	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/proof"
)

// pathed are the settings of kinds with an address.
type pathed struct {
	Path string `form:"path" title:"Path of its address" part:"Its address" pattern:"^[a-z0-9]+(-[a-z0-9]+)*$" min:"3" max:"60" example:"hall-hours" help:"In place of random letters, once it is live: small letters, digits and - between them. It is of one workflow alone. The random address goes on to work."`
}

var path = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// IsPath tells whether a text can be the path of an address.
func IsPath(s string) bool { return len(s) >= 3 && len(s) <= 60 && path.MatchString(s) }

// proven holds of calls to a path that they are proven: a path can be guessed.
func (p *pathed) proven(rule proof.Rule) error {
	if p.Path != "" && rule.Open() {
		return &form.Error{Field: "path", Err: errors.New("a path can be guessed, and verify: none lets whoever calls it in; let callers prove themselves, or leave the path out")}
	}
	return nil
}
