package server

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"youngtrellis/api"
	"youngtrellis/internal/core/item"
)

// AddFile implements api.StrictServerInterface.
func (s *Server) AddFile(ctx context.Context, r api.AddFileRequestObject) (api.AddFileResponseObject, error) {
	f, err := s.Files.Save(ctx, scopeOf(ctx).Workspace(), r.Params.Name, or(r.Params.Type, ""), r.Body)
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return nil, refuse(http.StatusRequestEntityTooLarge, "too_large", "A file has at most "+item.Bytes(item.MaxFile)+".")
	}
	if err != nil {
		return nil, err
	}
	return api.AddFile201JSONResponse{File: f.ID, Name: f.Name, Type: f.Type, Size: f.Size}, nil
}

// GetFile implements api.StrictServerInterface.
func (s *Server) GetFile(ctx context.Context, r api.GetFileRequestObject) (api.GetFileResponseObject, error) {
	size, err := s.Files.Size(ctx, scopeOf(ctx).Workspace(), r.File)
	if err != nil {
		return nil, err
	}
	content, err := s.Files.Open(ctx, scopeOf(ctx).Workspace(), r.File)
	if err != nil {
		return nil, err
	}
	patient(writerOf(ctx), time.Hour) // it takes as long as it takes
	disposition := attachment(or(r.Params.Name, ""))
	return api.GetFile200ApplicationoctetStreamResponse{Body: content, ContentLength: size, Headers: api.GetFile200ResponseHeaders{
		ContentDisposition: &disposition, ContentSecurityPolicy: some("sandbox; default-src 'none'"), XContentTypeOptions: some("nosniff")}}, nil
}

// attachment says to keep an answer as a file (RFC 6266), under its base name: one
// for programs that know ASCII only, and one in UTF-8 (RFC 8187).
func attachment(name string) string {
	name = baseName(name)
	plain := strings.Map(func(r rune) rune {
		if r > 0x7e || r == '"' || r == '%' {
			return '_'
		}
		return r
	}, name)
	out := `attachment; filename="` + plain + `"`
	if plain != name {
		out += "; filename*=UTF-8''" + strings.ReplaceAll(url.QueryEscape(name), "+", "%20")
	}
	return out
}

// mostName is the longest name of a file, in bytes, as file systems take it.
const mostName = 200

// baseName is what stays of a name that may have folders, drives, characters that
// cannot be seen, or nothing that names a file.
func baseName(name string) string {
	name = name[strings.LastIndexAny(name, `/\:`)+1:]
	name = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp) || strings.ContainsRune(`<>|?*"`, r) {
			return -1
		}
		return r
	}, name)
	for len(name) > mostName {
		_, size := utf8.DecodeLastRuneInString(name[:mostName+1])
		name = name[:mostName+1-size]
	}
	if name = strings.Trim(name, ". "); name == "" {
		return "file"
	}
	return name
}
