package store

import (
	"syscall"

	"golang.org/x/sys/unix"
)

// userTimeout bounds how long what we sent may stay unacknowledged
// (TCP_USER_TIMEOUT, RFC 5482).
func userTimeout(_, _ string, c syscall.RawConn) error {
	var failed error
	err := c.Control(func(fd uintptr) {
		failed = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(answerWithin.Milliseconds()))
	})
	if err == nil {
		err = failed
	}
	return err
}
