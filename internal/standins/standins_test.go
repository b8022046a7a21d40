package standins_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/standins"
	"youngtrellis/internal/standins/contacts"
	"youngtrellis/internal/standins/switchboard"
	"youngtrellis/internal/standins/tables"
)

var day = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

func ask(t *testing.T, method, address, body string, headers ...string) (int, string, http.Header) {
	t.Helper()
	req, err := http.NewRequest(method, address, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(b), res.Header
}

func TestTablesBehavesLikeTheRealThing(t *testing.T) {
	t.Parallel()
	saved := standins.Saved{Path: filepath.Join(t.TempDir(), "tables.json")}
	side := tables.New("k", day, saved)
	s := httptest.NewServer(side.Engine)
	t.Cleanup(s.Close)
	rows := s.URL + "/v1/tabs/" + tables.CallsTab + "/rows"
	status, body, _ := ask(t, "GET", s.URL+"/v1/me", "")
	require.Equal(t, 401, status)
	require.Contains(t, body, "X-Tables-Key")
	for _, c := range []struct {
		body, want string
		status     int
	}{
		{`{"values": {"name": "A"}}`, `"number":1`, 201}, {`{"values": {"nme": "A"}}`, "no column nme", 422}, {`{"values": {}}`, "at least one column", 422},
		{`{`, "at least one column", 422}, {`{"values": {"name": "` + strings.Repeat("x", 2001) + `"}}`, "more than 2000", 422},
	} {
		status, body, _ := ask(t, "POST", rows, c.body, "X-Tables-Key", "k")
		require.Equal(t, c.status, status, body)
		require.Contains(t, body, c.want)
	}
	for range 3 {
		status, body, _ = ask(t, "POST", rows, `{"values": {"name": "B"}}`, "X-Tables-Key", "k", "Idempotency-Key", "same")
		require.Equal(t, 201, status)
		require.Contains(t, body, `"number":2`)
	}
	require.Len(t, side.Rows(tables.CallsTab), 2, "a repeat under the same key adds nothing")
	require.Equal(t, 2, side.Repeats())
	side.SetFaults(standins.Faults{Forgetful: true})
	ask(t, "POST", rows, `{"values": {"name": "B"}}`, "X-Tables-Key", "k", "Idempotency-Key", "same")
	require.Len(t, side.Rows(tables.CallsTab), 3)

	side.Fill(450, day)
	seen, cursor := 0, ""
	for {
		_, body, _ := ask(t, "GET", s.URL+"/v1/tabs/"+tables.PiecesTab+"/rows?limit=200&cursor="+cursor, "", "X-Tables-Key", "k")
		var page struct {
			Rows []json.RawMessage
			Next string
		}
		require.NoError(t, json.Unmarshal([]byte(body), &page))
		seen += len(page.Rows)
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	require.Equal(t, 450, seen)
	status, body, _ = ask(t, "GET", s.URL+"/", "")
	require.Equal(t, 200, status)
	require.Contains(t, body, "Counter, Calls")
	status, body, _ = ask(t, "GET", s.URL+"/openapi.json", "")
	require.Equal(t, 200, status)
	require.Contains(t, body, `"openapi":"3.1.0"`)
	require.NoError(t, side.Save())
	require.Len(t, tables.New("k", day, saved).Rows(tables.CallsTab), 3, "it goes on with the same data")
}

func TestFaultsAreShownAsTold(t *testing.T) {
	t.Parallel()
	side := tables.New("k", day, standins.Saved{})
	s := httptest.NewServer(side.Engine)
	t.Cleanup(s.Close)
	status, _, _ := ask(t, "PUT", s.URL+"/faults", `{"wait_s": 660}`)
	require.Equal(t, 200, status)
	status, _, header := ask(t, "GET", s.URL+"/v1/me", "", "X-Tables-Key", "k")
	require.Equal(t, 429, status)
	require.Equal(t, "660", header.Get("Retry-After"))
	side.SetFaults(standins.Faults{RefuseKeys: true})
	status, body, _ := ask(t, "GET", s.URL+"/v1/me", "", "X-Tables-Key", "k")
	require.Equal(t, 401, status)
	require.Contains(t, body, "withdrawn")
	side.SetFaults(standins.Faults{ErrorEvery: 2})
	var statuses []int
	for range 4 {
		status, _, _ := ask(t, "GET", s.URL+"/v1/me", "", "X-Tables-Key", "k")
		statuses = append(statuses, status)
	}
	require.Equal(t, []int{200, 500, 200, 500}, statuses)
	side.SetFaults(standins.Faults{CutEvery: 1})
	_, err := http.Post(s.URL+"/v1/tabs/"+tables.CallsTab+"/rows", "application/json", strings.NewReader("{}"))
	require.Error(t, err, "the connection is cut")
}

func TestContactsTakesWholeNumbersOnly(t *testing.T) {
	t.Parallel()
	side := contacts.New("t", standins.Saved{})
	s := httptest.NewServer(side.Engine)
	t.Cleanup(s.Close)
	put := func(body string) (int, string) {
		status, answer, _ := ask(t, "PUT", s.URL+"/v1/studios/by-phone", body, "Authorization", "Bearer t")
		return status, answer
	}
	known := len(side.Studios())
	status, body := put(`{"phone": "+441632960141", "name": "Somebody"}`)
	require.Equal(t, 200, status)
	require.Contains(t, body, `"made":false`)
	require.Contains(t, body, "Hollowbank Pottery")
	for range 2 {
		status, body = put(`{"phone": "+441632960199", "name": "Fernhill Pots"}`)
		require.Equal(t, 200, status)
	}
	require.Contains(t, body, `"made":false`)
	require.Len(t, side.Studios(), known+1, "one studio for each number")
	for _, phone := range []string{"+44 1632", "01632960141", "", "+4416329601411234567"} {
		status, body = put(`{"phone": "` + phone + `"}`)
		require.Equal(t, 422, status)
		require.Contains(t, body, "is not a whole number")
	}
	status, _, _ = ask(t, "GET", s.URL+"/v1/account", "", "Authorization", "Bearer x")
	require.Equal(t, 401, status)
}

func TestTheAfternoonHasItsOddities(t *testing.T) {
	t.Parallel()
	calls := switchboard.Fourteen(day, "x")
	require.Len(t, calls, 14)
	ids, short, shown, order := map[string]int{}, 0, 0, 0
	for i, c := range calls {
		ids[c.CallID]++
		if c.Seconds < 20 {
			short++
		}
		if c.Number == "" {
			shown++
		}
		if i > 0 && c.Ended < calls[i-1].Ended {
			order++
		}
	}
	require.Len(t, ids, 13, "one is reported twice")
	require.Equal(t, 3, short)
	require.Equal(t, 1, shown)
	require.Positive(t, order, "one comes out of order")
	require.Equal(t, calls, switchboard.Fourteen(day, "x"), "it is the same every time")
}
