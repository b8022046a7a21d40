package server

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// assets serves the built console from memory, each file compressed once as the
// browser takes it: zstd (RFC 8878), else gzip (RFC 1952), else as it is.
type assets struct {
	files fs.FS

	mu   sync.Mutex // protects the following field
	kept map[string]*asset
}

type asset struct {
	kind, tag         string
	plain, gzip, zstd []byte
}

// compressFrom is the length from which compressing gains anything.
const compressFrom = 1000

// find gives a file; nil where there is none.
func (a *assets) find(name string) *asset {
	a.mu.Lock()
	defer a.mu.Unlock()
	if f, ok := a.kept[name]; ok {
		return f
	}
	info, err := fs.Stat(a.files, name)
	if err != nil || info.IsDir() {
		return nil
	}
	b, err := fs.ReadFile(a.files, name)
	if err != nil {
		return nil
	}
	f := &asset{plain: b, kind: mime.TypeByExtension(path.Ext(name))}
	if f.kind == "" {
		f.kind = http.DetectContentType(b)
	}
	sum := sha256.Sum256(b)
	f.tag = hex.EncodeToString(sum[:12])
	if len(b) >= compressFrom && compressible(f.kind) {
		f.gzip, f.zstd = gzipped(b), zstded(b)
	}
	if a.kept == nil {
		a.kept = map[string]*asset{}
	}
	a.kept[name] = f
	return f
}

func compressible(kind string) bool {
	return strings.HasPrefix(kind, "text/") || strings.Contains(kind, "javascript") || strings.Contains(kind, "json") || strings.Contains(kind, "svg") || strings.Contains(kind, "wasm")
}

func gzipped(b []byte) []byte {
	var out bytes.Buffer
	w, _ := gzip.NewWriterLevel(&out, gzip.BestCompression)
	_, _ = w.Write(b)
	_ = w.Close()
	return out.Bytes()
}

func zstded(b []byte) []byte {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBestCompression), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil
	}
	defer e.Close()
	return e.EncodeAll(b, nil)
}

// accepts tells whether a browser takes an encoding (RFC 9110, section 12.5.3).
func accepts(header, encoding string) bool {
	for _, part := range strings.Split(header, ",") {
		name, parameters, _ := strings.Cut(strings.TrimSpace(part), ";")
		if strings.EqualFold(strings.TrimSpace(name), encoding) {
			q, ok := strings.CutPrefix(strings.ReplaceAll(parameters, " ", ""), "q=")
			v, err := strconv.ParseFloat(q, 64)
			return !ok || err == nil && v > 0
		}
	}
	return false
}

// write answers with a file. A browser that has it already is told so.
func (f *asset) write(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Type", f.kind)
	body, encoding := f.plain, ""
	if f.gzip != nil {
		h.Add("Vary", "Accept-Encoding")
		switch accepted := r.Header.Get("Accept-Encoding"); {
		case f.zstd != nil && accepts(accepted, "zstd"):
			body, encoding = f.zstd, "zstd"
		case accepts(accepted, "gzip"):
			body, encoding = f.gzip, "gzip"
		}
	}
	tag := `"` + f.tag + `"`
	if encoding != "" {
		h.Set("Content-Encoding", encoding)
		tag = `"` + f.tag + "-" + encoding + `"`
	}
	h.Set("ETag", tag)
	if strings.Contains(r.Header.Get("If-None-Match"), tag) {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	h.Set("Content-Length", strconv.Itoa(len(body)))
	w.WriteHeader(http.StatusOK)
	if r.Method != http.MethodHead {
		_, _ = w.Write(body)
	}
}
