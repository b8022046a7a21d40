// Package teamchat is the stand-in for a team's chat: channels, messages made
// of blocks, and conversations with customers. It signs in by OAuth 2 and calls
// webhooks signed by HMAC.
package teamchat

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"youngtrellis/internal/standins"
	"youngtrellis/internal/standins/consent"
)

// Message in a channel or conversation.
type Message struct {
	ID   string `json:"id"`
	From string `json:"from"`
	Text string `json:"text"`
	At   string `json:"at"`
}

type room struct {
	ID       string    `json:"id"`
	Title    string    `json:"title"`
	Customer bool      `json:"customer"`
	Messages []Message `json:"messages"`
}

type state struct {
	Rooms []*room `json:"rooms"`
	Next  int     `json:"next"`
	Hooks []hook  `json:"hooks"`
}

type hook struct {
	ID      string `json:"id"`
	Address string `json:"address"`
	Secret  string `json:"secret"`
}

// MaxText is the longest message, in characters.
const MaxText = 3000

// Ids that the demo names.
const (
	HallChannel  = "ch_hall29"
	Conversation = "cv_hollowbank1"
)

// Chat is the stand-in.
type Chat struct {
	*standins.Stand
	Consent *consent.Server

	mu    sync.Mutex
	state state
	base  string
}

// New makes it with Ottermere's channels.
func New(o standins.Setup) (*Chat, error) {
	t := &Chat{}
	saved := o.Saved("team-chat")
	if !saved.Load(&t.state) {
		day := o.Day.Format("2006-01-02")
		t.state = state{Next: 500, Rooms: []*room{
			{ID: HallChannel, Title: "Kiln hall"}, {ID: "ch_front7", Title: "Front desk"},
			{ID: Conversation, Title: "Hollowbank Pottery", Customer: true, Messages: []Message{{"m_1", "customer", "Hello, is the celadon food safe?", day + "T08:58:00Z"}, {"m_2", "us", "It is, up to cone 9. Shall I send the certificate?", day + "T09:01:00Z"}, {"m_3", "customer", "Yes please. And when is the next cone 9 firing?", day + "T09:02:00Z"}}},
			{ID: "cv_quernlane2", Title: "Quern Lane", Customer: true, Messages: []Message{{"m_4", "customer", "Our tiles came out with pinholes. What can we do?", day + "T09:10:00Z"}}},
		}}
	}
	var err error
	t.Consent, err = consent.New("ottermere-chat", o.Key("team-chat-client"), "Ottermere Clayworks, front desk", saved.Beside("tokens"),
		consent.Scope{Name: "chat.read", Title: "read channels and conversations"}, consent.Scope{Name: "chat.write", Title: "post messages and replies"})
	if err != nil {
		return nil, err
	}
	message := map[string]any{"id": "m_9", "room": HallChannel, "at": "2026-11-23T09:00:00Z", "link": ""}
	service := standins.Build(standins.Spec{Name: "Team chat", About: "Channels, messages, and conversations with customers.", Check: t.Consent.Check, Page: t.page,
		Security: map[string]any{"type": "oauth2", "flows": map[string]any{"authorizationCode": map[string]any{"authorizationUrl": "/oauth/authorize", "tokenUrl": "/oauth/token", "scopes": map[string]any{"chat.read": "read", "chat.write": "write"}}}},
		Ops: []standins.Op{
			{Method: "GET", Path: "/me", ID: "me", Summary: "Whose account this is", Answer: map[string]any{"name": "Front desk"}, Handle: func(c *standins.Call) (any, error) {
				return map[string]any{"name": t.Consent.Person, "scopes": c.Scopes}, nil
			}},
			{Method: "GET", Path: "/channels", ID: "list_channels", Summary: "List the channels", Scope: "chat.read", Answer: map[string]any{"channels": []any{map[string]any{"id": HallChannel, "title": "Kiln hall"}}}, Handle: t.rooms(false, "channels")},
			{Method: "POST", Path: "/channels/:id/messages", ID: "post_message", Summary: "Post a message of text or blocks", Scope: "chat.write", Body: map[string]any{"text": "…", "blocks": []any{map[string]any{"kind": "text", "text": "…"}}}, Answer: message, Handle: t.post(false)},
			{Method: "GET", Path: "/conversations", ID: "list_conversations", Summary: "List conversations with customers", Scope: "chat.read", Query: []string{"waiting"}, Answer: map[string]any{"conversations": []any{map[string]any{"id": Conversation, "title": "Hollowbank Pottery"}}}, Handle: t.rooms(true, "conversations")},
			{Method: "GET", Path: "/conversations/:id/messages", ID: "read_conversation", Summary: "Read the messages of a conversation", Scope: "chat.read", Answer: map[string]any{"messages": []any{map[string]any{"id": "m_1", "from": "customer", "text": "…", "at": ""}}}, Handle: t.read},
			{Method: "POST", Path: "/conversations/:id/reply", ID: "reply", Summary: "Reply to a customer", Scope: "chat.write", Body: map[string]any{"text": "…"}, Answer: message, Handle: t.post(true)},
			{Method: "POST", Path: "/hooks", ID: "subscribe", Summary: "Have new customers' messages sent to an address", Scope: "chat.read", Body: map[string]any{"address": "https://…", "secret": "…"}, Answer: map[string]any{"id": "hk_1"}, Handle: t.subscribe},
			{Method: "DELETE", Path: "/hooks/:id", ID: "unsubscribe", Summary: "Stop sending", Scope: "chat.read", Handle: t.unsubscribe},
		}})
	t.Consent.Mount(service)
	t.Stand = &standins.Stand{Service: service, Connector: "team-chat", Values: map[string]string{"client_id": t.Consent.ID, "secret": t.Consent.Secret},
		OnBase: func(base string) { t.base = base; t.Consent.SetBase(base) }, Save: func() error { t.mu.Lock(); defer t.mu.Unlock(); return saved.Save(t.state) }}
	return t, nil
}

func (t *Chat) find(id string, customer bool) (*room, error) {
	for _, r := range t.state.Rooms {
		if r.ID == id && r.Customer == customer {
			return r, nil
		}
	}
	if customer {
		return nil, standins.Missing("conversation", id)
	}
	return nil, standins.Missing("channel", id)
}

func (t *Chat) rooms(customer bool, name string) func(*standins.Call) (any, error) {
	return func(c *standins.Call) (any, error) {
		t.mu.Lock()
		defer t.mu.Unlock()
		out := []any{}
		for _, r := range t.state.Rooms {
			if r.Customer != customer {
				continue
			}
			x := map[string]any{"id": r.ID, "title": r.Title}
			if n := len(r.Messages); n > 0 {
				x["last"], x["waiting"] = r.Messages[n-1], r.Messages[n-1].From == "customer"
			}
			if c.Query("waiting") == "" || fmt.Sprint(x["waiting"]) == c.Query("waiting") {
				out = append(out, x)
			}
		}
		return map[string]any{name: out}, nil
	}
}

func (t *Chat) read(c *standins.Call) (any, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	r, err := t.find(c.Param("id"), true)
	if err != nil {
		return nil, err
	}
	return map[string]any{"id": r.ID, "title": r.Title, "messages": append([]Message{}, r.Messages...)}, nil
}

type block struct{ Kind, Text, Label, Address string }

func (t *Chat) post(customer bool) func(*standins.Call) (any, error) {
	return func(c *standins.Call) (any, error) {
		var in struct {
			Text   string
			Blocks []block
		}
		if err := c.In(&in); err != nil {
			return nil, err
		}
		text := in.Text
		for i, b := range in.Blocks {
			switch b.Kind {
			case "text":
				text += "\n" + b.Text
			case "button":
				if b.Label == "" || !strings.HasPrefix(b.Address, "http") {
					return nil, standins.Invalid(fmt.Sprintf("blocks.%d", i), "a button has a label and a web address")
				}
				text += fmt.Sprintf("\n[%s] %s", b.Label, b.Address)
			default:
				return nil, standins.Invalid(fmt.Sprintf("blocks.%d", i), "a block is text or button, not %q", b.Kind)
			}
		}
		text = strings.TrimSpace(text)
		if text == "" {
			return nil, standins.Invalid("text", "an empty message cannot be posted")
		}
		if utf8.RuneCountInString(text) > MaxText {
			return nil, standins.Invalid("text", "a message has at most %d characters", MaxText)
		}
		t.mu.Lock()
		defer t.mu.Unlock()
		r, err := t.find(c.Param("id"), customer)
		if err != nil {
			return nil, err
		}
		t.state.Next++
		m := Message{fmt.Sprintf("m_%d", t.state.Next), "us", text, time.Now().UTC().Format(time.RFC3339)}
		r.Messages = append(r.Messages, m)
		return standins.Made{Body: map[string]any{"id": m.ID, "room": r.ID, "at": m.At, "link": t.base + "/#" + r.ID}}, nil
	}
}

func (t *Chat) subscribe(c *standins.Call) (any, error) {
	var in hook
	if err := c.In(&in); err != nil {
		return nil, err
	}
	if !strings.HasPrefix(in.Address, "http") {
		return nil, standins.Invalid("address", "the address should begin with http")
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.state.Next++
	in.ID = fmt.Sprintf("hk_%d", t.state.Next)
	t.state.Hooks = append(t.state.Hooks, in)
	return standins.Made{Body: map[string]any{"id": in.ID}}, nil
}

func (t *Chat) unsubscribe(c *standins.Call) (any, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i, h := range t.state.Hooks {
		if h.ID == c.Param("id") {
			t.state.Hooks = append(t.state.Hooks[:i], t.state.Hooks[i+1:]...)
			return nil, nil
		}
	}
	return nil, standins.Missing("hook", c.Param("id"))
}

// Tell lets an address hear of what customers write, signed by a secret, in place of
// whatever was told before.
func (t *Chat) Tell(address, secret string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.state.Hooks = []hook{{"hk_ours", address, secret}}
}

// Sign gives the headers of a signed delivery: HMAC-SHA256 over time and body.
func Sign(secret string, body []byte, at time.Time) http.Header {
	stamp := strconv.FormatInt(at.Unix(), 10)
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write([]byte(stamp + "." + string(body)))
	return http.Header{"X-Chat-Time": {stamp}, "X-Chat-Signature": {"v1=" + hex.EncodeToString(mac.Sum(nil))}, "Content-Type": {"application/json"}}
}

// Say lets a customer write, and tells whoever subscribed.
func (t *Chat) Say(conversation, text string) error {
	t.mu.Lock()
	r, err := t.find(conversation, true)
	if err != nil {
		t.mu.Unlock()
		return err
	}
	t.state.Next++
	m := Message{fmt.Sprintf("m_%d", t.state.Next), "customer", text, time.Now().UTC().Format(time.RFC3339)}
	r.Messages = append(r.Messages, m)
	hooks := append([]hook{}, t.state.Hooks...)
	t.mu.Unlock()
	body, _ := json.Marshal(map[string]any{"conversation": conversation, "message": m})
	for _, h := range hooks {
		req, err := http.NewRequest(http.MethodPost, h.Address, bytes.NewReader(body))
		if err != nil {
			return err
		}
		req.Header = Sign(h.Secret, body, time.Now())
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		_ = res.Body.Close()
	}
	return nil
}

// Messages lists what was said in a room.
func (t *Chat) Messages(id string) []Message {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, r := range t.state.Rooms {
		if r.ID == id {
			return append([]Message{}, r.Messages...)
		}
	}
	return nil
}

func (t *Chat) page() template.HTML {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := template.HTML("")
	for _, r := range t.state.Rooms {
		rows := [][]string{}
		for _, m := range r.Messages {
			rows = append(rows, []string{m.At, m.From, m.Text})
		}
		out += template.HTML(fmt.Sprintf("<h2 id=%q>%s</h2>", r.ID, template.HTMLEscapeString(r.Title))) + standins.Table([]string{"at", "from", "text"}, rows)
	}
	return out
}
