package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/semaphore"
)

// Role of a member. Each may do what the ones before it may.
type Role string

const (
	Viewer        Role = "viewer"
	Operator      Role = "operator"
	Builder       Role = "builder"
	Administrator Role = "administrator"
	Owner         Role = "owner"
)

var ranks = []Role{Viewer, Operator, Builder, Administrator, Owner}

// Covers tells whether r may do what needs the role other.
func (r Role) Covers(other Role) bool {
	return slices.Index(ranks, r) >= slices.Index(ranks, other) && slices.Contains(ranks, r) && slices.Contains(ranks, other)
}

// Scope is the workspace that a caller may see, and as whom. Only the store's
// own authentication makes one; the zero Scope sees nothing.
type Scope struct {
	workspace uuid.UUID
	person    uuid.UUID
	name      string
	role      Role
	items     bool      // what items hold may be seen
	token     uuid.UUID // of an API token; nil for a browser session
	makes     bool      // the token may make tokens
	expires   time.Time // of the token
	proof     []byte    // the hash by which the caller was found
}

// Workspace is the id of the scope's workspace.
func (s Scope) Workspace() uuid.UUID { return s.workspace }

// Role is what the caller may do at most.
func (s Scope) Role() Role { return s.role }

// SeesItems tells whether the caller may see what items hold: operators, and
// viewers to whom it was granted.
func (s Scope) SeesItems() bool { return s.items || s.role.Covers(Operator) }

// Token is the id of the API token that the caller came with; uuid.Nil for a
// browser's session.
func (s Scope) Token() uuid.UUID { return s.token }

// Person is the id of the caller.
func (s Scope) Person() uuid.UUID { return s.person }

// Who names the caller for records.
func (s Scope) Who() string { return s.name }

// Sessions of browsers end 12 hours after their last use, and after 7 days.
const (
	SessionIdle  = 12 * time.Hour
	SessionMost  = 7 * 24 * time.Hour
	TokenPrefix  = "ytk_"
	TokenLasts   = 90 * 24 * time.Hour
	secretPrefix = "yts_"
)

// secret makes 256 random bits with a prefix by which leaked ones are found.
func secret(prefix string) string {
	b := make([]byte, 32)
	_, _ = rand.Read(b)
	return prefix + base64.RawURLEncoding.EncodeToString(b)
}

func hashOf(s string) []byte {
	h := sha256.Sum256([]byte(s))
	return h[:]
}

var hashing = argon2id.Params{Memory: 19 * 1024, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// Each hash takes 19 MiB for a moment; no more at once than there are cores.
var hashes = semaphore.NewWeighted(int64(max(1, runtime.NumCPU())))

var nobody = func() string {
	h, _ := argon2id.CreateHash("nobody's password", &hashing)
	return h
}()

// CreateOwner makes a workspace with its first person. It is called by a
// command on the machine, never by an open page.
func (s *Store) CreateOwner(ctx context.Context, workspace, email, name, password string) (Scope, error) {
	if len(password) < 10 {
		return Scope{}, errors.New("a password has at least 10 characters")
	}
	hash, err := argon2id.CreateHash(password, &hashing)
	if err != nil {
		return Scope{}, err
	}
	sc := Scope{workspace: NewID(), person: NewID(), name: name, role: Owner}
	// Who has an account keeps its password; whoever gives another one would wait
	// before a door that it does not open.
	var known bool
	if err := s.people.QueryRow(ctx, "SELECT EXISTS (SELECT FROM person WHERE lower(email) = lower($1))", email).Scan(&known); err != nil {
		return Scope{}, unavailable(err)
	}
	if known {
		_, err := s.CheckPassword(ctx, email, password)
		if errors.Is(err, ErrSignIn) {
			return Scope{}, fmt.Errorf("%s has an account here already, and this is not its password; give that one", email)
		}
		if err != nil {
			return Scope{}, err
		}
	}
	err = pgx.BeginFunc(ctx, s.people, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO workspace (id, name) VALUES ($1, $2)", sc.workspace, workspace); err != nil {
			return err
		}
		err := tx.QueryRow(ctx, `INSERT INTO person (id, email, name, password) VALUES ($1, $2, $3, $4)
			ON CONFLICT (lower(email)) DO UPDATE SET name = person.name RETURNING id`, sc.person, email, name, hash).Scan(&sc.person)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "INSERT INTO member (workspace_id, person_id, role) VALUES ($1, $2, 'owner')", sc.workspace, sc.person)
		return err
	})
	return sc, translate(err)
}

// ErrSignIn is the one answer to every failed sign-in.
var ErrSignIn = errors.New("the address or the password is not right")

// CheckPassword gives whose password it is. An unknown address takes as long as a
// wrong password, and both are ErrSignIn.
func (s *Store) CheckPassword(ctx context.Context, email, password string) (uuid.UUID, error) {
	var hash string
	var person uuid.UUID
	err := s.people.QueryRow(ctx, "SELECT id, password FROM person WHERE lower(email) = lower($1)", strings.TrimSpace(email)).Scan(&person, &hash)
	if errors.Is(err, pgx.ErrNoRows) {
		hash = nobody
	} else if err != nil {
		return uuid.Nil, unavailable(err)
	}
	if err := hashes.Acquire(ctx, 1); err != nil {
		return uuid.Nil, err
	}
	match, err := argon2id.ComparePasswordAndHash(password, hash)
	hashes.Release(1)
	if err != nil || !match || person == uuid.Nil {
		return uuid.Nil, ErrSignIn
	}
	return person, nil
}

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

// Again finds what the caller of a scope may see by now, without prolonging the
// session. ErrNotFound: the token or the session has ended.
func (s *Store) Again(ctx context.Context, sc Scope) (Scope, error) {
	var err error
	if sc.token == uuid.Nil {
		sc, _, err = s.sessionScope(ctx, sc.proof)
	} else {
		sc, _, err = s.tokenScope(ctx, sc.proof)
	}
	return sc, err
}

// SignOut ends a browser session.
func (s *Store) SignOut(ctx context.Context, cookie string) error {
	_, err := s.people.Exec(ctx, "DELETE FROM browser_session WHERE hash = $1", hashOf(cookie))
	return unavailable(err)
}

// ScopeOfToken finds what an API token may see: never more than its maker.
func (s *Store) ScopeOfToken(ctx context.Context, token string) (Scope, error) {
	sc, used, err := s.tokenScope(ctx, hashOf(token))
	if err == nil && (used == nil || time.Since(*used) > seenEvery) {
		_, err = s.people.Exec(ctx, "UPDATE api_token SET used = now() WHERE hash = $1", sc.proof)
	}
	if err != nil {
		return Scope{}, unavailable(err)
	}
	return sc, nil
}

func (s *Store) tokenScope(ctx context.Context, proof []byte) (sc Scope, used *time.Time, err error) {
	sc = Scope{proof: proof}
	var own, member Role
	var granted bool
	err = s.people.QueryRow(ctx, `SELECT t.workspace_id, t.person_id, t.id, t.role, t.items, t.makes, t.expires, t.used, m.role, m.items, p.name || ', token ' || t.name FROM api_token t
		JOIN member m ON m.workspace_id = t.workspace_id AND m.person_id = t.person_id JOIN person p ON p.id = t.person_id
		WHERE t.hash = $1 AND t.expires > now()`, proof).
		Scan(&sc.workspace, &sc.person, &sc.token, &own, &sc.items, &sc.makes, &sc.expires, &used, &member, &granted, &sc.name)
	if err != nil {
		return Scope{}, nil, translate(err)
	}
	sc.role = own
	if !member.Covers(own) {
		sc.role = member
	}
	sc.items = sc.items && (granted || member.Covers(Operator))
	return sc, used, nil
}

// Token is an API token without its secret.
type Token struct {
	ID      uuid.UUID
	Name    string
	Role    Role
	Items   bool // with the role viewer: it may see what items hold
	Makes   bool // it may make tokens, which end with it
	Created time.Time
	Expires time.Time
	Used    *time.Time
	Of      string // whose it is
}

// NewToken is what is asked for of a token.
type NewToken struct {
	Name  string
	Role  Role
	Items bool
	Makes bool
}

// ErrTooStrong says that a caller cannot make such a token.
var ErrTooStrong = errors.New("a token cannot be stronger than its maker")

// CreateToken makes a token; its secret is given once. What a token has made ends
// with it, at the latest when it expires. ErrTooStrong: the caller may do less, or
// came with a token that makes none.
func (s *Store) CreateToken(ctx context.Context, sc Scope, want NewToken) (string, Token, error) {
	byToken := sc.token != uuid.Nil
	if !sc.role.Covers(want.Role) || want.Items && !sc.SeesItems() || byToken && !sc.makes {
		return "", Token{}, ErrTooStrong
	}
	text := secret(TokenPrefix)
	t := Token{ID: NewID(), Name: want.Name, Role: want.Role, Items: want.Items, Makes: want.Makes, Created: time.Now(), Expires: time.Now().Add(TokenLasts)}
	var parent *uuid.UUID
	if byToken {
		parent = &sc.token
		if sc.expires.Before(t.Expires) {
			t.Expires = sc.expires
		}
	}
	return text, t, s.within(ctx, sc, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, "SELECT name FROM person WHERE id = $1", sc.person).Scan(&t.Of); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "INSERT INTO api_token (workspace_id, id, person_id, name, hash, role, items, makes, parent_id, expires) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)",
			sc.workspace, t.ID, sc.person, want.Name, hashOf(text), want.Role, want.Items, want.Makes, parent, t.Expires)
		return err
	})
}

// ownTokens are those that a caller has to do with: an administrator with all of
// the workspace, everybody else with their own; $1, $2: whether all, whose.
const ownTokens = "($1 OR t.person_id = $2)"

// Tokens lists the caller's tokens; for an administrator all of the workspace.
func (s *Store) Tokens(ctx context.Context, sc Scope) (out []Token, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT t.id, t.name, t.role, t.items, t.makes, t.created, t.expires, t.used, p.name FROM api_token t JOIN person p ON p.id = t.person_id WHERE "+ownTokens+" ORDER BY t.id",
			sc.role.Covers(Administrator), sc.person)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Token])
		return err
	})
	return out, err
}

// DeleteToken ends a token at once, and those that it has made. A token that makes
// none ends no other one but itself: who finds it can do no more harm by it.
func (s *Store) DeleteToken(ctx context.Context, sc Scope, id uuid.UUID) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "DELETE FROM api_token t WHERE "+ownTokens+" AND t.id = $3 AND ($4::uuid IS NULL OR $5 OR $4 = t.id)",
			sc.role.Covers(Administrator), sc.person, id, given(sc.token), sc.makes)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}

// given is an id, or nothing for the zero one.
func given(id uuid.UUID) *uuid.UUID {
	if id == uuid.Nil {
		return nil
	}
	return &id
}

// WorkspaceName gives the name of the scope's workspace.
func (s *Store) WorkspaceName(ctx context.Context, sc Scope) (name string, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, "SELECT name FROM workspace WHERE id = $1", sc.workspace).Scan(&name)
	})
	return name, err
}

// Email gives the address of the scope's person.
func (s *Store) Email(ctx context.Context, sc Scope) (email string, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, "SELECT email FROM person WHERE id = $1", sc.person).Scan(&email)
	})
	return email, err
}

// HasPeople tells whether anybody can sign in yet.
func (s *Store) HasPeople(ctx context.Context) (has bool, err error) {
	err = s.people.QueryRow(ctx, "SELECT EXISTS (SELECT FROM person)").Scan(&has)
	return has, unavailable(err)
}

// ForWorkspace is the scope of the node for what a run of that workspace does.
func (s *Store) forWorkspace(id uuid.UUID) Scope {
	return Scope{workspace: id, name: "the service", role: Builder}
}

// Member is a person of a workspace.
type Member struct {
	Person uuid.UUID
	Name   string
	Email  string
	Role   Role
}

// Members lists the people of a workspace.
func (s *Store) Members(ctx context.Context, sc Scope) (out []Member, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT m.person_id, p.name, p.email, m.role FROM member m JOIN person p ON p.id = m.person_id ORDER BY p.name LIMIT 1000")
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Member])
		return err
	})
	return out, err
}
