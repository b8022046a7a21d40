package server

import (
	"errors"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/payload"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/files"
	"youngtrellis/internal/intake"
)

// foreignPolicy is that of answers whose bytes others had a part in: nothing of them
// runs, and nothing of them is ours.
const foreignPolicy = "sandbox; default-src 'none'; frame-ancestors 'none'"

// callOf is a call of an address as the intake takes it.
func (s *Server) callOf(c *gin.Context) intake.Call {
	return intake.Call{
		Address: c.Param("address"), Method: c.Request.Method, From: s.clientAddress(c.Request), Header: c.Request.Header, Query: c.Request.URL.Query(),
		Body: http.MaxBytesReader(c.Writer, c.Request.Body, intake.MostBody), Length: c.Request.ContentLength,
		Long: func() {
			_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(time.Hour))
			patient(c.Writer, time.Hour)
		},
	}
}

// hook takes a webhook's delivery.
//
//	202 {"run": …}         its run is about to begin
//	202 {"run", "answer"}  the answer takes longer, and will be at that address
//	whatever a step answers, or 204, or 500 naming the run, where none did
func (s *Server) hook(c *gin.Context) {
	c.Header("Content-Security-Policy", foreignPolicy)
	if !s.limiters.caller.Allow(s.callerKey(c.Request)) || !s.limiters.called.Allow(c.Param("address")) {
		c.Header("Retry-After", "5")
		write(c, refuse(http.StatusTooManyRequests, "too_many", "Too many calls at once. Send this one again in five seconds."))
		return
	}
	call := s.callOf(c)
	if c.GetHeader("X-Forwarded-For") != "" && !s.trusts(call.From) && len(s.Proxies) == 0 {
		s.forwarded.Store(true)
	}
	got, err := s.Intake.Receive(c.Request.Context(), call)
	var refused *intake.Refused
	if errors.As(err, &refused) && refused.Allow != "" {
		c.Header("Allow", refused.Allow)
	}
	var large *payload.TooLarge
	var whole *http.MaxBytesError
	if errors.As(err, &large) || errors.As(err, &whole) || errors.Is(err, files.ErrTooLarge) {
		why := "A file has at most " + item.Bytes(item.MaxFile)
		if large != nil {
			why = words.Sentence(large.Error())
		}
		write(c, refuse(http.StatusRequestEntityTooLarge, "too_large", why))
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	if got.Here != "" {
		c.Data(http.StatusOK, "text/plain; charset=utf-8", []byte(got.Here))
		return
	}
	if got.Told != nil {
		s.tell(c, got.Told)
		return
	}
	said := gin.H{}
	switch {
	case got.Kept:
		said["kept"] = "the workflow is paused; somebody decides whether it starts then"
	case got.Runs == 0 && got.Known == 0: // it became a sample of a draft
	case got.Duplicate && got.Known == 1:
		said["run"], said["duplicate"] = got.Run, true
	case got.Runs+got.Known > 1:
		said["run"], said["runs"], said["known"] = got.Run, got.Runs, got.Known
	default:
		said["run"] = got.Run
	}
	if got.Sample {
		said["taken"] = "sample"
	}
	c.JSON(http.StatusAccepted, said)
}

// laterSeconds is after how long it is worth while to look for an answer again.
const laterSeconds = "2"

// tell answers a caller what a run says, or where its answer will be.
func (s *Server) tell(c *gin.Context, t *intake.Told) {
	c.Header("Content-Security-Policy", foreignPolicy)
	if r := t.Reply; prefersPage(c.Request) && (r == nil || r.Page != nil) || r != nil && r.Page != nil && r.Body == nil {
		s.tellPage(c, t)
		return
	}
	switch {
	case t.Reply != nil:
		s.reply(c, t)
	case t.Later != "":
		at := s.answerAddress(t.Later)
		c.Header("Location", at)
		c.Header("Retry-After", laterSeconds)
		c.JSON(http.StatusAccepted, gin.H{"run": t.Run, "answer": at})
	case t.State == engine.Succeeded || t.State == engine.Partial:
		c.Status(http.StatusNoContent)
	default:
		write(c, refuse(http.StatusInternalServerError, "no_answer", "The run "+t.Run.String()+" ended without an answer. What was sent is kept with it."))
	}
}

// reply sends what a run answers.
func (s *Server) reply(c *gin.Context, t *intake.Told) {
	r := t.Reply
	for name, value := range r.Header {
		c.Header(name, value)
	}
	kind, body, err := r.Content()
	if err != nil {
		s.fail(c, err)
		return
	}
	if body == nil {
		c.Status(r.Status)
		c.Writer.WriteHeaderNow()
		return
	}
	c.Data(r.Status, kind, body)
}

// answered gives the answer of a run at its own address.
func (s *Server) answered(c *gin.Context) {
	c.Header("Content-Security-Policy", foreignPolicy)
	if !s.limiters.caller.Allow(s.callerKey(c.Request)) {
		c.Header("Retry-After", "5")
		write(c, refuse(http.StatusTooManyRequests, "too_many", "Too many calls at once. Send this one again in five seconds."))
		return
	}
	t, err := s.Intake.Answer(c.Request.Context(), c.Param("token"), s.PagesURL == "" || !prefersPage(c.Request))
	if err != nil && prefersPage(c.Request) {
		s.noForm(c, s.look(nil), err)
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	if t.Form != nil {
		s.tellPage(c, t)
		return
	}
	s.tell(c, t)
}

// answerAddress is where an answer is found.
func (s *Server) answerAddress(token string) string { return s.pagesURL() + "/answers/" + token }
