package test

import (
	"bufio"
	"encoding/json"
	"io"
	"net/http"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/switchboard"
)

// newToken makes a token by another one.
func newToken(t *testing.T, w *ottermere.World, by, wish string) (client.MadeToken, int) {
	t.Helper()
	status, answer := request(t, "POST", w.Service.Address+"/api/v1/tokens", by, []byte(wish))
	var made client.MadeToken
	if status == 201 {
		require.NoError(t, json.Unmarshal([]byte(answer), &made))
	}
	return made, status
}

func tokensOf(t *testing.T, w *ottermere.World, by string) []client.Token {
	t.Helper()
	status, answer := request(t, "GET", w.Service.Address+"/api/v1/tokens", by, nil)
	require.Equal(t, 200, status, answer)
	var list struct{ Tokens []client.Token }
	require.NoError(t, json.Unmarshal([]byte(answer), &list))
	return list.Tokens
}

// A token makes tokens only if it may, none that lives longer or does more, and all
// end with it.
func TestATokenEndsWithWhatMadeIt(t *testing.T) {
	t.Parallel()
	w := world(t)
	base := w.Service.Address + "/api/v1"
	plain, status := newToken(t, w, w.Token, `{"name": "plain", "role": "administrator"}`)
	require.Equal(t, 201, status)
	_, status = newToken(t, w, plain.Secret, `{"name": "child", "role": "viewer"}`)
	require.Equal(t, 403, status, "without the scope it makes none, however weak")
	maker, status := newToken(t, w, w.Token, `{"name": "maker", "role": "builder", "makes": true}`)
	require.Equal(t, 201, status)
	_, status = newToken(t, w, maker.Secret, `{"name": "child", "role": "owner"}`)
	require.Equal(t, 403, status)
	ctx := within(t, time.Minute)
	conn, err := pgx.Connect(ctx, w.DatabaseURL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "UPDATE api_token SET expires = now() + interval '1 hour' WHERE id = $1", maker.Token.Id)
	require.NoError(t, err)
	child, status := newToken(t, w, maker.Secret, `{"name": "child", "role": "viewer", "makes": true}`)
	require.Equal(t, 201, status)
	require.Less(t, time.Until(child.Token.Expires), time.Hour+time.Minute, "it does not outlive its parent")
	grandchild, status := newToken(t, w, child.Secret, `{"name": "grandchild"}`)
	require.Equal(t, 201, status)
	require.Equal(t, client.Role("viewer"), grandchild.Token.Role)
	status, _ = request(t, "DELETE", base+"/tokens/"+maker.Token.Id.String(), plain.Secret, nil)
	require.Equal(t, 404, status, "a token that makes none ends no other")
	status, _ = request(t, "DELETE", base+"/tokens/"+maker.Token.Id.String(), w.Token, nil)
	require.Equal(t, 204, status)
	for _, dead := range []string{maker.Secret, child.Secret, grandchild.Secret} {
		status, _ = request(t, "GET", base+"/workflows", dead, nil)
		require.Equal(t, 401, status)
	}
	status, _ = request(t, "DELETE", base+"/tokens/"+plain.Token.Id.String(), plain.Secret, nil)
	require.Equal(t, 204, status, "but itself")
}

// member adds a person to the world's workspace.
func member(t *testing.T, w *ottermere.World, role string, items bool) (email, password string) {
	t.Helper()
	ctx := within(t, time.Minute)
	email, password = uuid.NewString()+"@ottermere.example", "a password to test"
	sc, err := w.Service.Store.CreateOwner(ctx, "Of "+email, email, "Wren Ashdown", password)
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, w.DatabaseURL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "DELETE FROM member WHERE person_id = $1", sc.Person())
	require.NoError(t, err)
	_, err = conn.Exec(ctx, "INSERT INTO member (workspace_id, person_id, role, items) SELECT id, $1, $2, $3 FROM workspace WHERE name = 'Ottermere Clayworks'", sc.Person(), role, items)
	require.NoError(t, err)
	return email, password
}

// signedIn opens a session as a browser does, for calls that are no acts of another
// page.
func signedIn(t *testing.T, w *ottermere.World, email, password string) *http.Cookie {
	t.Helper()
	res := asked(t, "POST", w.Service.Address+"/api/v1/session", credentials(email, password), http.Header{})
	require.Equal(t, 200, res.StatusCode)
	return cookieOf(res, "trellis")
}

func TestEachPersonHasTheirOwnTokens(t *testing.T) {
	t.Parallel()
	w := world(t)
	base := w.Service.Address + "/api/v1"
	session := signedIn(t, w, w.Email, w.Password)
	email, password := member(t, w, "operator", false)
	theirs := signedIn(t, w, email, password)
	res := asked(t, "POST", base+"/tokens", `{"name": "of Wren", "makes": true}`, http.Header{}, theirs)
	require.Equal(t, 201, res.StatusCode)
	var made client.MadeToken
	require.NoError(t, json.NewDecoder(res.Body).Decode(&made))
	require.Equal(t, "Wren Ashdown", made.Token.Of)
	own := tokensOf(t, w, made.Secret)
	require.Len(t, own, 1, "an operator sees no token of anybody else")
	require.Equal(t, "of Wren", own[0].Name)
	all := tokensOf(t, w, w.Token)
	require.Greater(t, len(all), 1, "an administrator sees all")
	for _, x := range all {
		if x.Of != "Wren Ashdown" {
			status, _ := request(t, "DELETE", base+"/tokens/"+x.Id.String(), made.Secret, nil)
			require.Equal(t, 404, status)
		}
	}
	require.Equal(t, 204, asked(t, "DELETE", base+"/tokens/"+made.Token.Id.String(), "", http.Header{}, theirs).StatusCode, "and ends their own")
	require.Equal(t, 403, asked(t, "POST", base+"/tokens", `{"name": "strong", "role": "builder"}`, http.Header{}, theirs).StatusCode)
	require.Equal(t, 200, asked(t, "GET", base+"/tokens", "", http.Header{}, session).StatusCode)
}

// What a stream shows ends with the right to see it.
func TestAnOpenStreamEndsWithItsToken(t *testing.T) {
	t.Parallel()
	w := world(t)
	base := w.Service.Address + "/api/v1"
	ctx := within(t, time.Minute)
	_, err := ottermere.Answer[client.Workflow](w.Client.CreateWorkflow(ctx, client.Document{Document: "format: young-trellis/1\nname: rests\ntitle: Rests\ntrigger: {type: manual}\nsteps:\n  - {name: rest, type: wait, settings: {for: 1h}}\n"}))
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Workflow](w.Client.GoLive(ctx, "rests", nil))
	require.NoError(t, err)
	started, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, "rests", client.Items{}))
	require.NoError(t, err)
	made, status := newToken(t, w, w.Token, `{"name": "watcher", "role": "viewer"}`)
	require.Equal(t, 201, status)
	session := signedIn(t, w, w.Email, w.Password)
	follow := func(header http.Header) *http.Response {
		req, err := http.NewRequestWithContext(ctx, "GET", base+"/runs/"+started.Run.String()+"/events", nil)
		require.NoError(t, err)
		req.Header = header
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.Equal(t, 200, res.StatusCode)
		line, err := bufio.NewReader(res.Body).ReadString('\n')
		require.NoError(t, err)
		require.Equal(t, "event: run\n", line)
		return res
	}
	byToken := follow(http.Header{"Authorization": {"Bearer " + made.Secret}})
	bySession := follow(http.Header{"Cookie": {session.String()}})
	status, _ = request(t, "DELETE", base+"/tokens/"+made.Token.Id.String(), w.Token, nil)
	require.Equal(t, 204, status)
	require.Equal(t, 204, asked(t, "DELETE", base+"/session", "", http.Header{}, session).StatusCode)
	for _, res := range []*http.Response{byToken, bySession} {
		_, err := bufio.NewReader(res.Body).Discard(1 << 30)
		require.Error(t, err) // its end, within the time of the test
		require.NoError(t, ctx.Err())
		res.Body.Close()
	}
}

// A viewer sees how runs went, and nothing of what items hold, unless it was granted.
func TestAViewerSeesNoItemData(t *testing.T) {
	t.Parallel()
	w := world(t)
	base := w.Service.Address + "/api/v1"
	ctx := within(t, time.Minute)
	sent, err := w.Report(ctx, switchboard.Fourteen(time.Now(), "viewer"))
	require.NoError(t, err)
	for _, s := range sent {
		_, err = w.Wait(ctx, s.Run)
		require.NoError(t, err)
	}
	var failed string
	for _, s := range sent {
		run, err := ottermere.Answer[client.Run](w.Client.GetRun(ctx, s.Run))
		require.NoError(t, err)
		if run.Run.State != "succeeded" {
			failed = s.Run.String()
		}
	}
	require.NotEmpty(t, failed)
	// Why a call was refused can quote what came.
	odd := asked(t, "POST", w.HookAddress, "{}", http.Header{"Authorization": {"Bearer " + w.HookSecret}, "Content-Type": {"Hollowbank/a/b"}})
	require.Equal(t, 400, odd.StatusCode)
	viewer, status := newToken(t, w, w.Token, `{"name": "viewer", "role": "viewer"}`)
	require.Equal(t, 201, status)
	granted, status := newToken(t, w, w.Token, `{"name": "granted", "role": "viewer", "items": true}`)
	require.Equal(t, 201, status)
	email, password := member(t, w, "viewer", false)
	person := signedIn(t, w, email, password)
	email, password = member(t, w, "viewer", true)
	trusted := signedIn(t, w, email, password)
	require.Equal(t, 403, asked(t, "POST", base+"/tokens", `{"name": "sees", "role": "viewer", "items": true}`, http.Header{}, person).StatusCode, "nor by a token of their own")

	see := func(path string, by any) (int, string) {
		t.Helper()
		h, cookies := http.Header{}, []*http.Cookie{}
		if token, ok := by.(string); ok {
			h.Set("Authorization", "Bearer "+token)
		} else {
			cookies = append(cookies, by.(*http.Cookie))
		}
		res := asked(t, "GET", base+path, "", h, cookies...)
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(b)
	}
	secrets := []string{"Hollowbank", "441632", "01632"}
	open := []string{"/workflows", "/workflows/counter-calls", "/schedule", "/runs", "/runs/" + failed, "/connections", "/connections/tables/calls", "/connections/contacts/calls"}
	closed := []string{"/runs/" + failed + "/lattice", "/runs/" + failed + "/lattice/shape", "/runs/" + failed + "/cells/0/-", "/items", "/items/groups"}
	for _, by := range []any{viewer.Secret, person} {
		for _, path := range open {
			status, answer := see(path, by)
			require.Equal(t, 200, status, path)
			for _, secret := range secrets {
				require.NotContains(t, answer, secret, path)
			}
		}
		for _, path := range closed {
			status, answer := see(path, by)
			require.Equal(t, 403, status, path)
			require.Contains(t, answer, "granted", path)
		}
		status, answer := request(t, "POST", base+"/check", viewer.Secret, []byte(`{"document": "format: young-trellis/1\nname: counter-calls\ntitle: x\ntrigger: {type: webhook}\nsteps: [{name: a, type: filter, settings: {when: item.caller > 3}}]\n"}`))
		require.Equal(t, 200, status)
		for _, secret := range secrets {
			require.NotContains(t, answer, secret)
		}
	}
	for _, by := range []any{granted.Secret, trusted, w.Token} {
		status, answer := see("/runs", by)
		require.Equal(t, 200, status)
		require.Contains(t, answer, "Hollowbank")
		_, answer = see("/workflows/counter-calls", by)
		require.Contains(t, answer, "Hollowbank/a/b", "why the last call was refused")
		for _, path := range closed {
			status, answer := see(path, by)
			require.Equal(t, 200, status, "%s: %s", path, answer)
		}
	}
}

// A check is a call with the account's credentials.
func TestACheckNeedsTheGrant(t *testing.T) {
	t.Parallel()
	w := world(t)
	base := w.Service.Address + "/api/v1"
	status, answer := request(t, "PUT", base+"/connections/tables/settings", w.Token, []byte(`{"everyone": false}`))
	require.Equal(t, 200, status, answer)
	email, password := member(t, w, "builder", false)
	session := signedIn(t, w, email, password)
	require.Equal(t, 403, asked(t, "POST", base+"/connections/tables/check", "", http.Header{}, session).StatusCode)
	status, _ = request(t, "POST", base+"/connections/tables/check", w.Token, nil)
	require.Equal(t, 200, status)
	status, _ = request(t, "POST", base+"/connections/none/check", w.Token, nil)
	require.Equal(t, 404, status)
	status, answer = request(t, "POST", base+"/connections/tables/choices/none", w.Token, []byte(`{"input": {}}`))
	require.Equal(t, 404, status, answer)
}

// From the terminal.
func TestTokensFromTheCommandLine(t *testing.T) {
	t.Parallel()
	w := world(t)
	out, code := said(t, w, "", "token", "create", "reports", "--role", "viewer", "--items")
	require.Zero(t, code, out)
	require.Contains(t, out, "ytk_")
	require.Contains(t, out, "reports: viewer, sees items, good until")
	out, code = said(t, w, "", "token", "list")
	require.Zero(t, code, out)
	require.Contains(t, out, "reports")
	out, code = said(t, w, "", "-o", "json", "token", "list")
	require.Zero(t, code, out)
	var list struct{ Tokens []client.Token }
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	for _, x := range list.Tokens {
		if x.Name == "reports" {
			out, code = said(t, w, "", "token", "revoke", x.Id.String())
			require.Zero(t, code, out)
		}
	}
	out, code = said(t, w, "", "token", "list")
	require.Zero(t, code, out)
	require.NotContains(t, out, "reports")
	out, code = said(t, w, "", "token", "revoke", "reports")
	require.NotZero(t, code)
	require.Contains(t, out, "trellis token list")
}
