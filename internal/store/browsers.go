package store

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// OpenBrowser opens a browser's session in the first workspace of a person, and
// ends the session that the browser had, if any. ErrSignIn: the person belongs to
// no workspace.
func (s *Store) OpenBrowser(ctx context.Context, person uuid.UUID, had string) (cookie string, sc Scope, err error) {
	cookie = secret(secretPrefix)
	sc = Scope{person: person}
	err = s.people.QueryRow(ctx, `WITH m AS (SELECT m.workspace_id, m.person_id, m.role, p.name FROM member m JOIN person p ON p.id = m.person_id
			WHERE m.person_id = $1 ORDER BY m.workspace_id LIMIT 1),
		d AS (DELETE FROM browser_session WHERE hash = $3),
		i AS (INSERT INTO browser_session (hash, person_id, workspace_id) SELECT $2, person_id, workspace_id FROM m)
		SELECT workspace_id, role, name FROM m`, person, hashOf(cookie), hashOf(had)).Scan(&sc.workspace, &sc.role, &sc.name)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", Scope{}, ErrSignIn
	}
	return cookie, sc, unavailable(err)
}

// Devices that people signed in from are known for so long after their last
// sign-in, and so many of each person.
const (
	DeviceKnown  = 180 * 24 * time.Hour
	mostDevices  = 20
	devicePrefix = "ytd_"
)

// KnowsDevice tells whether an account was signed in to from a device.
func (s *Store) KnowsDevice(ctx context.Context, email, device string) (known bool, err error) {
	err = s.people.QueryRow(ctx, `WITH u AS (UPDATE known_device d SET seen = now() FROM person p
			WHERE d.hash = $1 AND p.id = d.person_id AND lower(p.email) = lower($2) AND d.seen > now() - $3::interval RETURNING d.hash)
		SELECT EXISTS (SELECT FROM u)`, hashOf(device), strings.TrimSpace(email), DeviceKnown.String()).Scan(&known)
	return known, unavailable(err)
}

// AddDevice makes a person's device known, and gives what it is known by.
func (s *Store) AddDevice(ctx context.Context, person uuid.UUID) (string, error) {
	device := secret(devicePrefix)
	_, err := s.people.Exec(ctx, "INSERT INTO known_device (hash, person_id) VALUES ($1, $2)", hashOf(device), person)
	if err == nil {
		_, err = s.people.Exec(ctx, "DELETE FROM known_device WHERE hash IN (SELECT hash FROM known_device WHERE person_id = $1 ORDER BY seen DESC OFFSET $2)", person, mostDevices)
	}
	return device, unavailable(err)
}

// ScopeOfSession finds what a browser's cookie may see.
func (s *Store) ScopeOfSession(ctx context.Context, cookie string) (Scope, error) {
	sc, seen, err := s.sessionScope(ctx, hashOf(cookie))
	if err == nil && time.Since(seen) > seenEvery {
		_, err = s.people.Exec(ctx, "UPDATE browser_session SET seen = now() WHERE hash = $1", sc.proof)
	}
	if err != nil {
		return Scope{}, unavailable(err)
	}
	return sc, nil
}

// seenEvery is how exactly it is noted when a session or a token was used last.
const seenEvery = time.Minute

func (s *Store) sessionScope(ctx context.Context, proof []byte) (sc Scope, seen time.Time, err error) {
	sc = Scope{proof: proof}
	err = s.people.QueryRow(ctx, `SELECT b.workspace_id, b.person_id, m.role, m.items, p.name, b.seen FROM browser_session b
		JOIN member m ON m.workspace_id = b.workspace_id AND m.person_id = b.person_id JOIN person p ON p.id = b.person_id
		WHERE b.hash = $1 AND b.seen > now() - $2::interval AND b.created > now() - $3::interval`, proof, SessionIdle.String(), SessionMost.String()).
		Scan(&sc.workspace, &sc.person, &sc.role, &sc.items, &sc.name, &seen)
	if err != nil {
		return Scope{}, seen, translate(err)
	}
	return sc, seen, nil
}

// SignOut ends a browser session.
func (s *Store) SignOut(ctx context.Context, cookie string) error {
	_, err := s.people.Exec(ctx, "DELETE FROM browser_session WHERE hash = $1", hashOf(cookie))
	return unavailable(err)
}
