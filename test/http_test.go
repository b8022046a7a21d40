package test

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/chromedp/cdproto/runtime"
)

// serveFunc answers on loopback for the length of a test.
func serveFunc(t *testing.T, f http.HandlerFunc) string {
	s := httptest.NewServer(f)
	t.Cleanup(s.Close)
	return s.URL
}

func awaiting(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }
