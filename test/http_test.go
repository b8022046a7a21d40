package test

import (
	"net/http"
	"net/http/httptest"
	"testing"
)

// serveFunc answers on loopback for the length of a test.
func serveFunc(t *testing.T, f http.HandlerFunc) string {
	s := httptest.NewServer(f)
	t.Cleanup(s.Close)
	return s.URL
}
