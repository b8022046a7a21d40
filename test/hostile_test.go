package test

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

// hostileBodies is how many bodies are sent that mean no good.
const hostileBodies = 10_000

// hostile makes bodies that mean no good, each of its number.
type hostile struct{ *rand.Rand }

func (h hostile) of(list ...string) string { return list[h.IntN(len(list))] }

var (
	hostileTypes = []string{"application/json", "application/json; charset=utf-16", "application/xml", "text/xml; charset=utf-7", "text/plain; charset=shift_jis", "application/x-www-form-urlencoded", "multipart/form-data", "multipart/form-data; boundary=", "multipart/form-data; boundary=edge; boundary=other", "multipart/mixed; boundary=edge", "text/html", "image/svg+xml", "application/octet-stream", "application/vnd.x+json; a=\"", "", "\x00", "a/b/c", ";", "application/json, text/plain", "message/rfc822"}
	hostileNames = []string{"../../etc/passwd", `..\..\kiln.exe`, "a\x00b", "\u202egnp.exe", strings.Repeat("n", 5000), "", ".", "con", "<img src=x onerror=alert(1)>", "a\r\nSet-Cookie: a=b", "{{7*7}}", "=cmd|' /C calc'!A0", "\xff\xfe", "file;filename=x", "__proto__"}
	hostileTexts = []string{`{"a":1}`, `{"a":`, `[]`, `[[]]`, `null`, `1e999999`, `"`, strings.Repeat("[", 5000), strings.Repeat(`{"a":`, 3000), `{"a":"\u0000"}`, `{"a":"\ud800"}`, "\ufeff{}", "\xff\xfe{\x00}\x00", `<a/>`, `<a b="1" b="2"/>`, `<!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/passwd">]><a>&x;</a>`, `<!DOCTYPE a [<!ENTITY x "y"><!ENTITY z "&x;&x;&x;">]><a>&z;</a>`, strings.Repeat("<a>", 2000), `<a xmlns:b="c"><b:a/></a>`, `<?xml version="1.0" encoding="nothing"?><a/>`, `a=1&a=2&%zz`, "a=%00", "<script>alert(1)</script>", "--edge\r\n\r\n--edge--", "hello", "\x00\x01\x02", ""}
)

func (h hostile) text() string {
	text := hostileTexts[h.IntN(len(hostileTexts))]
	for range h.IntN(3) { // spoiled somewhere
		if b := []byte(text); len(b) > 0 {
			b[h.IntN(len(b))] = byte(h.IntN(256))
			text = string(b)
		}
	}
	return text
}

// parts is a form whose parts are what they should not be.
func (h hostile) parts() (kind string, body []byte) {
	var out bytes.Buffer
	w := multipart.NewWriter(&out)
	for range h.IntN(6) {
		head := textproto.MIMEHeader{}
		name := strings.NewReplacer("\r", "", "\n", "").Replace(hostileNames[h.IntN(len(hostileNames))])
		disposition := fmt.Sprintf(`form-data; name="%s"`, strings.ReplaceAll(name, `"`, `\"`))
		if h.IntN(2) == 0 {
			disposition += fmt.Sprintf(`; filename="%s"`, strings.NewReplacer("\r", "", "\n", "", `"`, `\"`).Replace(hostileNames[h.IntN(len(hostileNames))]))
		}
		head.Set("Content-Disposition", h.of(disposition, disposition, disposition, "attachment", "form-data", ""))
		if h.IntN(2) == 0 {
			head.Set("Content-Type", h.of(hostileTypes...))
		}
		if p, err := w.CreatePart(head); err == nil {
			_, _ = io.WriteString(p, h.text())
		}
	}
	if h.IntN(4) > 0 {
		_ = w.Close()
	}
	return w.FormDataContentType(), out.Bytes()
}

// body is one of them, with its headers.
func (h hostile) body() (http.Header, []byte) {
	kind, body := h.of(hostileTypes...), []byte(h.text())
	if h.IntN(3) == 0 {
		kind, body = h.parts()
	}
	header := http.Header{"Content-Type": {strings.ReplaceAll(kind, "\x00", "")}}
	switch h.IntN(8) {
	case 0:
		var packed bytes.Buffer
		z := gzip.NewWriter(&packed)
		if h.IntN(50) == 0 {
			body = bytes.Repeat(body, 1+(8<<20)/max(1, len(body))) // it unpacks to much more than it is
		}
		_, _ = z.Write(body)
		_ = z.Close()
		header.Set("Content-Encoding", "gzip")
		body = packed.Bytes()[:packed.Len()-h.IntN(2)*h.IntN(9)]
	case 1:
		var packed bytes.Buffer
		z := zlib.NewWriter(&packed)
		_, _ = z.Write(body)
		_ = z.Close()
		header.Set("Content-Encoding", "deflate")
		body = packed.Bytes()
	case 2:
		header.Set("Content-Encoding", h.of("br", "gzip", "deflate, gzip", "identity", "zstd"))
	}
	return header, body
}

// tellHook calls an address until it is not told to come later.
func tellHook(ctx context.Context, client *http.Client, address string, header http.Header, body []byte) (*http.Response, []byte, error) {
	for {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
		if err != nil {
			return nil, nil, err
		}
		req.Header = header
		res, err := client.Do(req)
		if err != nil {
			return nil, nil, err
		}
		said, err := io.ReadAll(res.Body)
		_ = res.Body.Close()
		if err != nil || res.StatusCode != http.StatusTooManyRequests {
			return res, said, err
		}
		select {
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Whatever a body is, it becomes an item or is refused with words; nothing is a fault of
// ours, and no answer is anything that a browser would carry out.
func TestHostileBodies(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, 4*time.Minute)
	called(ctx, t, w, "hostile", "{verify: none}")
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "hostile"))
	require.NoError(t, err)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	var mu sync.Mutex
	statuses := map[int]int{}
	numbers := make(chan int)
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			for n := range numbers {
				header, body := hostile{rand.New(rand.NewPCG(20261128, uint64(n)))}.body()
				res, said, err := tellHook(ctx, client, sheet.Address, header, body)
				if err != nil {
					t.Errorf("%d: %v", n, err)
					continue
				}
				var answer map[string]any
				switch {
				case json.Unmarshal(said, &answer) != nil:
					t.Errorf("%d: %d is answered with %q", n, res.StatusCode, said)
				case res.StatusCode != 202 && (res.StatusCode < 400 || res.StatusCode > 499 || answer["title"] == ""):
					t.Errorf("%d: %d %s, to %v %.200q", n, res.StatusCode, said, header, body)
				case res.Header.Get("X-Content-Type-Options") != "nosniff" || !strings.HasPrefix(res.Header.Get("Content-Security-Policy"), "sandbox"):
					t.Errorf("%d: it is answered as %v", n, res.Header)
				}
				mu.Lock()
				statuses[res.StatusCode]++
				mu.Unlock()
			}
		})
	}
	for n := range hostileBodies {
		numbers <- n
	}
	close(numbers)
	wait.Wait()
	require.Greater(t, statuses[202], hostileBodies/10, "some are items: %v", statuses)
	require.Greater(t, statuses[400], hostileBodies/10, "some are not: %v", statuses)
	require.NotZero(t, statuses[413], "some are too large: %v", statuses)
}

// hostileForms is how many forms are sent that mean no good.
const hostileForms = 2000

// Forms that mean no good are refused in words, or taken as what they say; what comes
// back of them is never part of the page.
func TestHostileForms(t *testing.T) {
	t.Parallel()
	w := world(t, apart, func(o *ottermere.Options) { o.HookRate = 1_000_000 })
	ctx := within(t, 4*time.Minute)
	at := formed(ctx, t, w, "hall", "most: 1000000, fields: "+askedOfPotters, answered)
	id := opens(ctx, t, at)
	var mu sync.Mutex
	statuses := map[int]int{}
	numbers := make(chan int)
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			for n := range numbers {
				h := hostile{rand.New(rand.NewPCG(20261129, uint64(n)))}
				header, body := h.body()
				if h.IntN(2) == 0 { // as the page sends it
					values := url.Values{"form-submission": {h.of(id, id, id, "", "x.y", strings.Repeat("A", 3000))}}
					for _, name := range []string{"who", "mail", "cone", "day", "hour", "days", "about", "picture", "agreed", "__proto__"} {
						if h.IntN(2) == 0 {
							values.Add(name, h.of(h.text(), hostileNames[h.IntN(len(hostileNames))], "yes", "9", `"><img src=x onerror="document.title=1">`))
						}
					}
					header, body = http.Header{"Content-Type": {"application/x-www-form-urlencoded"}}, []byte(values.Encode())
				}
				header.Set("Accept", "text/html")
				res, said, err := tellHook(ctx, followsNothing, at, header, body)
				if err != nil {
					t.Errorf("%d: %v", n, err)
					continue
				}
				page := string(said)
				switch {
				case res.StatusCode != 303 && (res.StatusCode < 400 || res.StatusCode > 499):
					t.Errorf("%d: %d %.300s, to %v %.200q", n, res.StatusCode, page, header, body)
				case res.StatusCode != 303 && !strings.Contains(res.Header.Get("Content-Security-Policy"), "default-src 'none'"):
					t.Errorf("%d: it is answered as %v", n, res.Header)
				case strings.Contains(page, "<script>") || strings.Contains(page, "<img") || strings.Contains(page, "onerror=\"document"):
					t.Errorf("%d: what was sent is part of the page: %s", n, page)
				}
				mu.Lock()
				statuses[res.StatusCode]++
				mu.Unlock()
			}
		})
	}
	for n := range hostileForms {
		numbers <- n
	}
	close(numbers)
	wait.Wait()
	t.Log(statuses)
	require.Greater(t, statuses[422], hostileForms/4, "most are to be mended: %v", statuses)

	// And in a browser nothing of them runs.
	p := visitor(t, 1280, 800)
	const bad = `"><img src=x onerror="document.title='run'"><script>document.title='run'</script>`
	do(t, p, chromedp.Navigate(at), browser.See("Time in the hall"), chromedp.Evaluate(`document.querySelector("form").noValidate = true`, nil), chromedp.SetValue("#who", bad), chromedp.SetValue("#about", "</textarea>"+bad), chromedp.SetValue("#mail", bad), browser.Click("Send"), browser.See("things to mend"), browser.Settle())
	var who, title string
	do(t, p, chromedp.Value("#who", &who), chromedp.Title(&title))
	require.Equal(t, bad, who)
	require.Equal(t, "Time in the hall · Ottermere Clayworks", title)
}
