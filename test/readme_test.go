package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The five minutes of the README by command: read from it and run as they stand there.
func TestTheReadmesFiveMinutesByCommand(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	text, err := os.ReadFile("../README.md")
	require.NoError(t, err)
	m := regexp.MustCompile("(?s)```sh\n(.*?)```").FindSubmatch(text)
	require.NotNil(t, m, "the README has a block of commands")
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "bin"), 0o700))
	require.NoError(t, os.Symlink(trellis(t), filepath.Join(dir, "bin", "trellis")))
	run := exec.CommandContext(within(t, 2*time.Minute), "bash", "-e", "-c", string(m[1]))
	run.Dir = dir
	run.Env = append(os.Environ(), "TRELLIS_CONFIG="+w.ConfigPath())
	out, err := run.CombinedOutput()
	require.NoError(t, err, string(out))
	for _, want := range []string{"nothing to mend", "made calls-kept", "This secret is shown once.", `{"taken":"sample"}`, "1 write was only prepared.", "calls-kept is live, revision 1", "succeeded", "written outside"} {
		require.Contains(t, string(out), want)
	}
	require.Equal(t, 11, strings.Count(string(m[1]), "\nbin/trellis "), "each of them was run")
}

// What the README says that one presses is what the console says.
func TestTheReadmesWordsAreTheConsoles(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../README.md")
	require.NoError(t, err)
	_, after, ok := strings.Cut(string(text), "## The first workflow in five minutes")
	require.True(t, ok)
	part, _, _ := strings.Cut(after, "The same by command")
	var all strings.Builder
	for _, folder := range []string{"../web/src", "../internal/core", "../demo"} {
		require.NoError(t, filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.Contains(path, "test") {
				return err
			}
			b, err := os.ReadFile(path)
			all.Write(b)
			return err
		}))
	}
	said := strings.ToLower(all.String())
	seen := 0
	for _, m := range regexp.MustCompile(`(?s)\*\*?([^*]+)\*\*?`).FindAllStringSubmatch(part, -1) {
		words := strings.ToLower(strings.Join(strings.Fields(m[1]), " "))
		require.Contains(t, said, words, "the README speaks of “%s”", m[1])
		seen++
	}
	require.Greater(t, seen, 12)
}
