// Package files is the stand-in for a file store: folders and files over
// WebDAV (RFC 4918), with user and password. The WebDAV server is a library's.
package files

import (
	"context"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
	"golang.org/x/net/webdav"

	"youngtrellis/internal/standins"
	"youngtrellis/internal/standins/media"
)

// Files is the stand-in.
type Files struct {
	*standins.Stand
	fs webdav.FileSystem
}

// New makes it with the memos and cards of the kiln hall.
func New(o standins.Setup) *Files {
	f := &Files{fs: ordered{webdav.NewMemFS()}}
	ctx := context.Background()
	for _, dir := range []string{"/memos", "/cards", "/uploads"} {
		_ = f.fs.Mkdir(ctx, dir, 0o755)
	}
	f.put("/memos/kiln-2-morning.wav", media.Memo("Kiln two came down to ninety degrees at seven. Two shelves warped again, the upper left and the one below it. We should turn them before the next cone nine. Osierbed's teapots are fine.", 14))
	f.put("/memos/kiln-1-evening.wav", media.Memo("Kiln one is loaded with the tiles from Lowlight. Cone zero four, slow, starts at six in the evening. Somebody must look at the damper at nine.", 11))
	f.put("/memos/long-walk.wav", media.Memo("This is the walk through the whole hall, shelf by shelf, and it takes its time.", 75))
	f.put("/cards/card-0417.png", media.Card("Kiln 2   CONE 9\nloaded   Tue 17 Nov\nOsierbed, 6 teapots\nQuern Lane, 12 tiles\nSOAK 20 min at 1280\nout      Thu 19 Nov"))
	f.put("/cards/card-0418.png", media.Card("Kiln 1   CONE 04\nloaded   Wed 18 Nov\nLowlight, 40 tiles\nHold?  damper half\nout      ??"))
	password := o.Key("files")
	s := standins.New("Files", func(*http.Request) (bool, string) { return true, "" }, f.page, standins.Describe(standins.Spec{Name: "Files", About: "Folders and files over WebDAV at /dav.", Security: map[string]any{"type": "http", "scheme": "basic"}}))
	dav := &webdav.Handler{Prefix: "/dav", FileSystem: f.fs, LockSystem: webdav.NewMemLS()}
	serve := func(c *gin.Context) {
		if u, p, ok := c.Request.BasicAuth(); !ok || u != "hall" || p != password || s.Misbehaving().RefuseKeys {
			c.Header("WWW-Authenticate", `Basic realm="Files"`)
			standins.Refuse(c, http.StatusUnauthorized, "", "the user name or password is not right")
			return
		}
		dav.ServeHTTP(c.Writer, c.Request)
	}
	for _, m := range []string{"GET", "HEAD", "PUT", "DELETE", "OPTIONS", "PROPFIND", "MKCOL", "MOVE", "COPY"} {
		s.Engine.Handle(m, "/dav/*path", s.Misbehave, serve)
	}
	f.Stand = &standins.Stand{Service: s, Connector: "files", Values: map[string]string{"user": "hall", "secret": password}}
	return f
}

func (f *Files) put(name string, content []byte) {
	w, err := f.fs.OpenFile(context.Background(), name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err == nil {
		_, _ = w.Write(content)
		_ = w.Close()
	}
}

// Content reads a file.
func (f *Files) Content(name string) ([]byte, error) {
	r, err := f.fs.OpenFile(context.Background(), name, os.O_RDONLY, 0)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

func (f *Files) page() template.HTML {
	rows := [][]string{}
	var walk func(dir string)
	walk = func(dir string) {
		d, err := f.fs.OpenFile(context.Background(), dir, os.O_RDONLY, 0)
		if err != nil {
			return
		}
		defer d.Close()
		list, _ := d.Readdir(-1)
		for _, i := range list {
			name := strings.TrimSuffix(dir, "/") + "/" + i.Name()
			if i.IsDir() {
				walk(name)
				continue
			}
			rows = append(rows, []string{name, fmt.Sprintf("%d", i.Size())})
		}
	}
	walk("/")
	return "<h2>Files</h2>" + standins.Table([]string{"path", "bytes"}, rows)
}

// ordered lists folders by name: a file system in memory lists them as they come.
type ordered struct{ webdav.FileSystem }

// OpenFile implements webdav.FileSystem.
func (o ordered) OpenFile(ctx context.Context, name string, flag int, perm os.FileMode) (webdav.File, error) {
	f, err := o.FileSystem.OpenFile(ctx, name, flag, perm)
	if err != nil {
		return nil, err
	}
	return orderedFile{f}, nil
}

type orderedFile struct{ webdav.File }

// Readdir implements http.File.
func (f orderedFile) Readdir(n int) ([]os.FileInfo, error) {
	list, err := f.File.Readdir(n)
	slices.SortFunc(list, func(a, b os.FileInfo) int { return strings.Compare(a.Name(), b.Name()) })
	return list, err
}
