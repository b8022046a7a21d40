// Package textmodel is the stand-in for a model that works on text: it writes,
// summarises, extracts, classifies and reads pictures. It is deterministic and
// honest: summaries are sentences of the input, classes are found by their
// words, fields by their patterns, and a picture is read from the text that it
// carries. It says so in every answer.
package textmodel

import (
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"regexp"
	"sort"
	"strings"
	"sync"
	"unicode/utf8"

	"youngtrellis/internal/standins"
	"youngtrellis/internal/standins/media"
)

// MaxTokens is the longest input, in tokens of four characters.
const MaxTokens = 8000

// Model is the stand-in.
type Model struct {
	*standins.Stand
	mu    sync.Mutex
	calls [][]string
}

const how = "stand-in: made of what is in the input, by rule"

// New makes it.
func New(o standins.Setup) *Model {
	m := &Model{}
	token := o.Key("text-model")
	used := map[string]any{"input_tokens": 40, "output_tokens": 12}
	service := standins.Build(standins.Spec{Name: "Text model", About: "Writes, summarises, extracts, classifies, reads pictures. Billed by token; at most 8,000 tokens of input.", Check: standins.Header("Authorization", "Bearer ", token), Page: m.page,
		Security: map[string]any{"type": "http", "scheme": "bearer"},
		Ops: []standins.Op{
			{Method: "GET", Path: "/me", ID: "me", Summary: "Whose token this is", Answer: map[string]any{"name": "Ottermere Clayworks", "models": []string{"kiln-small", "kiln-large"}}, Handle: func(*standins.Call) (any, error) {
				return map[string]any{"name": "Ottermere Clayworks", "models": []string{"kiln-small", "kiln-large"}, "tokens_left": 1_000_000}, nil
			}},
			{Method: "GET", Path: "/models", ID: "models", Summary: "List the models", Answer: map[string]any{"models": []any{map[string]any{"id": "kiln-small", "title": "Small, quick"}}}, Handle: func(*standins.Call) (any, error) {
				return map[string]any{"models": []any{map[string]any{"id": "kiln-small", "title": "Small and quick"}, map[string]any{"id": "kiln-large", "title": "Large and thorough"}}}, nil
			}},
			{Method: "POST", Path: "/summarise", ID: "summarise", Summary: "Summarise a text", Body: map[string]any{"model": "kiln-small", "text": "…", "sentences": 2}, Answer: map[string]any{"text": "…", "used": used}, Handle: m.do(summarise)},
			{Method: "POST", Path: "/write", ID: "write", Summary: "Write a text from instructions and material", Body: map[string]any{"model": "kiln-small", "instructions": "…", "text": "…"}, Answer: map[string]any{"text": "…", "used": used}, Handle: m.do(write)},
			{Method: "POST", Path: "/classify", ID: "classify", Summary: "Choose among classes", Body: map[string]any{"text": "…", "classes": []string{"order", "fault"}}, Answer: map[string]any{"class": "fault", "score": 0.8, "used": used}, Handle: m.do(classify)},
			{Method: "POST", Path: "/extract", ID: "extract", Summary: "Extract fields", Body: map[string]any{"text": "…", "fields": []string{"phone", "date"}}, Answer: map[string]any{"fields": map[string]any{"phone": "…"}, "used": used}, Handle: m.do(extract)},
			{Method: "POST", Path: "/read-picture", ID: "read_picture", Summary: "Read what is written in a picture", Kind: "multipart/form-data", Body: map[string]any{"picture": standins.File{}}, Answer: map[string]any{"text": "…", "lines": []any{map[string]any{"text": "…", "doubtful": false}}, "used": used}, Handle: m.picture},
		}})
	m.Stand = &standins.Stand{Service: service, Connector: "text-model", Values: map[string]string{"secret": token}}
	return m
}

type ask struct {
	Model, Text, Instructions string
	Sentences                 int
	Classes, Fields           []string
}

func tokens(s string) int { return (utf8.RuneCountInString(s) + 3) / 4 }

func (m *Model) do(work func(ask) (map[string]any, string)) func(*standins.Call) (any, error) {
	return func(c *standins.Call) (any, error) {
		var in ask
		if err := c.In(&in); err != nil {
			return nil, err
		}
		if strings.TrimSpace(in.Text) == "" {
			return nil, standins.Invalid("text", "there is no text to work on")
		}
		n := tokens(in.Text) + tokens(in.Instructions)
		if n > MaxTokens {
			return nil, standins.Invalid("text", "the input has %d tokens; at most %d are taken", n, MaxTokens)
		}
		out, made := work(in)
		return m.used(c, out, n, tokens(made)), nil
	}
}

func (m *Model) used(c *standins.Call, out map[string]any, in, made int) map[string]any {
	out["used"], out["how"] = map[string]any{"input_tokens": in, "output_tokens": made}, how
	m.mu.Lock()
	defer m.mu.Unlock()
	m.calls = append([][]string{{c.Request.URL.Path, fmt.Sprint(in), fmt.Sprint(made)}}, m.calls...)
	m.calls = m.calls[:min(len(m.calls), 50)]
	return out
}

var sentenceEnd = regexp.MustCompile(`([.!?])\s+`)

func sentences(text string) []string {
	var out []string
	for _, s := range strings.Split(sentenceEnd.ReplaceAllString(strings.Join(strings.Fields(text), " "), "$1\x00"), "\x00") {
		if s != "" {
			out = append(out, s)
		}
	}
	return out
}

// summarise keeps the sentences with the most frequent words, in their order.
func summarise(in ask) (map[string]any, string) {
	n := in.Sentences
	if n <= 0 {
		n = 2
	}
	list := sentences(in.Text)
	count := map[string]int{}
	for _, w := range strings.Fields(strings.ToLower(in.Text)) {
		if w = strings.Trim(w, ".,;:!?"); len(w) > 3 {
			count[w]++
		}
	}
	type scored struct{ at, score int }
	var all []scored
	for i, s := range list {
		score := 0
		for _, w := range strings.Fields(strings.ToLower(s)) {
			score += count[strings.Trim(w, ".,;:!?")]
		}
		all = append(all, scored{i, score})
	}
	sort.SliceStable(all, func(i, j int) bool { return all[i].score > all[j].score })
	all = all[:min(n, len(all))]
	sort.Slice(all, func(i, j int) bool { return all[i].at < all[j].at })
	var kept []string
	for _, s := range all {
		kept = append(kept, list[s.at])
	}
	text := strings.Join(kept, " ")
	return map[string]any{"text": text}, text
}

func write(in ask) (map[string]any, string) {
	_, gist := summarise(ask{Text: in.Text, Sentences: 3})
	text := gist
	if in.Instructions != "" {
		text = strings.TrimRight(firstSentence(in.Instructions), ".!?") + ": " + gist
	}
	return map[string]any{"text": text}, text
}

func firstSentence(s string) string {
	if list := sentences(s); len(list) > 0 {
		return list[0]
	}
	return s
}

func classify(in ask) (map[string]any, string) {
	best, most, total := "", 0, 0
	lower := strings.ToLower(in.Text)
	for _, class := range in.Classes {
		n := 0
		for _, w := range strings.Fields(strings.ToLower(class)) {
			n += strings.Count(lower, w)
		}
		total += n
		if n > most {
			best, most = class, n
		}
	}
	if best == "" {
		return map[string]any{"class": nil, "score": 0.0}, ""
	}
	return map[string]any{"class": best, "score": float64(most) / float64(total)}, best
}

var patterns = map[string]*regexp.Regexp{
	"phone": regexp.MustCompile(`\+[0-9][0-9 ]{8,16}[0-9]`), "email": regexp.MustCompile(`[\w.+-]+@[\w-]+\.[\w.]+`), "date": regexp.MustCompile(`\d{4}-\d{2}-\d{2}|\d{1,2} (?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)[a-z]*(?: \d{4})?`),
	"number": regexp.MustCompile(`\d+(?:[.,]\d+)*`), "cone": regexp.MustCompile(`(?i)cone ([0-9]{1,2})`),
}

func extract(in ask) (map[string]any, string) {
	out := map[string]any{}
	made := ""
	for _, f := range in.Fields {
		out[f] = nil
		p := patterns[strings.ToLower(f)]
		if p == nil { // "Name: value" in the text
			p = regexp.MustCompile(`(?im)^\s*` + regexp.QuoteMeta(f) + `\s*:\s*(.+)$`)
		}
		if m := p.FindStringSubmatch(in.Text); m != nil {
			out[f] = strings.TrimSpace(m[len(m)-1])
			made += m[0]
		}
	}
	return map[string]any{"fields": out}, made
}

func (m *Model) picture(c *standins.Call) (any, error) {
	var b []byte
	if f, _, err := c.Request.FormFile("picture"); err == nil {
		defer f.Close()
		if b, err = io.ReadAll(io.LimitReader(f, 20<<20)); err != nil {
			return nil, err
		}
	} else {
		var in struct{ Picture string }
		if err := c.In(&in); err != nil {
			return nil, standins.Invalid("picture", "send the picture as the part picture")
		}
		if b, err = base64.StdEncoding.DecodeString(in.Picture); err != nil {
			return nil, standins.Invalid("picture", "the picture should be base64")
		}
	}
	text, err := media.Written(b)
	if err != nil {
		return nil, standins.Invalid("picture", "%v", err)
	}
	lines := []any{}
	doubtful := 0
	for _, l := range strings.Split(text, "\n") {
		d := strings.Contains(l, "?")
		if d {
			doubtful++
		}
		lines = append(lines, map[string]any{"text": l, "doubtful": d})
	}
	return m.used(c, map[string]any{"text": text, "lines": lines, "doubtful": doubtful}, 600+len(b)/2000, tokens(text)), nil
}

func (m *Model) page() template.HTML {
	m.mu.Lock()
	defer m.mu.Unlock()
	return "<h2>Asked of late</h2>" + standins.Table([]string{"call", "tokens in", "tokens out"}, m.calls)
}
