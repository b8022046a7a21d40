package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"youngtrellis/internal/core/engine"
)

// Sentinels that callers decide by.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("somebody else changed it in between")
	ErrTaken    = errors.New("the name is taken")
	// ErrText says that a text holds what PostgreSQL does not store: U+0000, or bytes
	// that are not UTF-8.
	ErrText        = errors.New("it holds a character that cannot be stored (U+0000, or broken UTF-8)")
	ErrUnavailable = errors.New("the database cannot be reached at the moment")
	// ErrFenced says that this node's session has ended: nothing it carries out is
	// its own any more.
	ErrFenced = fmt.Errorf("this node's session has ended: %w", engine.ErrDropped)
	// ErrUncertain says that nobody can tell yet whether a start was made: the
	// database's answer was lost, and it has given none since. If it was made, its
	// run is carried out; with the same key it is made once.
	ErrUncertain = fmt.Errorf("whether the start was made cannot be told yet: %w", ErrUnavailable)
	// ErrClosed says that the writer takes nothing more.
	ErrClosed = errors.New("this node is stopping")
)

// ContentError says that the database refuses what was to be written, however
// often it is tried.
type ContentError struct{ Err error }

func (e *ContentError) Error() string { return "it cannot be stored: " + e.Err.Error() }
func (e *ContentError) Unwrap() error { return e.Err }

// blame says whose fault an error of the database is (SQLSTATE classes,
// PostgreSQL documentation, appendix A).
type blame int

const (
	passing blame = iota // the database's, or that of the way to it: it is tried again
	content              // of what was to be written: it never succeeds
	odd                  // of neither for certain
)

func blameOf(err error) blame {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && len(pg.Code) == 5 {
		switch pg.Code[:2] {
		case "08", "25", "40", "53", "55", "57", "58":
			return passing
		case "22", "23", "54":
			return content
		}
		return odd
	}
	if isNetwork(err) {
		return passing
	}
	return odd
}

func isNetwork(err error) bool {
	var connect *pgconn.ConnectError
	var network net.Error
	switch {
	case errors.Is(err, ErrUnavailable), errors.Is(err, errSilent), errors.As(err, &connect), errors.Is(err, context.DeadlineExceeded),
		errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return true
	case errors.As(err, &network):
		return !errors.Is(err, context.Canceled)
	}
	return pgconn.SafeToRetry(err) || strings.Contains(err.Error(), "conn closed")
}

// IsUnavailable tells whether an error came from the way to the server, or its
// state, rather than from what was asked of it.
func IsUnavailable(err error) bool {
	return err != nil && !errors.Is(err, context.Canceled) && blameOf(err) == passing
}

// unavailable marks errors that mean that the server cannot serve.
func unavailable(err error) error {
	if !IsUnavailable(err) || errors.Is(err, ErrUnavailable) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrUnavailable, err)
}

func translate(err error) error {
	var pg *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, pgx.ErrNoRows):
		return ErrNotFound
	case errors.As(err, &pg) && pg.Code == "23505":
		return ErrTaken
	case errors.As(err, &pg) && (pg.Code == "22021" || pg.Code == "22P05"):
		return ErrText
	}
	return unavailable(err)
}

// fenced recognises hold_session's refusal.
func fenced(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "YT001" {
		return ErrFenced
	}
	return err
}
