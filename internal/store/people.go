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
