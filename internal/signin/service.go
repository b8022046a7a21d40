package signin

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/store"
)

// Store keeps people, their sessions and their devices.
type Store interface {
	// CheckPassword gives whose password it is; store.ErrSignIn: nobody's.
	CheckPassword(ctx context.Context, email, password string) (uuid.UUID, error)
	// OpenBrowser opens a session, and ends the one that the browser had.
	OpenBrowser(ctx context.Context, person uuid.UUID, had string) (cookie string, sc store.Scope, err error)
	// KnowsDevice tells whether the account was signed in to from the device.
	KnowsDevice(ctx context.Context, email, device string) (bool, error)
	// AddDevice makes a person's device known, and gives what it is known by.
	AddDevice(ctx context.Context, person uuid.UUID) (device string, err error)
}

// Service signs people in.
type Service struct {
	Store Store
	Guard *Guard
}

// Asked is a sign-in as it comes.
type Asked struct {
	Email, Password string
	Address         string // the caller's IP address
	Device          string // what its device says it is known by; may be empty
	Session         string // that the browser has; may be empty
}

// Opened is a browser's session.
type Opened struct {
	Cookie string
	Scope  store.Scope
	Device string // what the device is known by from now on; empty where it was known
}

// Later says that no password is looked at for now, of nobody's account: it tells
// nothing about whether there is such an account.
type Later struct{ Wait time.Duration }

func (l *Later) Error() string {
	return fmt.Sprintf("too many wrong passwords for this account or from this address; wait %s", l.Wait.Round(time.Second))
}

// In signs in. store.ErrSignIn: not with this password; *Later: not now.
func (s *Service) In(ctx context.Context, a Asked) (*Opened, error) {
	attempt := Attempt{Account: a.Email, Address: a.Address}
	if a.Device != "" {
		known, err := s.Store.KnowsDevice(ctx, a.Email, a.Device)
		if err != nil {
			return nil, err
		}
		if known {
			attempt.Device = a.Device
		}
	}
	if wait := s.Guard.Begin(attempt); wait > 0 {
		return nil, &Later{wait}
	}
	person, err := s.Store.CheckPassword(ctx, a.Email, a.Password)
	if err != nil {
		return nil, err
	}
	s.Guard.Succeeded(attempt)
	out := &Opened{}
	if out.Cookie, out.Scope, err = s.Store.OpenBrowser(ctx, person, a.Session); err != nil {
		return nil, err
	}
	if attempt.Device == "" {
		out.Device, err = s.Store.AddDevice(ctx, person)
	}
	return out, err
}
