package server

import (
	"context"
	"errors"
	"mime"
	"net/http"
	"net/url"

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
	name := or(r.Params.Name, "file")
	disposition := mime.FormatMediaType("attachment", map[string]string{"filename": name})
	if disposition == "" {
		disposition = "attachment; filename*=UTF-8''" + url.PathEscape(name)
	}
	return api.GetFile200ApplicationoctetStreamResponse{Body: content, ContentLength: size, Headers: api.GetFile200ResponseHeaders{
		ContentDisposition: &disposition, ContentSecurityPolicy: some("sandbox; default-src 'none'"), XContentTypeOptions: some("nosniff")}}, nil
}
