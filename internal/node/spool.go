package node

import (
	"bufio"
	"os"

	"youngtrellis/internal/core/engine"
)

// spools keep what runs hold beyond memory in files that have no name: nobody
// else can open them, and they are gone with the process however it ends.
type spools struct{ dir string } // "": the system's place for such files

// Spool implements engine.Spools.
func (s spools) Spool() (engine.Spool, error) {
	f, err := os.CreateTemp(s.dir, "trellis-") // 0600
	if err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil {
		_ = f.Close()
		return nil, err
	}
	return &spool{file: f, out: bufio.NewWriterSize(f, 64<<10)}, nil
}

type spool struct {
	file *os.File
	out  *bufio.Writer
	size int64
}

// Append implements engine.Spool.
func (s *spool) Append(b []byte) (int64, error) {
	at := s.size
	n, err := s.out.Write(b)
	s.size += int64(n)
	return at, err
}

// Read implements engine.Spool.
func (s *spool) Read(at int64, n int) ([]byte, error) {
	if err := s.out.Flush(); err != nil {
		return nil, err
	}
	b := make([]byte, n)
	_, err := s.file.ReadAt(b, at)
	return b, err
}

// Close implements engine.Spool.
func (s *spool) Close() error { return s.file.Close() }

// heldMost is how many bytes all runs of a node hold in memory; what is beyond
// goes into spools.
const heldMost = 64 << 20
