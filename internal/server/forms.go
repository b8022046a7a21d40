package server

import (
	"errors"
	"io/fs"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/payload"
	"youngtrellis/internal/core/reply"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/files"
	"youngtrellis/internal/intake"
	"youngtrellis/internal/pages"
	"youngtrellis/internal/store"
)

// Policies of hosted pages. At a host of their own a script of ours helps; elsewhere they
// are of no origin, and nothing runs.
const (
	pagePolicy    = "default-src 'none'; style-src 'self' 'nonce-STYLE_NONCE'; font-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
	apartPolicy   = pagePolicy + "; script-src 'self'; connect-src 'self'"
	sandboxPolicy = pagePolicy + "; sandbox allow-forms allow-popups"
)

// foreign are the paths of what is served at the host of the pages, where there is one.
var foreign = []string{"/hooks/", "/forms/", "/answers/", "/pages/"}

func isForeign(path string) bool {
	for _, prefix := range foreign {
		if strings.HasPrefix(path, prefix) {
			return true
		}
	}
	return false
}

// pagesURL is where hosted pages and webhooks are found.
func (s *Server) pagesURL() string {
	if s.PagesURL != "" {
		return s.PagesURL
	}
	return s.PublicURL
}

// look is that of the pages of a form; nil: of nobody's.
func (s *Server) look(p *intake.FormPage) pages.Look {
	l := pages.Look{Scripts: s.PagesURL != ""}
	if p != nil {
		l.House, l.Colour = p.House, p.Hosted.Colour
	}
	return l
}

// page sends a page.
func (s *Server) page(c *gin.Context, status int, p *pages.Page, err error) {
	if err != nil {
		s.fail(c, err)
		return
	}
	policy := sandboxPolicy
	if s.PagesURL != "" {
		policy = apartPolicy
	}
	c.Header("Content-Security-Policy", strings.Replace(policy, styleNonce, p.Nonce, 1))
	c.Header("X-Robots-Tag", "noindex")
	c.Data(status, "text/html; charset=utf-8", p.HTML)
}

// prefersPage tells whether somebody reads the answer in a browser.
func prefersPage(r *http.Request) bool {
	return strings.Contains(r.Header.Get("Accept"), "text/html")
}

// open shows a form.
func (s *Server) openForm(c *gin.Context) {
	if !s.allowsForm(c) {
		return
	}
	p, err := s.Intake.Form(c.Request.Context(), c.Param("address"))
	if err != nil {
		s.noForm(c, s.look(nil), err)
		return
	}
	s.showForm(c, http.StatusOK, p)
}

func (s *Server) showForm(c *gin.Context, status int, p *intake.FormPage) {
	page, err := pages.Form(s.look(p), p, "/forms/"+p.Address)
	s.page(c, status, page, err)
}

// allowsForm bounds how much comes from one caller.
func (s *Server) allowsForm(c *gin.Context) bool {
	rates := s.limiters.opened
	if c.Request.Method == http.MethodPost {
		rates = s.limiters.filled
	}
	if rates.Allow(s.callerKey(c.Request)) && s.limiters.called.Allow(c.Param("address")) {
		return true
	}
	c.Header("Retry-After", "20")
	page, err := pages.Message(s.look(nil), "Too many at once", "Many forms came from where you are just now. Go back, and send yours again in half a minute; what you typed is still there.")
	s.page(c, http.StatusTooManyRequests, page, err)
	c.Abort()
	return false
}

// noForm says on a page why a form cannot be shown or taken.
func (s *Server) noForm(c *gin.Context, look pages.Look, err error) {
	status, title, text := http.StatusInternalServerError, "Something went wrong here", "Nothing was sent. Go back and try it again in a moment; what you typed is still there."
	var refused *intake.Refused
	var large *payload.TooLarge
	var whole *http.MaxBytesError
	switch {
	case errors.As(err, &large), errors.As(err, &whole), errors.Is(err, files.ErrTooLarge):
		status, title, text = http.StatusRequestEntityTooLarge, "That is too large", "Go back and choose a smaller file; what you typed is still there."
		if large != nil {
			text = "The most that is taken is " + item.Bytes(large.Most) + ". " + text
		}
	case errors.As(err, &refused):
		status, text = refused.Status, refused.Message
		switch {
		case status == http.StatusNotFound:
			title = "Nothing is here"
		case status == http.StatusTooManyRequests:
			title = "No more today"
		default:
			title = "This was not taken"
		}
		if refused.After > 0 {
			c.Header("Retry-After", strconv.Itoa(int(refused.After/time.Second)))
		}
	case store.IsUnavailable(err):
		status, title = http.StatusServiceUnavailable, "Not just now"
		c.Header("Retry-After", "5")
	default:
		s.Log.Error("a form could not be taken", "error", err)
	}
	page, err := pages.Message(look, title, words.Sentence(text))
	s.page(c, status, page, err)
}

// fillForm takes a form that was filled in, and goes on to what follows, so that loading
// the page again sends nothing.
func (s *Server) fillForm(c *gin.Context) {
	if !s.allowsForm(c) {
		return
	}
	address := c.Param("address")
	sent, err := s.Intake.Submit(c.Request.Context(), s.callOf(c))
	switch {
	case err != nil:
		look := s.look(nil)
		if p, err := s.Intake.Form(c.Request.Context(), address); err == nil {
			look = s.look(p)
		}
		s.noForm(c, look, err)
	case sent.Page != nil:
		s.showForm(c, http.StatusUnprocessableEntity, sent.Page)
	case sent.Answer != "":
		c.Redirect(http.StatusSeeOther, s.pagesURL()+"/answers/"+sent.Answer)
	default:
		c.Redirect(http.StatusSeeOther, "/forms/"+address+"/sent")
	}
}

// formSent says thank you.
func (s *Server) formSent(c *gin.Context) {
	p, err := s.Intake.Form(c.Request.Context(), c.Param("address"))
	if err != nil { // it was closed by what was sent, or since
		page, err := pages.Message(s.look(nil), "Thank you", "We have what you sent.")
		s.page(c, http.StatusOK, page, err)
		return
	}
	page, err := pages.Message(s.look(p), p.Hosted.Thanks, p.Hosted.After)
	s.page(c, http.StatusOK, page, err)
}

// tellPage shows what a run answers to whoever reads it in a browser.
func (s *Server) tellPage(c *gin.Context, t *intake.Told) {
	look := s.look(t.Form)
	switch {
	case t.Reply != nil && t.Reply.Page != nil:
		page, err := pages.Answer(look, t.Reply.Page)
		s.page(c, t.Reply.Status, page, err)
	case t.Reply != nil && t.Reply.Header["Location"] != "" && t.Reply.Body == nil:
		c.Redirect(http.StatusSeeOther, t.Reply.Header["Location"])
	case t.Reply != nil && t.Form != nil:
		_, body, err := t.Reply.Content()
		if err != nil {
			s.fail(c, err)
			return
		}
		page, err := pages.Answer(look, &reply.Page{Title: t.Form.Hosted.Thanks, Rows: rowsOf(string(body))})
		s.page(c, http.StatusOK, page, err)
	case t.Later != "":
		c.Header("Retry-After", laterSeconds)
		page, err := pages.Wait(look, s.answerAddress(t.Later), store.AnswerAt)
		s.page(c, http.StatusAccepted, page, err)
	case t.State == engine.Succeeded || t.State == engine.Partial:
		title, text := "Thank you", "We have what you sent."
		if t.Form != nil {
			title, text = t.Form.Hosted.Thanks, t.Form.Hosted.After
		}
		page, err := pages.Message(look, title, text)
		s.page(c, http.StatusOK, page, err)
	default:
		page, err := pages.Message(look, "Something went wrong here", "We have what you sent, but it could not be answered. If you ask about it, say this: "+t.Run.String())
		s.page(c, http.StatusInternalServerError, page, err)
	}
}

// rowsOf is an answer that was not made for people, as a page can show it.
func rowsOf(body string) []reply.Row {
	if body == "" {
		return nil
	}
	return []reply.Row{{Text: body}}
}

// pageFonts are those of hosted pages, by the beginnings of their names in the console.
var pageFonts = map[string]string{
	"figtree-400.woff2":      "assets/figtree-latin-400-normal-*.woff2",
	"figtree-600.woff2":      "assets/figtree-latin-600-normal-*.woff2",
	"source-serif-600.woff2": "assets/source-serif-4-latin-600-normal-*.woff2",
}

// pageAsset serves what hosted pages load; they may be of no origin, so any may load it.
func (s *Server) pageAsset(c *gin.Context) {
	name := path.Base(c.Param("name"))
	c.Header("Access-Control-Allow-Origin", "*")
	c.Header("Cache-Control", "public, max-age=3600")
	if pattern, font := pageFonts[name]; font {
		if found, _ := fs.Glob(s.Console, pattern); len(found) > 0 {
			c.FileFromFS(found[0], http.FS(s.Console))
			return
		}
	}
	if _, err := fs.Stat(pages.Assets(), name); err != nil {
		c.Header("Cache-Control", "no-store")
		write(c, refuse(http.StatusNotFound, "not_found", "There is nothing at this address."))
		return
	}
	c.FileFromFS(name, http.FS(pages.Assets()))
}
