package outbound

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"sync"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
)

// Account is a stored account, opened, for the length of a call. The zero
// account signs nothing in and is pinned nowhere.
type Account struct {
	Workspace   uuid.UUID
	Name        string
	Title       string // of the connector
	Pin         string // scheme://host:port to which the credentials may go
	SignIn      *connector.SignIn
	Credentials *connector.Credentials
	Around      *call.Secrets // those of others, which must not be seen either

	gather  sync.Once
	secrets *call.Secrets
}

// Secrets are the values that must not be seen of this account, and around it.
func (a *Account) Secrets() *call.Secrets {
	a.gather.Do(func() {
		if a.SignIn != nil {
			a.secrets = call.NewSecrets(a.Credentials.All(a.SignIn)...)
		}
		a.secrets = a.secrets.Within(a.Around)
	})
	return a.secrets
}

// Hide masks the account's secrets in a text.
func (a *Account) Hide(text string) string { return a.Secrets().Mask(text) }

func (a *Account) title() string {
	if a.Title == "" {
		return "The other side"
	}
	return a.Title
}

// ours marks an error that arose on our side: the database, the files.
type ours struct{ error }

func (o ours) Unwrap() error { return o.error }

// failure words why a call did not succeed; written tells whether something of
// it was on its way. Faults of ours, and what our own stopping did, are given
// back as they are.
func (a *Account) failure(ctx context.Context, err error, written bool) error {
	if ctx.Err() != nil && !errors.Is(context.Cause(ctx), context.DeadlineExceeded) {
		return context.Cause(ctx)
	}
	var own ours
	if errors.As(err, &own) {
		return own.error
	}
	f := &call.Failure{Class: call.NotSent}
	if written {
		f.Class = call.InDoubt
	}
	var op *net.OpError
	var network net.Error
	var dns *net.DNSError
	var sentOn *redirected
	var ue *url.Error
	switch {
	case errors.As(err, &sentOn):
		f.Class, f.Message = call.Refused, a.title()+" could not be called: "+sentOn.why
	case errors.Is(err, ErrForbidden):
		why := ErrForbidden
		var name *noPublic
		if f.Class = call.BadInput; errors.As(err, &name) {
			why, f.Class = name, call.NotSent // a name may be known in a while
		}
		f.Message = fmt.Sprintf("%s cannot be called: %v", a.title(), why)
		f.Guarded = !errors.Is(err, errOwnServer)
	case errors.Is(err, item.ErrFileGone):
		f.Class, f.Message = call.BadInput, fmt.Sprintf("a file of the call cannot be sent: %v", item.ErrFileGone)
	case errors.Is(err, context.DeadlineExceeded) || ctx.Err() != nil || errors.As(err, &network) && network.Timeout() && !errors.As(err, &op):
		f.Message = fmt.Sprintf("%s did not answer in time", a.title())
	case errors.As(err, &dns):
		f.Message = fmt.Sprintf("%s cannot be reached: its name %s is not known", a.title(), dns.Name)
	case errors.As(err, &op) && op.Op == "dial":
		f.Message = fmt.Sprintf("%s cannot be reached at %s: nobody answers there", a.title(), a.Pin)
		if a.Pin == "" {
			f.Message = a.title() + " cannot be reached: nobody answers at this address"
		}
	case written:
		f.Message = fmt.Sprintf("%s cut the connection before it had answered whole", a.title())
	default:
		if errors.As(err, &ue) {
			err = ue.Err
		}
		f.Message = fmt.Sprintf("%s could not be called: %v", a.title(), err)
	}
	f.Message = a.Hide(f.Message)
	return f
}
