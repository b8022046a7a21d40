package server

import (
	"mime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFilesAreGivenUnderTheirBaseName(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{
		"glaze.pdf": "glaze.pdf", "../../etc/passwd": "passwd", `C:\Windows\win.ini`: "win.ini", "/": "file", "..": "file", "": "file", ". .": "file", "a/b/": "file",
		"Über die Glasur.pdf": "Über die Glasur.pdf", "a\r\nSet-Cookie: x": "x", "x\u202Efdp.exe": "xfdp.exe", "a\u200bb\x00c\td": "abcd", `q"uote<>|?*.txt`: "quote.txt", "100%.txt": "100%.txt",
		"stream:ads": "ads", ".hidden": "hidden", strings.Repeat("é", 300): strings.Repeat("é", 100), strings.Repeat("a", 300): strings.Repeat("a", 200),
	} {
		require.Equal(t, want, baseName(name), name)
		header := attachment(name)
		require.NotContains(t, header, "\n")
		kind, params, err := mime.ParseMediaType(header)
		require.NoError(t, err, header)
		require.Equal(t, "attachment", kind)
		require.Equal(t, want, params["filename"], header)
	}
}
