// Package speech is the stand-in for speech to text: at once from a part of a
// form, or as a job from a link or a part, with a callback. It bills minutes and
// takes at most a minute at once. The text is what the sound carries.
package speech

import (
	"fmt"
	"html/template"
	"io"
	"math"
	"net/http"
	"strings"
	"sync"
	"time"

	"youngtrellis/internal/standins"
	"youngtrellis/internal/standins/media"
)

// AtOnce is the longest sound that is transcribed at once, in seconds.
const AtOnce = 60

type job struct {
	ID, Text, Failed string
	Seconds          float64
	Ready            time.Time
	callback         string
}

// Speech is the stand-in.
type Speech struct {
	*standins.Stand
	// Takes is how long a job takes.
	Takes time.Duration
	// Fetch gets a link's content; nil for http.Get.
	Fetch func(string) ([]byte, error)

	mu   sync.Mutex
	jobs map[string]*job
	log  [][]string
}

// New makes it.
func New(o standins.Setup) *Speech {
	s := &Speech{Takes: 2 * time.Second, jobs: map[string]*job{}}
	key := o.Key("speech")
	segments := []any{map[string]any{"from": 0.0, "to": 4.5, "text": "…"}}
	service := standins.Build(standins.Spec{Name: "Speech", About: "Speech to text, billed by the minute. At most 60 seconds at once; longer ones as a job.", Check: standins.Header("X-Speech-Key", "", key), Page: s.page,
		Security: map[string]any{"type": "apiKey", "in": "header", "name": "X-Speech-Key"},
		Ops: []standins.Op{
			{Method: "GET", Path: "/account", ID: "account", Summary: "Whose key this is, and what is left", Answer: map[string]any{"name": "Ottermere Clayworks", "minutes_left": 240}, Handle: func(*standins.Call) (any, error) {
				return map[string]any{"name": "Ottermere Clayworks", "minutes_left": 240}, nil
			}},
			{Method: "POST", Path: "/transcripts", ID: "transcribe", Summary: "Transcribe at once", Kind: "multipart/form-data", Body: map[string]any{"sound": standins.File{}, "words": "cone, reduction"}, Answer: map[string]any{"text": "…", "seconds": 14.0, "minutes_billed": 1, "segments": segments}, Handle: s.atOnce},
			{Method: "POST", Path: "/jobs", ID: "begin_job", Summary: "Transcribe as a job, from a link or a part", Kind: "multipart/form-data", Body: map[string]any{"sound": standins.File{}, "link": "…", "callback": "…"}, Answer: map[string]any{"job": "sp_1", "state": "working"}, Handle: s.begin},
			{Method: "GET", Path: "/jobs/:id", ID: "job", Summary: "How a job does", Answer: map[string]any{"job": "sp_1", "state": "done", "text": "…"}, Handle: s.job},
		}})
	s.Stand = &standins.Stand{Service: service, Connector: "speech", Values: map[string]string{"secret": key}}
	return s
}

func (s *Speech) sound(c *standins.Call) ([]byte, error) {
	f, _, err := c.Request.FormFile("sound")
	if err == nil {
		defer f.Close()
		return io.ReadAll(io.LimitReader(f, 100<<20))
	}
	link := c.PostForm("link")
	if link == "" {
		return nil, standins.Invalid("sound", "send the sound as the part sound, or its address as link")
	}
	if s.Fetch != nil {
		return s.Fetch(link)
	}
	res, err := http.Get(link)
	if err != nil || res.StatusCode != 200 {
		return nil, standins.Invalid("link", "the sound cannot be fetched from there")
	}
	defer res.Body.Close()
	return io.ReadAll(io.LimitReader(res.Body, 100<<20))
}

// spell writes the house's words as the list has them.
func spell(text, words string) string {
	for _, w := range strings.Split(words, ",") {
		if w = strings.TrimSpace(w); w == "" {
			continue
		}
		for i := 0; ; {
			at := strings.Index(strings.ToLower(text[i:]), strings.ToLower(w))
			if at < 0 {
				break
			}
			text = text[:i+at] + w + text[i+at+len(w):]
			i += at + len(w)
		}
	}
	return text
}

func segments(text string, seconds float64) []any {
	parts := strings.SplitAfter(text, ". ")
	out := []any{}
	for i, p := range parts {
		out = append(out, map[string]any{"from": math.Round(seconds*float64(i)/float64(len(parts))*10) / 10, "to": math.Round(seconds*float64(i+1)/float64(len(parts))*10) / 10, "text": strings.TrimSpace(p)})
	}
	return out
}

func (s *Speech) note(kind string, seconds float64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.log = append([][]string{{kind, fmt.Sprintf("%.1f", seconds)}}, s.log...)
	s.log = s.log[:min(len(s.log), 50)]
}

func (s *Speech) atOnce(c *standins.Call) (any, error) {
	b, err := s.sound(c)
	if err != nil {
		return nil, err
	}
	text, seconds, err := media.Spoken(b)
	if err != nil {
		return nil, standins.Invalid("sound", "%v", err)
	}
	if seconds > AtOnce {
		return nil, standins.Invalid("sound", "the sound lasts %.0f seconds; at once at most %d are taken, longer ones as a job", seconds, AtOnce)
	}
	s.note("at once", seconds)
	return map[string]any{"text": spell(text, c.PostForm("words")), "seconds": seconds, "minutes_billed": int(math.Ceil(seconds / 60)), "segments": segments(text, seconds), "how": "stand-in: the text that the sound carries"}, nil
}

func (s *Speech) begin(c *standins.Call) (any, error) {
	b, err := s.sound(c)
	if err != nil {
		return nil, err
	}
	j := &job{Ready: time.Now().Add(s.Takes), callback: c.PostForm("callback")}
	if j.Text, j.Seconds, err = media.Spoken(b); err != nil {
		j.Failed = err.Error()
	}
	j.Text = spell(j.Text, c.PostForm("words"))
	s.mu.Lock()
	j.ID = fmt.Sprintf("sp_%04d", len(s.jobs)+1)
	s.jobs[j.ID] = j
	s.mu.Unlock()
	s.note("job", j.Seconds)
	if j.callback != "" {
		time.AfterFunc(s.Takes, func() {
			if res, err := http.Post(j.callback, "application/json", strings.NewReader(fmt.Sprintf(`{"job": %q}`, j.ID))); err == nil {
				_ = res.Body.Close()
			}
		})
	}
	return standins.Made{Body: map[string]any{"job": j.ID, "state": "working"}}, nil
}

func (s *Speech) job(c *standins.Call) (any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	j := s.jobs[c.Param("id")]
	switch {
	case j == nil:
		return nil, standins.Missing("job", c.Param("id"))
	case time.Now().Before(j.Ready):
		return map[string]any{"job": j.ID, "state": "working"}, nil
	case j.Failed != "":
		return map[string]any{"job": j.ID, "state": "failed", "reason": j.Failed}, nil
	}
	return map[string]any{"job": j.ID, "state": "done", "text": j.Text, "seconds": j.Seconds, "minutes_billed": int(math.Ceil(j.Seconds / 60)), "segments": segments(j.Text, j.Seconds)}, nil
}

func (s *Speech) page() template.HTML {
	s.mu.Lock()
	defer s.mu.Unlock()
	return "<h2>Transcribed of late</h2>" + standins.Table([]string{"how", "seconds"}, s.log)
}
