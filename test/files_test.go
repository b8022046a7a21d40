package test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"os"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
)

func scopeOf(t *testing.T, w *ottermere.World) uuid.UUID {
	t.Helper()
	sc, err := w.Service.Store.ScopeOfToken(context.Background(), w.Token)
	require.NoError(t, err)
	return sc.Workspace()
}

// collect counts calls that bring a credential.
func collect(n *atomic.Int64) func(http.ResponseWriter, *http.Request) {
	return func(rw http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			n.Add(1)
		}
		_, _ = rw.Write([]byte("{}"))
	}
}

// endless gives n bytes that do not repeat soon.
type endless struct{ left, at int64 }

func (e *endless) Read(b []byte) (int, error) {
	if e.left == 0 {
		return 0, io.EOF
	}
	n := int64(min(int64(len(b)), e.left))
	for i := range n {
		e.at++
		b[i] = byte(e.at ^ e.at>>8 ^ e.at>>16)
	}
	e.left -= n
	return int(n), nil
}

// resident is the most memory that a process has had, in MiB.
func resident(t *testing.T, pid int) int {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	m := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(b)
	n, err := strconv.Atoi(string(m[1]))
	require.NoError(t, err)
	return n / 1024
}

// comesIn calls a workflow with a form that has a large file, and looks at what became of
// it.
func comesIn(ctx context.Context, t *testing.T, w *ottermere.World, service string, size int64, want string) {
	t.Helper()
	called(ctx, t, w, "parcels", "{}")
	sheet, err := ottermere.Answer[client.CallSheet](w.Client.CallSheet(ctx, "parcels"))
	require.NoError(t, err)
	made, err := ottermere.Answer[client.MadeSecret](w.Client.MakeHookSecret(ctx, "parcels", client.MakeHookSecretJSONRequestBody{}))
	require.NoError(t, err)
	const head = "--edge\r\nContent-Disposition: form-data; name=\"sound\"; filename=\"hall.wav\"\r\nContent-Type: audio/wav\r\n\r\n"
	body := io.MultiReader(strings.NewReader(head), &endless{left: size}, strings.NewReader("\r\n--edge--\r\n"))
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, service+sheet.Address[strings.Index(sheet.Address, "/hooks/"):], body)
	require.NoError(t, err)
	req.Header = http.Header{"Authorization": {"Bearer " + *made.Secret}, "Content-Type": {"multipart/form-data; boundary=edge"}}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	var said struct{ Run uuid.UUID }
	require.NoError(t, json.NewDecoder(res.Body).Decode(&said))
	require.Equal(t, http.StatusAccepted, res.StatusCode)
	_, err = w.Wait(ctx, said.Run)
	require.NoError(t, err)
	cell, err := ottermere.Answer[client.OpenedCell](w.Client.OpenCell(ctx, said.Run, "0", "seen"))
	require.NoError(t, err)
	require.Contains(t, string(cell.Before), want, "it is what went up before")
}

// filledIn fills in a form with a large file, and looks at what became of it.
func filledIn(ctx context.Context, t *testing.T, w *ottermere.World, service string, size int64, want string) {
	t.Helper()
	at := formed(ctx, t, w, "cards", "fields: [{name: sound, hint: file, up_to: 1200, required: true}]", `  - {name: told, type: answer, settings: {page: "(= item.sound.file )"}}`)
	at = service + at[strings.Index(at, "/forms/"):]
	head := "--edge\r\nContent-Disposition: form-data; name=\"form-submission\"\r\n\r\n" + opens(ctx, t, at) + "\r\n--edge\r\nContent-Disposition: form-data; name=\"sound\"; filename=\"hall.wav\"\r\nContent-Type: audio/wav\r\n\r\n"
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, at, io.MultiReader(strings.NewReader(head), &endless{left: size}, strings.NewReader("\r\n--edge--\r\n")))
	require.NoError(t, err)
	req.Header = http.Header{"Content-Type": {"multipart/form-data; boundary=edge"}, "Accept": {"text/html"}}
	res, err := http.DefaultClient.Do(req) // and on to its answer
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, res.StatusCode, "%s", text)
	require.Contains(t, string(text), want, "it is what went up before")
}

// A large file goes up as a part of a form and comes down to a file, through a
// service in a process of its own, whose memory hardly grows. TRELLIS_LARGE=1
// makes it one GiB.
func TestLargeFilesAreStreamed(t *testing.T) {
	if testing.Short() {
		t.Skip("short")
	}
	size := int64(192 << 20)
	if os.Getenv("TRELLIS_LARGE") != "" {
		size = 1 << 30
	}
	w := world(t)
	ctx := within(t, 8*time.Minute)
	var seen atomic.Value
	at := serveFunc(t, func(rw http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/up":
			_, params, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
			parts, sum, n := multipart.NewReader(r.Body, params["boundary"]), sha256.New(), int64(0)
			for {
				p, err := parts.NextPart()
				if err != nil {
					break
				}
				if p.FileName() != "" {
					n, _ = io.Copy(sum, p)
				}
			}
			seen.Store(fmt.Sprintf("%d %d %s", r.ContentLength, n, hex.EncodeToString(sum.Sum(nil))))
			_, _ = rw.Write([]byte(`{"ok": true}`))
		case "/down":
			rw.Header().Set("Content-Type", "application/octet-stream")
			rw.Header().Set("Content-Disposition", `attachment; filename="../../kiln hall.wav"`)
			_, _ = io.Copy(rw, &endless{left: size})
		default:
			_, _ = rw.Write([]byte(`{}`))
		}
	})
	own(t, w, "large", host(at), "actions:\n  up: {title: Up, sentence: Up, effect: write, fields: {type: object, properties: {sound: {type: object, hint: file}}}, request: {method: POST, path: /up, multipart: {sound: (= input.sound ), note: long}}, sample: {}}\n"+
		"  down: {title: Down, sentence: Down, effect: read, fields: {type: object}, request: {method: GET, path: /down}, sample: {}}\n")
	data := clustertest.Folder(t)
	key, err := os.ReadFile(w.Data + "/service/vault.key")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(data+"/vault.key", key, 0o600))
	p := serve(t, w.DatabaseURL, data)
	cl := clientOf(t, p.address, w.Token)
	require.NoError(t, tries(ctx, cl, "large", "http", `{"url": "/warm"}`))
	before := resident(t, p.Process.Pid)

	sum := sha256.New()
	req, err := http.NewRequestWithContext(ctx, "POST", p.address+"/api/v1/files?name=hall.wav&type=audio/wav", io.TeeReader(&endless{left: size}, sum))
	require.NoError(t, err)
	req.ContentLength = size
	req.Header.Set("Authorization", "Bearer "+w.Token)
	req.Header.Set("Content-Type", "application/octet-stream")
	file, err := ottermere.Answer[client.File](http.DefaultClient.Do(req))
	require.NoError(t, err)
	require.Equal(t, size, file.Size)
	require.Equal(t, "sha256-"+hex.EncodeToString(sum.Sum(nil)), file.File)
	b, err := json.Marshal(map[string]any{"sound": file})
	require.NoError(t, err)
	require.NoError(t, tries(ctx, cl, "large", "up", string(b)))
	arrived := strings.Fields(seen.Load().(string))
	require.Equal(t, strconv.FormatInt(size, 10), arrived[1])
	require.Equal(t, hex.EncodeToString(sum.Sum(nil)), arrived[2])
	require.NotEqual(t, "-1", arrived[0], "its length was told before")

	name := "large"
	tried, err := ottermere.Answer[client.Tried](cl.TryAction(ctx, client.Try{Connection: &name, Action: "down", Input: client.Fields(`{}`), Send: some(true)}))
	require.NoError(t, err)
	require.Nil(t, tried.Why)
	require.Contains(t, string(*tried.Output), file.File, "what came down is what went up")
	require.Contains(t, string(*tried.Output), `"name":"kiln hall.wav"`)
	comesIn(ctx, t, w, p.address, size, file.File)
	filledIn(ctx, t, w, p.address, size, file.File)
	grown := resident(t, p.Process.Pid) - before
	t.Logf("%d MiB up, down and in: memory grew by %d MiB to %d MiB", size>>20, grown, before+grown)
	require.Less(t, grown, 64)
}
