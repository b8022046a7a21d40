//go:build !linux

package store

import "syscall"

// userTimeout does nothing where there is no such bound.
func userTimeout(_, _ string, _ syscall.RawConn) error { return nil }
