package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The engine is read a file and a function at a time: none of either is so long
// that it must be scrolled about in.
func TestTheEngineComesInSmallParts(t *testing.T) {
	t.Parallel()
	const fileMost, functionMost = 400, 60
	files, err := filepath.Glob("engine/*.go")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, name := range files {
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, name, nil, 0)
		require.NoError(t, err)
		lines := set.File(f.Pos()).LineCount()
		require.LessOrEqual(t, lines, fileMost, "%s has %d lines", name, lines)
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		for _, d := range f.Decls {
			if fn, ok := d.(*ast.FuncDecl); ok {
				lines := set.Position(fn.End()).Line - set.Position(fn.Pos()).Line + 1
				require.LessOrEqual(t, lines, functionMost, "%s in %s has %d lines", fn.Name.Name, name, lines)
			}
		}
	}
}
