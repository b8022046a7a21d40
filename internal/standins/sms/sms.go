// Package sms is the stand-in for text messages: short sender names, segments by
// alphabet, a price per segment, delivery reports that come later.
package sms

import (
	"fmt"
	"html/template"
	"regexp"
	"strings"
	"sync"
	"time"
	"unicode/utf16"

	"youngtrellis/internal/standins"
)

// Message that was sent.
type Message struct {
	ID       string    `json:"id"`
	From     string    `json:"from"`
	To       string    `json:"to"`
	Text     string    `json:"text"`
	Segments int       `json:"segments"`
	Sent     time.Time `json:"sent"`
}

type state struct {
	Messages []Message `json:"messages"`
	Left     int       `json:"left"`
}

// SMS is the stand-in.
type SMS struct {
	*standins.Stand
	mu    sync.Mutex
	state state
}

const plain = "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà"

// Segments counts as the networks do (3GPP 23.038): 160 septets, 153 each in
// several; 70 and 67 where a character is not in the alphabet.
func Segments(text string) int {
	n, wide := 0, false
	for _, r := range text {
		switch {
		case strings.ContainsRune(plain, r):
			n++
		case strings.ContainsRune("^{}\\[~]|€", r):
			n += 2
		default:
			wide = true
		}
	}
	one, more := 160, 153
	if wide {
		n, one, more = len(utf16.Encode([]rune(text))), 70, 67
	}
	if n <= one {
		return 1
	}
	return (n + more - 1) / more
}

var number = regexp.MustCompile(`^\+[1-9][0-9]{9,14}$`)

// New makes it.
func New(o standins.Setup) *SMS {
	s := &SMS{}
	saved := o.Saved("sms")
	if !saved.Load(&s.state) {
		s.state = state{Left: 500, Messages: []Message{}}
	}
	token := o.Key("sms")
	service := standins.Build(standins.Spec{Name: "Text messages", About: "Sends text messages. Each segment costs 0.06.", Check: standins.Header("Authorization", "Token ", token), Page: s.page,
		Security: map[string]any{"type": "apiKey", "in": "header", "name": "Authorization"},
		Ops: []standins.Op{
			{Method: "GET", Path: "/balance", ID: "balance", Summary: "Whose account this is, and what is left", Answer: map[string]any{"name": "Ottermere hall phone", "segments_left": 500}, Handle: func(*standins.Call) (any, error) {
				s.mu.Lock()
				defer s.mu.Unlock()
				return map[string]any{"name": "Ottermere hall phone", "segments_left": s.state.Left}, nil
			}},
			{Method: "POST", Path: "/messages", ID: "queue_text", Summary: "Send a text message", Body: map[string]any{"from": "Ottermere", "to": "+447700900123", "text": "…"}, Answer: map[string]any{"id": "sms_1", "segments": 1, "price": 0.06, "segments_left": 499}, Handle: s.send},
			{Method: "GET", Path: "/messages/:id", ID: "message", Summary: "What became of a message", Answer: map[string]any{"id": "sms_1", "status": "delivered"}, Handle: s.one},
			{Method: "GET", Path: "/messages", ID: "list_messages", Summary: "List the messages", Query: []string{"limit", "offset"}, Answer: map[string]any{"messages": []any{map[string]any{"id": "sms_1"}}, "total": 1}, Handle: s.list},
		}})
	s.Stand = &standins.Stand{Service: service, Connector: "sms", Values: map[string]string{"secret": token}, Save: func() error { s.mu.Lock(); defer s.mu.Unlock(); return saved.Save(s.state) }}
	return s
}

func (s *SMS) send(c *standins.Call) (any, error) {
	var in Message
	if err := c.In(&in); err != nil {
		return nil, err
	}
	switch {
	case len(in.From) == 0 || len(in.From) > 11:
		return nil, standins.Invalid("from", "a sender has 1 to 11 characters, and %q has %d", in.From, len(in.From))
	case !number.MatchString(in.To):
		return nil, standins.Invalid("to", "“%s” is not a number in the form +447700900123", in.To)
	case in.Text == "":
		return nil, standins.Invalid("text", "there is no text")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	m := Message{fmt.Sprintf("sms_%05d", len(s.state.Messages)+1), in.From, in.To, in.Text, Segments(in.Text), time.Now().UTC()}
	if m.Segments > s.state.Left {
		return nil, &standins.No{Status: 402, Message: "there is nothing left on this account"}
	}
	s.state.Left -= m.Segments
	s.state.Messages = append(s.state.Messages, m)
	return standins.Made{Body: map[string]any{"id": m.ID, "segments": m.Segments, "price": float64(m.Segments*6) / 100, "segments_left": s.state.Left, "status": "accepted"}}, nil
}

func report(m Message) map[string]any {
	status := "accepted"
	if time.Since(m.Sent) > 2*time.Second {
		status = "delivered"
	}
	return map[string]any{"id": m.ID, "from": m.From, "to": m.To, "text": m.Text, "segments": m.Segments, "status": status, "sent": m.Sent.Format(time.RFC3339)}
}

func (s *SMS) one(c *standins.Call) (any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range s.state.Messages {
		if m.ID == c.Param("id") {
			return report(m), nil
		}
	}
	return nil, standins.Missing("message", c.Param("id"))
}

func (s *SMS) list(c *standins.Call) (any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	part, offset, _ := standins.Page(c, s.state.Messages, 50)
	out := []any{}
	for _, m := range part {
		out = append(out, report(m))
	}
	return map[string]any{"messages": out, "total": len(s.state.Messages), "offset": offset}, nil
}

// Messages lists what was sent.
func (s *SMS) Messages() []Message {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Message{}, s.state.Messages...)
}

func (s *SMS) page() template.HTML {
	rows := [][]string{}
	for _, m := range s.Messages() {
		rows = append(rows, []string{m.ID, m.From, m.To, m.Text, fmt.Sprint(m.Segments)})
	}
	return "<h2>Sent</h2>" + standins.Table([]string{"id", "from", "to", "text", "segments"}, rows)
}
