// Package forum is the stand-in for a potters' forum: posts, comments and an
// Atom feed. It signs in by OAuth 2 with a client of one's own, says how long to
// wait only in words, and bans who goes on hammering.
package forum

import (
	"encoding/xml"
	"fmt"
	"html/template"
	"strings"
	"sync"
	"time"

	"youngtrellis/internal/standins"
	"youngtrellis/internal/standins/consent"
)

// Post with its comments.
type Post struct {
	ID       string    `json:"id"`
	Title    string    `json:"title"`
	Text     string    `json:"text"`
	Author   string    `json:"author"`
	At       time.Time `json:"at"`
	Comments []string  `json:"comments"`
}

// Forum is the stand-in.
type Forum struct {
	*standins.Stand
	Consent *consent.Server
	mu      sync.Mutex
	posts   []*Post
	base    string
	times   []time.Time
	refused int
	banned  time.Time
}

// New makes it.
func New(o standins.Setup) (*Forum, error) {
	f := &Forum{}
	saved := o.Saved("forum")
	if !saved.Load(&f.posts) {
		for i, p := range [][3]string{{"Pinholes in a white glaze", "My white glaze shows pinholes on porcelain, cone 9. What helps?", "tide"}, {"Crawling on rims", "The celadon crawls on the rims of my bowls.", "mudlark"}, {"Who has a wheel to lend?", "Ours broke.", "quern"}} {
			f.posts = append(f.posts, &Post{fmt.Sprintf("p%d", 7001+i), p[0], p[1], p[2], o.Day.Add(time.Duration(7+i) * time.Hour), []string{}})
		}
	}
	var err error
	f.Consent, err = consent.New("ottermere-forum", o.Key("forum-client"), "ottermere", saved.Beside("tokens"), consent.Scope{Name: "posts.read", Title: "read posts"}, consent.Scope{Name: "comments.write", Title: "write comments in your name"})
	if err != nil {
		return nil, err
	}
	post := map[string]any{"id": "p7001", "title": "…", "text": "…", "author": "…", "comments": []string{"…"}}
	service := standins.Build(standins.Spec{Name: "Forum", About: "Posts and comments. Ten calls a minute; whoever goes on is banned for an hour.", Check: f.Consent.Check, Page: f.page,
		Security: map[string]any{"type": "oauth2", "flows": map[string]any{"authorizationCode": map[string]any{"authorizationUrl": "/oauth/authorize", "tokenUrl": "/oauth/token", "scopes": map[string]any{"posts.read": "read posts", "comments.write": "write comments"}}}},
		Ops: []standins.Op{
			{Method: "GET", Path: "/me", ID: "me", Summary: "Whose account this is", Answer: map[string]any{"name": "ottermere"}, Handle: func(c *standins.Call) (any, error) {
				return map[string]any{"name": f.Consent.Person, "scopes": c.Scopes}, nil
			}},
			{Method: "GET", Path: "/posts", ID: "list_posts", Summary: "List posts, newest first", Scope: "posts.read", Answer: map[string]any{"posts": []any{post}}, Handle: f.limited(f.list)},
			{Method: "GET", Path: "/posts/:id", ID: "post", Summary: "Read a post with its comments", Scope: "posts.read", Answer: post, Handle: f.limited(f.one)},
			{Method: "POST", Path: "/posts/:id/comments", ID: "comment", Summary: "Comment on a post", Scope: "comments.write", Body: map[string]any{"text": "…"}, Answer: map[string]any{"post": "p7001", "comment": 1, "link": ""}, Handle: f.limited(f.comment)},
		}})
	f.Consent.Mount(service)
	service.Engine.GET("/feed.atom", standins.Plain("application/atom+xml; charset=utf-8", f.feed))
	f.Stand = &standins.Stand{Service: service, Connector: "forum", Values: map[string]string{"client_id": f.Consent.ID, "secret": f.Consent.Secret}, OnBase: func(b string) { f.base = b; f.Consent.SetBase(b) },
		Save: func() error { f.mu.Lock(); defer f.mu.Unlock(); return saved.Save(f.posts) }}
	return f, nil
}

// PerMinute is how many calls the forum takes in a minute.
const PerMinute = 10

func (f *Forum) limited(work func(*standins.Call) (any, error)) func(*standins.Call) (any, error) {
	return func(c *standins.Call) (any, error) {
		f.mu.Lock()
		now := time.Now()
		if now.Before(f.banned) {
			f.mu.Unlock()
			return nil, &standins.No{Status: 403, Message: "you are banned until " + f.banned.UTC().Format("15:04") + " for calling too often"}
		}
		for len(f.times) > 0 && now.Sub(f.times[0]) > time.Minute {
			f.times = f.times[1:]
		}
		if len(f.times) >= PerMinute {
			if f.refused++; f.refused > 5 {
				f.banned, f.refused = now.Add(time.Hour), 0
			}
			wait := int(time.Minute.Seconds()-now.Sub(f.times[0]).Seconds()) + 1
			f.mu.Unlock()
			return nil, &standins.No{Status: 429, Message: fmt.Sprintf("Take a break: you can go on in %d seconds.", wait)}
		}
		f.times, f.refused = append(f.times, now), 0
		f.mu.Unlock()
		return work(c)
	}
}

func (f *Forum) view(p *Post) map[string]any {
	return map[string]any{"id": p.ID, "title": p.Title, "text": p.Text, "author": p.Author, "at": p.At.Format(time.RFC3339), "comments": append([]string{}, p.Comments...), "link": f.base + "/#" + p.ID}
}

func (f *Forum) list(*standins.Call) (any, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := []any{}
	for i := len(f.posts) - 1; i >= 0; i-- {
		out = append(out, f.view(f.posts[i]))
	}
	return map[string]any{"posts": out}, nil
}

func (f *Forum) find(id string) (*Post, error) {
	for _, p := range f.posts {
		if p.ID == id {
			return p, nil
		}
	}
	return nil, standins.Missing("post", id)
}

func (f *Forum) one(c *standins.Call) (any, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	p, err := f.find(c.Param("id"))
	if err != nil {
		return nil, err
	}
	return f.view(p), nil
}

func (f *Forum) comment(c *standins.Call) (any, error) {
	var in struct{ Text string }
	if err := c.In(&in); err != nil {
		return nil, err
	}
	if n := len([]rune(strings.TrimSpace(in.Text))); n < 5 || n > 1500 {
		return nil, standins.Invalid("text", "a comment has 5 to 1500 characters, and this has %d", n)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	p, err := f.find(c.Param("id"))
	if err != nil {
		return nil, err
	}
	p.Comments = append(p.Comments, f.Consent.Person+": "+in.Text)
	return standins.Made{Body: map[string]any{"post": p.ID, "comment": len(p.Comments), "link": f.base + "/#" + p.ID}}, nil
}

// feed is the posts as Atom (RFC 4287).
func (f *Forum) feed() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	text := func(s string) string {
		var b strings.Builder
		_ = xml.EscapeText(&b, []byte(s))
		return b.String()
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<?xml version="1.0" encoding="utf-8"?><feed xmlns="http://www.w3.org/2005/Atom"><title>Potters' forum</title><id>%s/feed.atom</id>`, f.base)
	for i := len(f.posts) - 1; i >= 0; i-- {
		p := f.posts[i]
		fmt.Fprintf(&b, `<entry><id>%s</id><title>%s</title><updated>%s</updated><author><name>%s</name></author><link href="%s/#%s"/><content type="text">%s</content></entry>`, p.ID, text(p.Title), p.At.Format(time.RFC3339), text(p.Author), f.base, p.ID, text(p.Text))
	}
	return b.String() + "</feed>"
}

func (f *Forum) page() template.HTML {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := template.HTML("")
	for _, p := range f.posts {
		rows := [][]string{}
		for _, c := range p.Comments {
			rows = append(rows, []string{c})
		}
		out += template.HTML(fmt.Sprintf("<h2 id=%q>%s</h2><p>%s</p>", p.ID, template.HTMLEscapeString(p.Title), template.HTMLEscapeString(p.Text))) + standins.Table([]string{"comments"}, rows)
	}
	return out + `<p class="note">As a feed: <a href="/feed.atom">/feed.atom</a></p>`
}
