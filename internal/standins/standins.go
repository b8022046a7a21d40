// Package standins simulates the services of Ottermere Clayworks for the demo
// and the tests. They speak over loopback like the real thing: they check
// credentials, honour Idempotency-Key, publish an OpenAPI document, have a
// page that shows what arrived, and can be told to misbehave.
package standins

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

// Faults that a stand-in can be told to show. The zero value is well-behaved.
type Faults struct {
	Latency    int  `json:"latency_ms"`   // before each answer
	ErrorEvery int  `json:"error_every"`  // each n-th call answers 500
	CutEvery   int  `json:"cut_every"`    // each n-th call takes effect, and its connection is cut
	CutWrites  int  `json:"cut_writes"`   // so do the first n that do not only read
	Malformed  bool `json:"malformed"`    // answers JSON that ends early
	RefuseKeys bool `json:"refuse_keys"`  // answers 401 to every key
	Wait       int  `json:"wait_s"`       // answers 429 with Retry-After
	Forgetful  bool `json:"forgetful"`    // takes no note of Idempotency-Key
	WaitInText bool `json:"wait_in_text"` // says how long to wait in its words only
	Inside     bool `json:"inside"`       // answers 200 with a failure inside
	Revoked    bool `json:"revoked"`      // consent is withdrawn
	Issuer     bool `json:"issuer"`       // the consent page names another server
}

// Service is the frame that every stand-in stands in.
type Service struct {
	Name   string
	Engine *gin.Engine
	API    *gin.RouterGroup // signed-in calls

	mu       sync.Mutex
	faults   Faults
	calls    int
	writes   int // of them that do not only read
	arrivals []Arrival
	how      []How
	answers  map[string]*answer // by Idempotency-Key
	arrived  map[string]int     // write calls by Idempotency-Key
	clashes  int                // calls that came with a known key and other content
	effects  int                // write calls with a key that were carried out
}

// answer is what a key was answered, or will be.
type answer struct {
	content [sha256.Size]byte
	done    chan struct{} // closed once it is there
	status  int           // 0: it came to nothing, and may be asked again
	body    []byte
}

// SignIn tells whether a request proves itself, and how it should.
type SignIn func(*http.Request) (ok bool, hint string)

// New makes the frame. Page gives the body of the human page.
func New(name string, signIn SignIn, page func() template.HTML, openapi map[string]any) *Service {
	gin.SetMode(gin.ReleaseMode)
	s := &Service{Name: name, Engine: gin.New(), answers: map[string]*answer{}, arrived: map[string]int{}}
	s.Engine.Use(gin.Recovery())
	s.Engine.GET("/", func(c *gin.Context) {
		var b bytes.Buffer
		if err := frame.Execute(&b, map[string]any{"Name": name, "Body": page(), "How": s.connecting(), "Arrivals": s.Arrivals(), "Faults": s.current()}); err != nil {
			c.String(http.StatusInternalServerError, err.Error())
			return
		}
		c.Header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; base-uri 'none'")
		c.Data(http.StatusOK, "text/html; charset=utf-8", b.Bytes())
	})
	s.Engine.GET("/openapi.json", func(c *gin.Context) { c.JSON(http.StatusOK, openapi) })
	s.Engine.PUT("/faults", func(c *gin.Context) {
		var f Faults
		if err := c.BindJSON(&f); err != nil {
			return
		}
		s.SetFaults(f)
		c.JSON(http.StatusOK, f)
	})
	s.Engine.POST("/misbehave", s.chosenFault)
	s.API = s.Engine.Group("/v1", s.Misbehave, func(c *gin.Context) {
		ok, hint := signIn(c.Request)
		if s.current().RefuseKeys {
			ok, hint = false, "this key was withdrawn"
		}
		if !ok {
			Refuse(c, http.StatusUnauthorized, "", hint)
			c.Abort()
		}
	}, s.once)
	return s
}

// SetFaults tells the stand-in how to misbehave from now on.
func (s *Service) SetFaults(f Faults) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.faults, s.calls, s.writes = f, 0, 0
}

func (s *Service) current() Faults {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.faults
}

// Calls counts the calls since the faults were last set.
func (s *Service) Calls() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.calls
}

// Repeats counts the write calls that arrived more than once under one key.
func (s *Service) Repeats() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := 0
	for _, times := range s.arrived {
		n += times - 1
	}
	return n
}

// Effects counts the write calls with a key that were carried out.
func (s *Service) Effects() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.effects
}

// Clashes counts the calls that came with a known key and other content.
func (s *Service) Clashes() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.clashes
}

// Call counts a call, and tells the faults in force and whether its connection
// should be cut once it has taken effect.
func (s *Service) Call(write bool) (f Faults, n int, cut bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.calls++
	if write {
		s.writes++
	}
	f, n = s.faults, s.calls
	return f, n, f.CutEvery > 0 && n%f.CutEvery == 0 || write && s.writes <= f.CutWrites
}

// reads are methods that change nothing (RFC 9110, 9.2.1; RFC 4918, 9.1).
var reads = []string{http.MethodGet, http.MethodHead, http.MethodOptions, "PROPFIND"}

// Misbehave shows the faults that are in force.
func (s *Service) Misbehave(c *gin.Context) {
	f, n, cut := s.Call(!slices.Contains(reads, c.Request.Method))
	if f.Latency > 0 {
		select {
		case <-time.After(time.Duration(f.Latency) * time.Millisecond):
		case <-c.Request.Context().Done():
		}
	}
	switch {
	case f.Wait > 0 && f.WaitInText:
		Refuse(c, http.StatusTooManyRequests, "", fmt.Sprintf("You are calling too often. Try again in %d minutes.", (f.Wait+59)/60))
		c.Abort()
	case f.Wait > 0:
		c.Header("Retry-After", fmt.Sprint(f.Wait))
		Refuse(c, http.StatusTooManyRequests, "", "too many calls")
		c.Abort()
	case f.Inside:
		c.JSON(http.StatusOK, gin.H{"ok": false, "message": "the shelf is being moved; nothing was done"})
		c.Abort()
	case f.ErrorEvery > 0 && n%f.ErrorEvery == 0:
		Refuse(c, http.StatusInternalServerError, "", "something broke here")
		c.Abort()
	case f.Malformed:
		c.Data(http.StatusOK, "application/json", []byte(`{"rows": [{"id": "r1", `))
		c.Abort()
	case cut:
		held := &holding{ResponseWriter: c.Writer}
		c.Writer = held
		c.Next()
		if conn, _, err := held.Hijack(); err == nil {
			_ = conn.Close()
		}
	}
}

// holding keeps an answer back.
type holding struct {
	gin.ResponseWriter
	status int
	body   bytes.Buffer
}

func (h *holding) WriteHeader(status int)            { h.status = status }
func (h *holding) WriteHeaderNow()                   {}
func (h *holding) Write(b []byte) (int, error)       { return h.body.Write(b) }
func (h *holding) WriteString(s string) (int, error) { return h.body.WriteString(s) }
func (h *holding) Written() bool                     { return false }

// once answers a repeat of a write with what the first one was answered. A
// repeat that comes while the first is under way waits for it; a key that comes
// back with other content is refused.
func (s *Service) once(c *gin.Context) {
	key := c.GetHeader("Idempotency-Key")
	if key == "" || c.Request.Method == http.MethodGet {
		return
	}
	text, err := io.ReadAll(io.LimitReader(c.Request.Body, 64<<20))
	if err != nil { // it was cut before it was whole
		c.Abort()
		return
	}
	c.Request.Body = io.NopCloser(bytes.NewReader(text))
	own := &answer{content: sha256.Sum256(append([]byte(c.Request.Method+" "+c.Request.URL.Path+" "), text...)), done: make(chan struct{})}
	s.mu.Lock()
	s.arrived[key]++
	known, forgetful := s.answers[key], s.faults.Forgetful
	if known == nil || forgetful {
		s.answers[key] = own
	} else if known.content != own.content {
		s.clashes++
	}
	s.mu.Unlock()
	if known != nil && !forgetful {
		if known.content != own.content {
			Refuse(c, http.StatusUnprocessableEntity, "", "this key came before with other content")
			c.Abort()
			return
		}
		<-known.done
		if known.status != 0 {
			c.Data(known.status, "application/json", known.body)
			c.Abort()
			return
		}
		s.mu.Lock()
		s.answers[key] = own
		s.mu.Unlock()
	}
	held := &holding{ResponseWriter: c.Writer, status: http.StatusOK}
	c.Writer = held
	defer close(own.done)
	c.Next()
	c.Writer = held.ResponseWriter
	if held.status < 300 { // what was refused had no effect, and may be asked again
		own.status, own.body = held.status, held.body.Bytes()
	}
	s.mu.Lock()
	if own.status != 0 {
		s.effects++
	} else if s.answers[key] == own {
		delete(s.answers, key)
	}
	s.mu.Unlock()
	c.Data(held.status, "application/json", held.body.Bytes())
}

// Refuse answers with an error in the form that both tables and contacts use.
func Refuse(c *gin.Context, status int, field, message string) {
	c.JSON(status, gin.H{"message": message, "error": gin.H{"message": message, "field": field}})
}

// Saved keeps a stand-in's state in a file, so that the demo goes on with the
// same data. An empty path keeps nothing.
type Saved struct{ Path string }

// Beside gives the path of another file next to the state's, or "" where
// nothing is kept.
func (s Saved) Beside(suffix string) string {
	if s.Path == "" {
		return ""
	}
	_ = os.MkdirAll(filepath.Dir(s.Path), 0o700)
	return strings.TrimSuffix(s.Path, ".json") + "-" + suffix
}

// Load fills state from the file; it tells whether there was one.
func (s Saved) Load(state any) bool {
	if s.Path == "" {
		return false
	}
	b, err := os.ReadFile(s.Path)
	return err == nil && json.Unmarshal(b, state) == nil
}

// Save writes the state.
func (s Saved) Save(state any) error {
	if s.Path == "" {
		return nil
	}
	b, err := json.Marshal(state)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(s.Path), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(s.Path+".new", b, 0o600); err != nil {
		return err
	}
	return os.Rename(s.Path+".new", s.Path)
}

var frame = template.Must(template.New("page").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>{{.Name}}, a stand-in</title>
<style>body{font:14px/1.5 system-ui,sans-serif;margin:2rem auto;max-width:60rem;padding:0 1rem;color:#23251f;background:#fbfaf6}
code{background:#eef6f0;padding:0 .3rem;word-break:break-all}table{border-collapse:collapse;margin:.5rem 0 1.5rem;background:#fff}td,th{border:1px solid #e6e2d8;padding:.25rem .6rem;text-align:left}
h1{font-size:1.4rem}h2{font-size:1.1rem;margin-bottom:.2rem}.note{color:#5d6057}</style>
<h1>{{.Name}}</h1><p class="note">A stand-in at Ottermere Clayworks. What arrives here leaves the building in no other way. <a href="/openapi.json">API description</a></p>
{{if .How}}<h2>To connect</h2><table>{{range .How}}<tr><th>{{.What}}</th><td><code>{{.Value}}</code>{{if .Note}} <span class="note">{{.Note}}</span>{{end}}</td></tr>{{end}}</table>{{end}}
{{.Body}}
{{if .Arrivals}}<h2>Calls that changed something</h2><table><tr><th>at</th><th>call</th><th>answered</th><th>body</th></tr>{{range .Arrivals}}<tr><td>{{.At}}</td><td>{{.Call}}</td><td>{{.Status}}</td><td>{{.Body}}</td></tr>{{end}}</table>{{end}}
<h2>Misbehave</h2><form method="post" action="/misbehave"><select name="fault"><option value="">behave well</option><option value="slow">answer slowly</option><option value="errors">break every third call</option><option value="cut">cut every third connection</option><option value="malformed">send JSON that ends early</option><option value="refuse">refuse every key</option><option value="wait">ask to wait a minute</option><option value="wait_text">ask to wait eleven minutes, in words only</option><option value="inside">fail inside a 200</option><option value="revoked">withdraw consent</option></select> <button>From now on</button></form></html>`))

// Table renders rows for a human page.
func Table(heads []string, rows [][]string) template.HTML {
	var b bytes.Buffer
	_ = table.Execute(&b, map[string]any{"Heads": heads, "Rows": rows})
	return template.HTML(b.String()) // made by html/template
}

var table = template.Must(template.New("table").Parse(`<table><tr>{{range .Heads}}<th>{{.}}</th>{{end}}</tr>{{range .Rows}}<tr>{{range .}}<td>{{.}}</td>{{end}}</tr>{{else}}<tr><td class="note">Nothing yet.</td></tr>{{end}}</table>`))
