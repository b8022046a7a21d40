package test

import (
	"io"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"youngtrellis/api"
	"youngtrellis/internal/store"
)

// operation is one of the contract: who may call it is told there.
type operation struct {
	id, method, path string
	needs            string // x-permission
	items, nobody    bool   // x-items, x-nobody
}

// operations are all of the contract. What stands for something is filled with what
// is not there: nothing is changed, and whoever may ask gets another answer than no.
func operations(t *testing.T) []operation {
	t.Helper()
	spec, err := api.GetSpec()
	require.NoError(t, err)
	var out []operation
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			o := operation{id: op.OperationID, method: method, path: path}
			o.needs, _ = op.Extensions["x-permission"].(string)
			o.items, _ = op.Extensions["x-items"].(bool)
			o.nobody, _ = op.Extensions["x-nobody"].(bool)
			for _, p := range regexp.MustCompile(`\{(\w+)\}`).FindAllStringSubmatch(path, -1) {
				with := "none"
				if slices.Contains([]string{"run", "id", "mending"}, p[1]) {
					with = uuid.Nil.String()
				}
				o.path = strings.ReplaceAll(o.path, p[0], with)
			}
			out = append(out, o)
		}
	}
	slices.SortFunc(out, func(a, b operation) int { return strings.Compare(a.id, b.id) })
	return out
}

// allowed is what is answered to somebody who may ask: whatever it is, it is neither
// that they are not known, nor that they may not, nor that something broke.
const allowed = 0

// Every operation of the contract by everybody who could call it. A new operation
// takes part by itself.
func TestWhoMayCallWhat(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	base := w.Service.Address + "/api/v1"
	bearer := func(token string) http.Header { return http.Header{"Authorization": {"Bearer " + token}} }
	token := func(wish string) string {
		made, status := newToken(t, w, w.Token, wish)
		require.Equal(t, 201, status)
		return made.Secret
	}
	roles := map[store.Role]string{}
	for _, r := range []store.Role{store.Viewer, store.Operator, store.Builder, store.Administrator, store.Owner} {
		roles[r] = token(`{"name": "as", "role": "` + string(r) + `"}`)
	}
	revoked, status := newToken(t, w, w.Token, `{"name": "revoked", "role": "owner"}`)
	require.Equal(t, 201, status)
	status, _ = request(t, "DELETE", base+"/tokens/"+revoked.Token.Id.String(), w.Token, nil)
	require.Equal(t, 204, status)
	stranger, err := w.Service.Store.CreateOwner(ctx, "Another workspace", "outside@ottermere.example", "Somebody Else", "another password")
	require.NoError(t, err)
	outsider, _, err := w.Service.Store.CreateToken(ctx, stranger, store.NewToken{Name: "outsider", Role: store.Owner})
	require.NoError(t, err)
	session := func() *http.Cookie { return signedIn(t, w, w.Email, w.Password) }
	expired, left := session(), session()
	conn, err := pgx.Connect(ctx, w.DatabaseURL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "UPDATE browser_session SET seen = now() - interval '13 hours'")
	require.NoError(t, err)
	evil := http.Header{"Origin": {"http://evil.example"}, "Sec-Fetch-Site": {"cross-site"}}
	evilBasic := http.Header{"Origin": {"http://evil.example"}, "Sec-Fetch-Site": {"cross-site"}, "Authorization": {"Basic eDp5"}}
	basic := http.Header{"Authorization": {"Basic eDp5"}}

	byRole := func(r store.Role, items bool) func(operation) int {
		return func(o operation) int {
			if o.needs != "public" && !r.Covers(store.Role(o.needs)) || o.items && !items {
				return 403
			}
			return allowed
		}
	}
	unknown := func(o operation) int {
		switch {
		case o.needs == "public":
			return allowed
		case o.nobody:
			return 204
		}
		return 401
	}
	unknownToken := func(o operation) int {
		if o.needs == "public" {
			return allowed
		}
		return 401
	}
	fromElsewhere := func(o operation) int {
		if o.method == "GET" {
			return allowed
		}
		return 403
	}
	callers := map[string]struct {
		header http.Header
		cookie func() *http.Cookie
		host   string
		want   func(operation) int
	}{
		"nobody":                           {want: unknown},
		"a viewer":                         {header: bearer(roles[store.Viewer]), want: byRole(store.Viewer, false)},
		"a viewer with grant":              {header: bearer(token(`{"name": "granted", "role": "viewer", "items": true}`)), want: byRole(store.Viewer, true)},
		"an operator":                      {header: bearer(roles[store.Operator]), want: byRole(store.Operator, true)},
		"a builder":                        {header: bearer(roles[store.Builder]), want: byRole(store.Builder, true)},
		"an administrator":                 {header: bearer(roles[store.Administrator]), want: byRole(store.Administrator, true)},
		"an owner":                         {header: bearer(roles[store.Owner]), want: byRole(store.Owner, true)},
		"an outsider":                      {header: bearer(outsider), want: byRole(store.Owner, true)},
		"a revoked token":                  {header: bearer(revoked.Secret), want: unknownToken},
		"a revoked token beside a session": {header: bearer(revoked.Secret), cookie: session, want: unknownToken},
		"an expired session":               {cookie: func() *http.Cookie { return expired }, want: unknown},
		"another expired session":          {cookie: func() *http.Cookie { return left }, want: unknown},
		"a session":                        {cookie: session, want: byRole(store.Owner, true)},
		"a session with a Basic header":    {header: basic, cookie: session, want: byRole(store.Owner, true)},
		"a session of an evil page":        {header: evil, cookie: session, want: fromElsewhere},
		"the same with a Basic header":     {header: evilBasic, cookie: session, want: fromElsewhere},
		"a token of an evil page": {header: http.Header{"Origin": evil["Origin"], "Sec-Fetch-Site": evil["Sec-Fetch-Site"], "Authorization": {"Bearer " + roles[store.Owner]}}, want: func(o operation) int {
			if o.needs == "public" {
				return 403 // a sign-in is an act of the page that it comes from
			}
			return byRole(store.Owner, true)(o)
		}},
		"an owner by another name of the host": {header: bearer(roles[store.Owner]), host: "evil.example", want: func(operation) int { return 421 }},
	}
	all := operations(t)
	require.Greater(t, len(all), 60)
	for name, c := range callers {
		t.Run(name, func(t *testing.T) {
			var cookie *http.Cookie
			for _, o := range all {
				if c.cookie != nil && (cookie == nil || o.id == "SignOut" || o.id == "signOut") {
					cookie = c.cookie()
				}
				req, err := http.NewRequestWithContext(within(t, 20*time.Second), o.method, base+o.path, strings.NewReader(`{}`))
				require.NoError(t, err)
				req.Header = c.header.Clone()
				if req.Header == nil {
					req.Header = http.Header{}
				}
				req.Header.Set("Content-Type", "application/json")
				if c.host != "" {
					req.Host = c.host
				}
				if cookie != nil {
					req.AddCookie(cookie)
				}
				res, err := http.DefaultClient.Do(req)
				require.NoError(t, err)
				b, _ := io.ReadAll(io.LimitReader(res.Body, 2000))
				res.Body.Close()
				if o.id == "SignOut" || o.id == "signOut" {
					cookie = nil
				}
				if want := c.want(o); want != allowed {
					require.Equal(t, want, res.StatusCode, "%s by %s: %s", o.id, name, b)
					continue
				}
				no := []int{401, 403, 421, 429}
				if o.needs == "public" {
					no = []int{403, 421}
				}
				require.NotContains(t, no, res.StatusCode, "%s by %s: %s", o.id, name, b)
				require.Less(t, res.StatusCode, 500, "%s by %s: %s", o.id, name, b)
				require.Equal(t, "no-store", res.Header.Get("Cache-Control"), o.id)
				require.Equal(t, "nosniff", res.Header.Get("X-Content-Type-Options"), o.id)
			}
		})
	}
}
