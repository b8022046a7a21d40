package intake

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/payload"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// formDoor is a door with a form.
func formDoor(t *testing.T, settings map[string]any) *door {
	t.Helper()
	all := map[string]any{"fields": []any{
		map[string]any{"name": "who", "title": "Your name", "type": "string", "required": true},
		map[string]any{"name": "count", "title": "Pieces", "type": "integer"},
		map[string]any{"name": "picture", "title": "Picture", "hint": "file", "up_to": int64(1)},
	}}
	for k, v := range settings {
		all[k] = v
	}
	d := newDoor(t, nil)
	plan, err := workflow.Compile(&workflow.Workflow{Name: "hall", Title: "Time in the hall", Trigger: workflow.Trigger{Type: "form", Settings: all}}, &workflow.Catalog{})
	require.NoError(t, err)
	d.plan, d.hook.House = plan, "Ottermere Clayworks"
	d.Files = d
	return d
}

// Incoming implements Files.
func (d *door) Incoming(_ context.Context, _ uuid.UUID, name, kind string, content io.Reader) (*item.File, error) {
	b, err := io.ReadAll(content)
	if err != nil {
		return nil, err
	}
	return &item.File{ID: "sha256-" + strings.Repeat("0", 64), Name: name, Type: kind, Size: int64(len(b))}, nil
}

// view opens the form.
func (d *door) view(t *testing.T) *FormPage {
	t.Helper()
	p, err := d.Form(context.Background(), address)
	require.NoError(t, err)
	return p
}

// fills sends a form as a browser does; a file is one whose name begins with @.
func (d *door) fills(submission string, pairs ...string) (*FormSent, error) {
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	if submission != "" {
		_ = w.WriteField(SubmissionField, submission)
	}
	for i := 0; i < len(pairs); i += 2 {
		if name, file := strings.CutPrefix(pairs[i], "@"); file {
			part, _ := w.CreateFormFile(name, "jug.png")
			_, _ = io.WriteString(part, pairs[i+1])
			continue
		}
		_ = w.WriteField(pairs[i], pairs[i+1])
	}
	_ = w.Close()
	return d.Submit(context.Background(), Call{Address: address, Method: http.MethodPost, Header: http.Header{"Content-Type": {w.FormDataContentType()}}, Body: &body})
}

func (d *door) starts() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := []string{}
	for _, s := range d.started {
		out = append(out, string(s.Items[0]))
	}
	return out
}

func TestAFormThatIsFilledInStartsARun(t *testing.T) {
	t.Parallel()
	d := formDoor(t, nil)
	p := d.view(t)
	require.Equal(t, "Ottermere Clayworks", p.House)
	require.Equal(t, "Time in the hall", p.Title)
	require.False(t, p.Sample)
	sent, err := d.fills(p.Submission, "who", "Ada Fen", "count", "3", "more", "is not asked for", "@picture", "a jug")
	require.NoError(t, err)
	require.Equal(t, &FormSent{Thanked: true}, sent)
	require.Equal(t, []string{`[{"count":3,"picture":{"file":"sha256-` + strings.Repeat("0", 64) + `","name":"jug.png","size":5,"type":"application/octet-stream"},"who":"Ada Fen"}]`}, d.starts())

	d.plan.Answers = true
	sent, err = d.fills(d.view(t).Submission, "who", "Mara", "@picture", "")
	require.NoError(t, err)
	require.Len(t, sent.Answer, 22)
	require.Equal(t, `[{"who":"Mara"}]`, d.starts()[1], "no file was chosen")
}

// A form without script sends what it has as it likes.
func TestAFormWithoutFilesMayComeAsOne(t *testing.T) {
	t.Parallel()
	d := formDoor(t, nil)
	body := url.Values{SubmissionField: {d.view(t).Submission}, "who": {"Ada"}}.Encode()
	sent, err := d.Submit(context.Background(), Call{Address: address, Header: http.Header{"Content-Type": {"application/x-www-form-urlencoded"}}, Body: strings.NewReader(body)})
	require.NoError(t, err)
	require.True(t, sent.Thanked)
}

func TestADoubleTapStartsOneRun(t *testing.T) {
	t.Parallel()
	d := formDoor(t, nil)
	d.plan.Answers = true
	p := d.view(t)
	var wait sync.WaitGroup
	answers := make([]string, 20)
	for i := range answers {
		wait.Go(func() {
			if sent, err := d.fills(p.Submission, "who", "Ada"); err == nil {
				answers[i] = sent.Answer
			}
		})
	}
	wait.Wait()
	require.Len(t, d.starts(), 1)
	for _, a := range answers {
		require.Equal(t, answers[0], a, "and all see the same answer")
	}
	require.NotEmpty(t, answers[0])
}

// A page that was cached and given to two people is sent by both.
func TestAPageThatWasSentWithOtherWordsIsOfferedOnceMore(t *testing.T) {
	t.Parallel()
	d := formDoor(t, nil)
	p := d.view(t)
	_, err := d.fills(p.Submission, "who", "Ada")
	require.NoError(t, err)
	sent, err := d.fills(p.Submission, "who", "Mara")
	require.NoError(t, err)
	require.Contains(t, sent.Page.Again, "with other words")
	require.Equal(t, "Mara", sent.Page.Typed.Text("who"), "what was typed stays")
	require.NotEqual(t, p.Submission, sent.Page.Submission)
	sent, err = d.fills(sent.Page.Submission, "who", "Mara")
	require.NoError(t, err)
	require.True(t, sent.Thanked)
	require.Equal(t, []string{`[{"who":"Ada"}]`, `[{"who":"Mara"}]`}, d.starts())
}

func TestWhatIsWrongIsShownWithWhatWasTyped(t *testing.T) {
	t.Parallel()
	d := formDoor(t, nil)
	sent, err := d.fills(d.view(t).Submission, "who", " ", "count", "three", "@picture", "a jug")
	require.NoError(t, err)
	require.Equal(t, "Your name is empty", sent.Page.Wrong[0].Message)
	require.Equal(t, `Pieces should be a number, as 12, and this is "three"`, sent.Page.Wrong[1].Message)
	require.Empty(t, d.starts())
	kept := sent.Page.Kept["picture"]
	require.NotEmpty(t, kept, "the file need not be sent again")
	sent, err = d.fills(sent.Page.Submission, "who", "Ada", "@picture", "", "picture", kept)
	require.NoError(t, err)
	require.True(t, sent.Thanked)
	require.Contains(t, d.starts()[0], `"name":"jug.png"`)

	sent, err = d.fills(d.view(t).Submission, "who", "Ada", "picture", "x"+kept[1:])
	require.NoError(t, err)
	require.True(t, sent.Thanked, "what we did not sign is no file")
	require.NotContains(t, d.starts()[1], "jug.png")
}

func TestAPageThatIsNotOursOrTooOldIsLookedThroughOnceMore(t *testing.T) {
	t.Parallel()
	d := formDoor(t, nil)
	f, err := d.form(context.Background(), address)
	require.NoError(t, err)
	old := make([]byte, 24)
	binary.BigEndian.PutUint64(old[16:], uint64(now().Add(-pageGood-time.Minute).Unix()))
	signed, err := d.signed(context.Background(), f, "form", old)
	require.NoError(t, err)
	for name, id := range map[string]string{"none": "", "forged": base64.RawURLEncoding.EncodeToString(make([]byte, 24)) + "." + strings.Repeat("A", 22), "old": signed, "odd": "a.b", "nonsense": "%%%"} {
		sent, err := d.fills(id, "who", "Ada")
		require.NoError(t, err, name)
		require.Contains(t, sent.Page.Again, "open for long", name)
		require.Equal(t, "Ada", sent.Page.Typed.Text("who"), name)
	}
	require.Empty(t, d.starts())
}

// Nobody fills the store with files who has not opened the page.
func TestFilesAreTakenOfOurOwnPagesAlone(t *testing.T) {
	t.Parallel()
	d := formDoor(t, nil)
	_, err := d.fills("", "who", "Ada", "@picture", "a jug")
	status, text := refusal(t, err)
	require.Equal(t, http.StatusBadRequest, status)
	require.Contains(t, text, "Open it and send them from there")
	_, err = d.fills(d.view(t).Submission, "who", "Ada", "@picture", strings.Repeat("x", 1_000_001))
	var large *payload.TooLarge
	require.ErrorAs(t, err, &large, "the largest that a field takes")
	require.Equal(t, int64(1_000_000), large.Most)
}

// A stranger names no file of the workspace: only what came with the form is one.
func TestAFileThatIsOnlyNamedIsNone(t *testing.T) {
	t.Parallel()
	d := formDoor(t, nil)
	body := "--edge\r\nContent-Disposition: form-data; name=\"" + SubmissionField + "\"\r\n\r\n" + d.view(t).Submission + "\r\n--edge\r\nContent-Disposition: form-data; name=\"who\"\r\n\r\nAda\r\n" +
		"--edge\r\nContent-Disposition: form-data; name=\"picture\"\r\nContent-Type: application/json\r\n\r\n{\"file\": \"sha256-" + strings.Repeat("0", 64) + "\", \"name\": \"a\", \"type\": \"b\", \"size\": 7}\r\n--edge--\r\n"
	sent, err := d.Submit(context.Background(), Call{Address: address, Header: http.Header{"Content-Type": {"multipart/form-data; boundary=edge"}}, Body: strings.NewReader(body)})
	require.NoError(t, err)
	require.True(t, sent.Thanked)
	require.Equal(t, []string{`[{"who":"Ada"}]`}, d.starts())
}

func TestAFormWithoutFilesTakesNone(t *testing.T) {
	t.Parallel()
	d := formDoor(t, map[string]any{"fields": []any{map[string]any{"name": "who", "type": "string"}}})
	_, err := d.fills(d.view(t).Submission, "who", "Ada", "@picture", "a jug")
	status, text := refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Equal(t, "No files are taken here.", text)
}

func TestGuardsAgainstSpam(t *testing.T) {
	t.Parallel()
	d := formDoor(t, map[string]any{"most": int64(2)})
	sent, err := d.fills(d.view(t).Submission, "who", "Bot", EmptyField, "https://spam.example")
	require.NoError(t, err)
	require.True(t, sent.Thanked, "it learns nothing")
	require.Empty(t, d.starts())
	require.Contains(t, d.noted[0].Reason, "people do not see")
	for _, who := range []string{"Ada", "Mara"} {
		_, err = d.fills(d.view(t).Submission, "who", who)
		require.NoError(t, err)
	}
	_, err = d.fills(d.view(t).Submission, "who", "Oren")
	status, text := refusal(t, err)
	require.Equal(t, http.StatusTooManyRequests, status)
	require.Contains(t, text, "Try again tomorrow")
	require.Len(t, d.starts(), 2)
}

// Whose key was there before learns nothing of the other's answer.
func TestAKeyOfTheFormStartsOnce(t *testing.T) {
	t.Parallel()
	d := formDoor(t, map[string]any{"key": "item.who", "for": "1h"})
	d.plan.Answers = true
	first, err := d.fills(d.view(t).Submission, "who", "Ada")
	require.NoError(t, err)
	require.NotEmpty(t, first.Answer)
	second, err := d.fills(d.view(t).Submission, "who", "Ada", "count", "2")
	require.NoError(t, err)
	require.Equal(t, &FormSent{Thanked: true}, second)
	require.Len(t, d.starts(), 1)
	s := d.started[0]
	require.Len(t, s.Keys, 3)
	require.Equal(t, s.Accepted.Add(remembered), s.Expires)
	for _, until := range s.Until {
		require.Equal(t, s.Accepted.Add(time.Hour), until, "its own key is forgotten as it says")
	}
}

func TestAFormThatIsPausedOrNotLive(t *testing.T) {
	t.Parallel()
	d := formDoor(t, nil)
	p := d.view(t)
	d.hook.State = "paused"
	d.Forget(address)
	for range 2 {
		sent, err := d.fills(p.Submission, "who", "Ada")
		require.NoError(t, err)
		require.True(t, sent.Thanked)
	}
	require.Equal(t, []string{`[{"who":"Ada"}]`}, d.kept, "a double tap is kept once")

	d.hook.State, d.hook.Live = "draft", nil
	d.drafts[d.hook.Name] = "format: young-trellis/1\nname: hall\ntrigger: {type: form, settings: {fields: [{name: who, type: string}]}}\nsteps: []\n"
	d.Forget(address)
	_, err := d.Form(context.Background(), address)
	status, _ := refusal(t, err)
	require.Equal(t, http.StatusNotFound, status)
	d.hook.Taking = true
	d.Forget(address)
	p = d.view(t)
	require.True(t, p.Sample)
	sent, err := d.fills(p.Submission, "who", "Ada")
	require.NoError(t, err)
	require.True(t, sent.Thanked)
	require.Equal(t, []string{`{"who":"Xxx"}`}, d.samples, "without who it was")
	require.Empty(t, d.starts())
}

func TestNoFormIsWhereNoneIs(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil) // a webhook
	for _, at := range []string{address, "short", strings.Repeat("b", 22)} {
		_, err := d.Form(context.Background(), at)
		status, _ := refusal(t, err)
		require.Equal(t, http.StatusNotFound, status, at)
		_, err = d.Submit(context.Background(), Call{Address: at, Body: strings.NewReader("")})
		require.Error(t, err)
	}
	d = formDoor(t, nil)
	_, err := d.receive(proven(), `{"who": "Ada"}`) // and a form is no webhook
	require.ErrorIs(t, err, errUnknown)
	d.startErr = store.ErrUnavailable
	_, err = d.fills(d.view(t).Submission, "who", "Ada")
	require.True(t, errors.Is(err, store.ErrUnavailable))
}
