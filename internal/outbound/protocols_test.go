package outbound

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

// What connectors may be written for is what can be called.
func TestEveryKnownSchemeHasItsProtocol(t *testing.T) {
	t.Parallel()
	require.ElementsMatch(t, connector.Schemes, slices.Collect(maps.Keys(protocols)))
	u, err := url.Parse("gopher://kiln.example/")
	require.NoError(t, err)
	_, sent, err := client().Of(&Account{}).Send(context.Background(), &call.Call{Method: "GET", URL: u}, "")
	require.ErrorContains(t, err, `"gopher" is not an address that can be called`)
	require.Equal(t, "gopher://kiln.example/", sent.URL)
}

// shelf keeps files in memory.
type shelf struct {
	mu    sync.Mutex
	files map[string][]byte
	fault error // of ours
}

const memo = "sha256-" + "00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff"

func newShelf() *shelf { return &shelf{files: map[string][]byte{memo: []byte("the spoken memo")}} }

func (s *shelf) Open(_ context.Context, _ uuid.UUID, id string) (io.ReadCloser, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fault != nil {
		return nil, s.fault
	}
	b, ok := s.files[id]
	if !ok {
		return nil, item.ErrFileGone
	}
	return io.NopCloser(bytes.NewReader(b)), nil
}

func (s *shelf) Save(_ context.Context, _ uuid.UUID, name, kind string, content io.Reader) (*item.File, error) {
	b, err := io.ReadAll(content)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fault != nil {
		return nil, s.fault
	}
	s.files["kept"] = b
	return &item.File{ID: "kept", Name: name, Type: kind, Size: int64(len(b))}, nil
}

func keeping(s *shelf, allowed ...string) *Client {
	return New(func(context.Context, uuid.UUID) ([]string, error) { return allowed, nil }, s)
}

func TestBodiesAreSentPieceByPiece(t *testing.T) {
	t.Parallel()
	var got []byte
	var length int64
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		length = r.ContentLength
		got, _ = io.ReadAll(r.Body)
	}))
	t.Cleanup(s.Close)
	files := newShelf()
	c := keeping(files, strings.TrimPrefix(s.URL, "http://"))
	account, request := to(t, s.URL)
	file := &item.File{ID: memo, Name: "memo.wav", Type: "audio/wav", Size: int64(len("the spoken memo"))}
	request.Body, request.Pieces = nil, []call.Piece{{Bytes: []byte("before,")}, {File: file}, {Bytes: []byte(",after")}}
	_, _, err := c.Of(account).Send(WithTrace(context.Background(), uuid.New()), request, "")
	require.NoError(t, err)
	require.Equal(t, "before,the spoken memo,after", string(got))
	require.EqualValues(t, len(got), length)

	var f *call.Failure
	file.ID = "sha256-" + strings.Repeat("f", 64)
	_, _, err = c.Of(account).Send(context.Background(), request, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.BadInput, f.Class, "that it is gone is the item's fault")
	files.fault = errors.New("the disk cannot be read")
	_, _, err = c.Of(account).Send(context.Background(), request, "")
	require.False(t, errors.As(err, &f), "that it cannot be read at the moment is ours: %v", err)
	require.ErrorIs(t, err, files.fault)
}

func TestAnAnswerIsKeptAsAFile(t *testing.T) {
	t.Parallel()
	short := false
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "image/png")
		if name := r.URL.Query().Get("name"); name != "" {
			w.Header().Set("Content-Disposition", `attachment; filename="`+name+`"`)
		}
		if short {
			w.Header().Set("Content-Length", "1000")
		}
		_, _ = io.WriteString(w, "pixels")
	}))
	t.Cleanup(s.Close)
	files := newShelf()
	c := keeping(files, strings.TrimPrefix(s.URL, "http://"))
	send := func(path string) (*call.Answer, *call.Sent, error) {
		account, request := to(t, s.URL+path)
		request.Method, request.Body = http.MethodGet, nil
		return c.Of(account).Send(context.Background(), request, "")
	}
	answer, _, err := send("/shelf/glaze.png")
	require.NoError(t, err)
	require.Equal(t, &item.File{ID: "kept", Name: "glaze.png", Type: "image/png", Size: 6}, answer.File)
	require.Empty(t, answer.Body)
	answer, _, err = send("/x?name=firing.png")
	require.NoError(t, err)
	require.Equal(t, "firing.png", answer.File.Name)

	files.fault = errors.New("the disk is full")
	_, sent, err := send("/glaze.png")
	var lost *call.Lost
	require.ErrorAs(t, err, &lost, "the call was made; what came back could not be kept")
	require.Equal(t, http.StatusOK, sent.Status)
	files.fault, short = nil, true
	_, _, err = send("/glaze.png")
	var f *call.Failure
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.InDoubt, f.Class)
	require.Contains(t, f.Message, "cut the connection before it had answered whole")
}

func TestAnAnswerThatIsTooLargeIsNotRead(t *testing.T) {
	t.Parallel()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		block := bytes.Repeat([]byte(" "), 1<<20)
		for range MaxResponse>>20 + 1 {
			if _, err := w.Write(block); err != nil {
				return
			}
		}
	}))
	t.Cleanup(s.Close)
	account, request := to(t, s.URL)
	_, sent, err := client(strings.TrimPrefix(s.URL, "http://")).Of(account).Send(context.Background(), request, "")
	var f *call.Failure
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.InDoubt, f.Class)
	require.Contains(t, f.Message, "more than 32 MiB")
	require.Equal(t, http.StatusOK, sent.Status)
}

// Our own stopping is no failure of the other side, and a list of allowances
// that cannot be read is a fault of ours.
func TestWhatIsOursIsNoFailure(t *testing.T) {
	t.Parallel()
	begun := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		close(begun)
		_, _ = io.Copy(io.Discard, r.Body)
		<-r.Context().Done()
	}))
	t.Cleanup(s.Close)
	account, request := to(t, s.URL)
	stopped := errors.New("the run is another's by now")
	ctx, stop := context.WithCancelCause(context.Background())
	go func() { <-begun; stop(stopped) }()
	_, _, err := client(strings.TrimPrefix(s.URL, "http://")).Of(account).Send(ctx, request, "")
	require.Equal(t, stopped, err)
	away := errors.New("the database is away")
	c := New(func(context.Context, uuid.UUID) ([]string, error) { return nil, away }, nil)
	_, _, err = c.Of(account).Send(context.Background(), request, "")
	require.Equal(t, away, err)
	c.Forget(account.Workspace)
	// A name that nobody knows is the item's or the other side's affair.
	account, request = to(t, "http://no-such-name.invalid/")
	_, _, err = client().Of(account).Send(context.Background(), request, "")
	var f *call.Failure
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.NotSent, f.Class)
	require.Contains(t, f.Message, "no-such-name.invalid")
	require.NotContains(t, f.Message, "planted-secret-123")
}

// postbox is a mail server that does what a test wants.
type postbox struct {
	mu       sync.Mutex
	letters  []string
	to       []string
	refuse   *smtp.SMTPError // of recipients
	cutAfter bool            // the connection, once the letter is in
	l        net.Listener
}

func newPostbox(t *testing.T) *postbox {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &postbox{l: l}
	s := smtp.NewServer(p)
	s.Domain, s.AllowInsecureAuth = "post.ottermere.example", true
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { _ = s.Close() })
	return p
}

type delivery struct {
	*postbox
	c *smtp.Conn
}

func (p *postbox) NewSession(c *smtp.Conn) (smtp.Session, error) { return &delivery{p, c}, nil }
func (d *delivery) AuthMechanisms() []string                     { return []string{sasl.Plain} }
func (d *delivery) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != "hall" || password != "planted-secret-123" {
			return &smtp.SMTPError{Code: 535, Message: "no: " + password}
		}
		return nil
	}), nil
}
func (d *delivery) Mail(string, *smtp.MailOptions) error { return nil }
func (d *delivery) Rcpt(to string, _ *smtp.RcptOptions) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.refuse != nil {
		return d.refuse
	}
	d.to = append(d.to, to)
	return nil
}
func (d *delivery) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.letters = append(d.letters, string(b))
	if d.cutAfter {
		_ = d.c.Conn().Close()
	}
	return err
}
func (d *delivery) Reset()        {}
func (d *delivery) Logout() error { return nil }

func (p *postbox) send(t *testing.T, c *Client, password string, letter map[string]any, key string) (*call.Answer, *call.Sent, error) {
	t.Helper()
	u, err := url.Parse("smtp://" + p.l.Addr().String())
	require.NoError(t, err)
	body, err := json.Marshal(letter)
	require.NoError(t, err)
	a := &Account{Title: "Mail", Name: "mail", Pin: Origin(u), SignIn: &connector.SignIn{Method: "basic"}, Credentials: &connector.Credentials{Values: map[string]string{"user": "hall", "secret": password}}}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	return c.Of(a).Send(ctx, &call.Call{Method: "SEND", URL: u, Body: body}, key)
}

func TestALetterIsHandedOver(t *testing.T) {
	t.Parallel()
	p := newPostbox(t)
	c := keeping(newShelf(), p.l.Addr().String())
	answer, sent, err := p.send(t, c, "planted-secret-123", map[string]any{
		"from": "Kiln hall <hall@ottermere.example>", "to": "Mara <mara@ottermere.example>, ned@ottermere.example", "cc": []string{"ada@ottermere.example"}, "bcc": "bo@ottermere.example",
		"reply_to": "office@ottermere.example", "subject": "Firing 17 – glaze", "text": "It is out.", "html": "<p>It is out.</p>",
		"files": []map[string]any{{"file": memo, "name": "memo.txt", "type": "text/plain", "size": 15}},
	}, "key-17")
	require.NoError(t, err)
	require.Equal(t, 250, sent.Status)
	require.JSONEq(t, `{"message_id": "key-17@127.0.0.1", "recipients": ["mara@ottermere.example", "ned@ottermere.example", "ada@ottermere.example", "bo@ottermere.example"]}`, string(answer.Body))
	require.Len(t, p.to, 4)
	letter := p.letters[0]
	require.Contains(t, letter, "Message-ID: <key-17@127.0.0.1>", "a repeat can be known by it")
	require.Contains(t, letter, "Reply-To: <office@ottermere.example>")
	require.Contains(t, letter, "memo.txt")
	require.NotContains(t, letter, "bo@ottermere.example", "a blind copy is not told")
	answer, _, err = p.send(t, c, "planted-secret-123", map[string]any{"check": true}, "")
	require.NoError(t, err)
	require.JSONEq(t, `{"user": "hall", "server": "127.0.0.1"}`, string(answer.Body))
	require.Len(t, p.letters, 1)
}

func TestALetterThatCannotBeMadeSaysWhy(t *testing.T) {
	t.Parallel()
	p := newPostbox(t)
	files := newShelf()
	c := keeping(files, p.l.Addr().String())
	good := func(change string, v any) map[string]any {
		m := map[string]any{"from": "hall@ottermere.example", "to": "mara@ottermere.example", "subject": "x", "text": "y"}
		m[change] = v
		return m
	}
	for _, x := range []struct {
		letter map[string]any
		want   string
	}{
		{good("from", "not an address"), `the sender "not an address" is not an address`}, {good("to", "nobody at all"), `"nobody at all" is not an address`}, {good("to", ""), "there is no recipient"},
		{good("to", 7), "an address is text"}, {good("subject", "a\nBcc: x@y.example"), "line break"}, {good("reply_to", "?"), "cannot be made"}, {good("files", []map[string]any{{"file": "x"}}), "an attachment is not a file"},
		{good("files", []map[string]any{{"file": "sha256-" + strings.Repeat("f", 64), "name": "gone", "type": "text/plain", "size": 1}}), "not kept any more"},
	} {
		_, _, err := p.send(t, c, "planted-secret-123", x.letter, "")
		var f *call.Failure
		require.ErrorAs(t, err, &f, x.want)
		require.Equal(t, call.BadInput, f.Class, x.want)
		require.Contains(t, f.Message, x.want)
	}
	files.fault = errors.New("the disk cannot be read")
	_, _, err := p.send(t, c, "planted-secret-123", good("files", []map[string]any{{"file": memo, "name": "memo", "type": "text/plain", "size": 15}}), "")
	require.ErrorIs(t, err, files.fault)
	require.Empty(t, p.letters)
}

func TestAMailServersNoIsClassified(t *testing.T) {
	t.Parallel()
	p := newPostbox(t)
	c := keeping(newShelf(), p.l.Addr().String())
	letter := map[string]any{"from": "hall@ottermere.example", "to": "mara@ottermere.example", "subject": "x", "text": "y"}
	var f *call.Failure
	_, sent, err := p.send(t, c, "another password", letter, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, http.StatusUnauthorized, f.Status, "the connection is broken")
	require.Equal(t, 535, sent.Status)
	require.NotContains(t, f.Message, "another password", "the server's words are masked")
	for code, retryable := range map[int]bool{451: true, 550: false} {
		p.mu.Lock()
		p.refuse = &smtp.SMTPError{Code: code, Message: "not now"}
		p.mu.Unlock()
		_, _, err = p.send(t, c, "planted-secret-123", letter, "")
		require.ErrorAs(t, err, &f)
		require.Equal(t, call.Refused, f.Class)
		require.Equal(t, retryable, f.Retryable, code)
		require.Contains(t, f.Message, fmt.Sprint(code))
	}
	p.mu.Lock()
	p.refuse, p.cutAfter = nil, true
	p.mu.Unlock()
	_, _, err = p.send(t, c, "planted-secret-123", letter, "key")
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.InDoubt, f.Class, "the letter may be in")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nobody := &postbox{l: l}
	require.NoError(t, l.Close())
	_, _, err = nobody.send(t, keeping(newShelf(), l.Addr().String()), "planted-secret-123", letter, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.NotSent, f.Class)
}

// asked puts a question to a database of the tests' own cluster.
func asked(t *testing.T, c *Client, database, password string, q map[string]any, more string) (string, error) {
	t.Helper()
	of, err := url.Parse(database)
	require.NoError(t, err)
	u, err := url.Parse("postgres://" + of.Host + of.Path + more)
	require.NoError(t, err)
	secret, _ := of.User.Password()
	if password != "" {
		secret = password
	}
	body, err := json.Marshal(q)
	require.NoError(t, err)
	a := &Account{Title: "Archive", Name: "archive", Pin: Origin(u), SignIn: &connector.SignIn{Method: "basic"}, Credentials: &connector.Credentials{Values: map[string]string{"user": of.User.Username(), "secret": secret}}}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	answer, _, err := c.Of(a).Send(ctx, &call.Call{Method: "ASK", URL: u, Body: body, Effect: call.Read}, "")
	if err != nil {
		return "", err
	}
	return string(answer.Body), nil
}

func TestADatabaseIsAsked(t *testing.T) {
	t.Parallel()
	database := clustertest.Database(t)
	of, err := url.Parse(database)
	require.NoError(t, err)
	c := client(of.Host)
	got, err := asked(t, c, database, "", map[string]any{"query": "SELECT $1::bigint AS n, $2::text AS name, $3::jsonb AS more, $4::bool AS yes, $5::text AS none; ", "params": []any{json.Number("1234567890123456789"), "Ada", map[string]any{"a": 1}, true, nil}}, "")
	require.NoError(t, err)
	require.Equal(t, `{"rows":[{"n":1234567890123456789,"name":"Ada","more":{"a": 1},"yes":true,"none":null}]}`, got)
	got, err = asked(t, c, database, "", map[string]any{"query": "SELECT i AS id FROM generate_series(1, 501) i", "key": "id"}, "")
	require.NoError(t, err)
	require.Contains(t, got, `"next":"500"`)
	got, err = asked(t, c, database, "", map[string]any{"query": "SELECT i AS id FROM generate_series(1, 501) i", "key": "id"}, "?cursor=500")
	require.NoError(t, err)
	require.Equal(t, `{"rows":[{"id":501}]}`, got)

	for name, x := range map[string]struct {
		query, want string
	}{
		"a write":        {"WITH x AS (INSERT INTO pg_temp.t VALUES (1) RETURNING 1) SELECT * FROM x", "the database answered"},
		"a syntax error": {"SELECT FROM WHERE", "the database answered"},
		"too many rows":  {"SELECT generate_series(1, 100002) AS n", "more than 100000 rows"},
		"too many bytes": {"SELECT repeat('x', 1000000) AS n FROM generate_series(1, 60)", "more than 32 MiB"},
		"two statements": {"SELECT 1; SELECT 2", "the database answered"},
	} {
		_, err := asked(t, c, database, "", map[string]any{"query": x.query}, "")
		var f *call.Failure
		require.ErrorAs(t, err, &f, name)
		require.Equal(t, call.Refused, f.Class, name)
		require.Contains(t, f.Message, x.want, name)
	}
	var f *call.Failure
	_, err = asked(t, c, database, "wrong-password", map[string]any{"query": "SELECT 1"}, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, http.StatusUnauthorized, f.Status)
	require.NotContains(t, f.Message, "wrong-password")
	_, err = asked(t, client(), database, "", map[string]any{"query": "SELECT 1"}, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.BadInput, f.Class, "it is not public, and nobody has allowed it")
	_, _, err = client(of.Host).Of(&Account{}).Send(context.Background(), &call.Call{URL: &url.URL{Scheme: "postgres", Host: of.Host}, Body: []byte("no JSON")}, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.BadInput, f.Class)
}

// A question that was cut before it was answered may be asked again; and our
// own server is nobody's to ask.
func TestADatabaseThatIsCutOrOurs(t *testing.T) {
	t.Parallel()
	database := clustertest.Database(t)
	p := clustertest.NewProxy(t, database)
	of, err := url.Parse(p.URL())
	require.NoError(t, err)
	c := client(of.Host)
	p.On("row_to_json", clustertest.Before, 1)
	_, err = asked(t, c, p.URL(), "", map[string]any{"query": "SELECT 1 AS n"}, "")
	var f *call.Failure
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.InDoubt, f.Class)
	require.Contains(t, f.Message, "Archive cut the connection")
	_, err = asked(t, c, p.URL(), "", map[string]any{"query": "SELECT 1 AS n"}, "")
	require.NoError(t, err)
	p.SetShut(true)
	_, err = asked(t, c, p.URL(), "", map[string]any{"query": "SELECT 1 AS n"}, "")
	require.ErrorAs(t, err, &f)
	require.NotEqual(t, call.Refused, f.Class)
	p.SetShut(false)

	got, err := asked(t, c, p.URL(), "", map[string]any{"query": "SELECT system_identifier::text AS id FROM pg_control_system()"}, "")
	require.NoError(t, err)
	c.OwnSystem = got[len(`{"rows":[{"id":"`) : len(got)-len(`"}]}`)]
	_, err = asked(t, c, p.URL(), "", map[string]any{"query": "SELECT 1 AS n"}, "")
	require.ErrorAs(t, err, &f)
	require.Equal(t, call.BadInput, f.Class)
	c.Excepted = []string{strings.Trim(of.Path, "/")}
	_, err = asked(t, c, p.URL(), "", map[string]any{"query": "SELECT 1 AS n"}, "")
	require.NoError(t, err)
}
