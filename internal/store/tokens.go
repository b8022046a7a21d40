package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

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
