// Package files keeps content by its hash in PostgreSQL, in pieces, so that a
// file is never whole in memory.
package files

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"mime"
	"path"
	"strings"
	"unicode"

	"github.com/gabriel-vasile/mimetype"
	"github.com/google/uuid"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/store"
)

// Files is the store's files.
type Files struct{ Store *store.Store }

// ErrTooLarge says that a file has more than item.MaxFile bytes.
var ErrTooLarge = fmt.Errorf("the file has more than %d MiB", item.MaxFile>>20)

// BaseName reduces what somebody called a file to a harmless name.
func BaseName(name string) string {
	name = path.Base(strings.ReplaceAll(name, `\`, "/"))
	name = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == unicode.ReplacementChar {
			return -1
		}
		return r
	}, name)
	if r := []rune(name); len(r) > 200 {
		name = string(r[:200])
	}
	if strings.Trim(name, "./ ") == "" {
		return "file"
	}
	return name
}

// Writer takes the content of a file as it comes.
type Writer struct {
	files     *Files
	ctx       context.Context
	workspace uuid.UUID
	id        uuid.UUID
	sum       hash.Hash
	size      int64
	number    int
	buffer    []byte
}

// Create begins a file.
func (f *Files) Create(ctx context.Context, workspace uuid.UUID) *Writer {
	return &Writer{files: f, ctx: ctx, workspace: workspace, id: store.NewID(), sum: sha256.New(), buffer: make([]byte, 0, store.ChunkBytes)}
}

// Write implements io.Writer.
func (w *Writer) Write(b []byte) (int, error) {
	n := 0
	for len(b) > 0 {
		take := min(len(b), cap(w.buffer)-len(w.buffer))
		w.buffer = append(w.buffer, b[:take]...)
		b = b[take:]
		n += take
		if w.size += int64(take); w.size > item.MaxFile {
			return n, ErrTooLarge
		}
		if len(w.buffer) == cap(w.buffer) {
			if err := w.flush(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

func (w *Writer) flush() error {
	w.sum.Write(w.buffer)
	if err := w.files.Store.AddChunk(w.ctx, w.workspace, w.id, w.number, w.buffer); err != nil {
		return err
	}
	w.number++
	w.buffer = w.buffer[:0]
	return nil
}

// Seal ends the file and gives its reference.
func (w *Writer) Seal(name, kind string) (*item.File, error) {
	if len(w.buffer) > 0 {
		if err := w.flush(); err != nil {
			return nil, err
		}
	}
	hash := w.sum.Sum(nil)
	if err := w.files.Store.SealFile(w.ctx, w.workspace, w.id, hash, w.size); err != nil {
		return nil, err
	}
	name = BaseName(name)
	if kind == "" {
		kind = mime.TypeByExtension(path.Ext(name))
	}
	if kind == "" {
		kind = "application/octet-stream"
	}
	return &item.File{ID: "sha256-" + hex.EncodeToString(hash), Name: name, Type: kind, Size: w.size}, nil
}

// Drop forgets what was written.
func (w *Writer) Drop() {
	_ = w.files.Store.DropChunks(context.WithoutCancel(w.ctx), w.workspace, w.id)
}

// Save keeps everything that content gives.
func (f *Files) Save(ctx context.Context, workspace uuid.UUID, name, kind string, content io.Reader) (*item.File, error) {
	w := f.Create(ctx, workspace)
	if _, err := io.CopyBuffer(onlyWriter{w}, content, make([]byte, 64<<10)); err != nil {
		w.Drop()
		return nil, err
	}
	return w.Seal(name, kind)
}

// sniffed is how much of a file is looked at to tell what it is.
const sniffed = 3072

// Incoming keeps a file that comes from outside: its type is what it holds, where that
// can be told, not what is said of it.
func (f *Files) Incoming(ctx context.Context, workspace uuid.UUID, name, kind string, content io.Reader) (*item.File, error) {
	begins := bufio.NewReaderSize(content, sniffed)
	head, err := begins.Peek(sniffed)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return f.Save(ctx, workspace, name, TypeOf(kind, name, head), begins)
}

// TypeOf tells what a file is by how it begins. Where that says only that it is text, or
// nothing, what is said of it counts, or its name, unless its beginning denies it.
func TypeOf(said, name string, head []byte) string {
	found := mimetype.Detect(head)
	plain, _, _ := strings.Cut(found.String(), ";")
	if plain != "text/plain" && plain != "application/octet-stream" {
		return plain
	}
	for _, kind := range []string{said, mime.TypeByExtension(path.Ext(BaseName(name)))} {
		kind, _, _ = strings.Cut(kind, ";")
		kind = strings.TrimSpace(kind)
		if kind == "" || kind == "application/octet-stream" {
			continue
		}
		// What these are shows in how they begin.
		if known := mimetype.Lookup(kind); known == nil || plain == "text/plain" && isTextual(known) || plain == "application/octet-stream" && !isTextual(known) && !shows[kind] {
			return kind
		}
	}
	return plain
}

// shows are types whose beginning is always known.
var shows = map[string]bool{"image/png": true, "image/jpeg": true, "image/gif": true, "image/webp": true, "application/pdf": true, "application/zip": true}

// isTextual tells of a type that is text of some kind.
func isTextual(kind *mimetype.MIME) bool {
	for ; kind != nil; kind = kind.Parent() {
		if kind.Is("text/plain") {
			return true
		}
	}
	return false
}

type onlyWriter struct{ io.Writer }

// Size tells how long a file is; store.ErrNotFound if it is not kept.
func (f *Files) Size(ctx context.Context, workspace uuid.UUID, id string) (int64, error) {
	hash, err := hex.DecodeString(strings.TrimPrefix(id, "sha256-"))
	if err != nil {
		return 0, store.ErrNotFound
	}
	_, size, err := f.Store.FindFile(ctx, workspace, hash)
	return size, err
}

// Open reads a file.
func (f *Files) Open(ctx context.Context, workspace uuid.UUID, id string) (io.ReadCloser, error) {
	hash, err := hex.DecodeString(strings.TrimPrefix(id, "sha256-"))
	if err != nil {
		return nil, fmt.Errorf("%q is not a file: %w", id, item.ErrFileGone)
	}
	chunks, _, err := f.Store.FindFile(ctx, workspace, hash)
	if errors.Is(err, store.ErrNotFound) {
		return nil, item.ErrFileGone
	}
	if err != nil {
		return nil, err
	}
	return &reader{files: f, ctx: ctx, workspace: workspace, id: chunks}, nil
}

type reader struct {
	files         *Files
	ctx           context.Context
	workspace, id uuid.UUID
	number        int
	rest          []byte
}

func (r *reader) Read(b []byte) (int, error) {
	if len(r.rest) == 0 {
		body, err := r.files.Store.Chunk(r.ctx, r.workspace, r.id, r.number)
		if errors.Is(err, store.ErrNotFound) {
			return 0, io.EOF
		}
		if err != nil {
			return 0, err
		}
		r.rest = body
		r.number++
	}
	n := copy(b, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

func (r *reader) Close() error { r.rest = nil; return nil }
