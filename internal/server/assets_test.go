package server

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
)

func TestAssetsAreSentCompressedAsTheBrowserTakesThem(t *testing.T) {
	t.Parallel()
	text := strings.Repeat("export const kiln = 'nine';\n", 500)
	a := &assets{files: fstest.MapFS{"assets/x.js": {Data: []byte(text)}, "assets/p.png": {Data: bytes.Repeat([]byte{1, 2, 3}, 900)}, "index.html": {Data: []byte("<!doctype html>")}}}
	ask := func(name, accept, known string) *http.Response {
		r := httptest.NewRequest(http.MethodGet, "/"+name, nil)
		r.Header.Set("Accept-Encoding", accept)
		r.Header.Set("If-None-Match", known)
		w := httptest.NewRecorder()
		a.find(name).write(w, r)
		return w.Result()
	}
	read := map[string]func(io.Reader) (io.Reader, error){
		"zstd": func(r io.Reader) (io.Reader, error) { d, err := zstd.NewReader(r); return d, err },
		"gzip": func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) },
		"":     func(r io.Reader) (io.Reader, error) { return r, nil },
	}
	for accept, want := range map[string]string{"gzip, deflate, br, zstd": "zstd", "gzip, br": "gzip", "zstd;q=0, gzip": "gzip", "br": "", "": "", "gzip;q=0": "", "ZSTD": "zstd"} {
		res := ask("assets/x.js", accept, "")
		require.Equal(t, want, res.Header.Get("Content-Encoding"), accept)
		require.Contains(t, res.Header.Get("Content-Type"), "javascript")
		require.Equal(t, "Accept-Encoding", res.Header.Get("Vary"))
		r, err := read[want](res.Body)
		require.NoError(t, err)
		b, err := io.ReadAll(r)
		require.NoError(t, err)
		require.Equal(t, text, string(b))
		if want != "" {
			require.Less(t, res.ContentLength, int64(1000))
		}
		again := ask("assets/x.js", accept, res.Header.Get("ETag"))
		require.Equal(t, http.StatusNotModified, again.StatusCode)
	}
	require.Empty(t, ask("assets/p.png", "gzip", "").Header.Get("Content-Encoding"), "a picture does not shrink")
	require.Empty(t, ask("index.html", "gzip", "").Header.Get("Content-Encoding"), "nor does a short text")
	require.Nil(t, a.find("assets"))
	require.Nil(t, a.find("nothing.js"))
}

func TestThePageOfTheConsoleHasANonceOfItsOwn(t *testing.T) {
	t.Parallel()
	gin.SetMode(gin.ReleaseMode)
	s := &Server{assets: &assets{files: fstest.MapFS{"assets/x.js": {Data: []byte("1")}, "index.html": {Data: []byte(`<!doctype html><meta name="style-nonce" content="STYLE_NONCE">`)}}}}
	e := gin.New()
	e.NoRoute(s.console)
	ask := func(method, path string) *http.Response {
		w := httptest.NewRecorder()
		e.ServeHTTP(w, httptest.NewRequest(method, path, nil))
		return w.Result()
	}
	seen := map[string]bool{}
	for _, path := range []string{"/", "/index.html", "/runs/an-id", "/assets/gone.js"} {
		res := ask(http.MethodGet, path)
		require.Equal(t, 200, res.StatusCode)
		require.Equal(t, "no-store", res.Header.Get("Cache-Control"), path)
		require.Empty(t, res.Header.Get("ETag"))
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		_, nonce, _ := strings.Cut(string(b), `content="`)
		nonce = strings.TrimSuffix(nonce, `">`)
		require.GreaterOrEqual(t, len(nonce), 22, path)
		require.False(t, seen[nonce], path)
		seen[nonce] = true
		policy := res.Header.Get("Content-Security-Policy")
		require.Contains(t, policy, "style-src 'self' 'nonce-"+nonce+"';")
		require.NotContains(t, policy, "unsafe")
	}
	res := ask(http.MethodGet, "/assets/x.js")
	require.Contains(t, res.Header.Get("Cache-Control"), "immutable")
	require.NotEmpty(t, res.Header.Get("ETag"))
	require.NotContains(t, res.Header.Get("Content-Security-Policy"), "STYLE_NONCE")
	for path, method := range map[string]string{"/": http.MethodPost, "/api/nothing": http.MethodGet, "/hooks/nothing": http.MethodGet} {
		require.Equal(t, 404, ask(method, path).StatusCode, path)
	}
	s.assets = &assets{files: fstest.MapFS{}}
	res = ask(http.MethodGet, "/")
	require.Equal(t, 404, res.StatusCode)
}
