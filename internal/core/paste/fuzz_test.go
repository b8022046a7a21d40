package paste

import (
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/item"
)

// Whatever is pasted: no crash, and what becomes a step can be built and holds none of
// the secrets that were found.
func FuzzRead(f *testing.F) {
	for _, x := range calls {
		f.Add(strings.NewReplacer("ECHO", "http://127.0.0.1:8080", "DIR", "/tmp", "HOST", "127.0.0.1:8080").Replace(x.call))
	}
	f.Add("Curl -X000 000")
	f.Add(strings.Repeat("if ", 300_000) + "curl http://a.example/")
	f.Add(strings.Repeat("$(", 5000))
	f.Add("curl http://a.example/" + strings.Repeat("{a,", 3000))
	f.Add("A=aaaaaaaaaaaaaaaa\n" + strings.Repeat("A=$A$A\n", 40) + "curl http://a.example/$A")
	f.Add("curl --json '" + strings.Repeat("[", 20000) + "' http://a.example")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Read(text)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		_, err = p.built()
		require.NoError(t, err, text)
		settings, err := item.Encode(p.Settings)
		require.NoError(t, err, text)
		for _, s := range p.Secrets {
			if len(s.Value) >= 12 && !s.Shown {
				require.NotContains(t, string(settings), s.Value, text)
				require.NotContains(t, p.Request, s.Value, text)
			}
		}
		k, err := p.Into(nil, Keep{})
		require.NoError(t, err, text)
		for _, s := range p.Secrets {
			if len(s.Value) >= 12 && !s.Shown {
				require.NotContains(t, k.Document, s.Value, text)
			}
		}
	})
}

// made makes a command at random of what people write.
func madeAtRandom(r *rand.Rand, address, dir string) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	words := []string{"a", "name", "Tall jug", "50%", "a&b", "x=y", "é", "ü ß", "a+b", "{}", `{"a": 1}`, `{"b":[1,2.50],"a":"é"}`, "[1]", "'", `"`, `\`, "#", "?", "/", "..", ".", "%2F", "%zz", ";", ",", ":", "@x", "<x", "(= a )", "tok_8d7f6a5b4c3d2e1f", "0", "1e400", "-1", "", "a\nb", "\t", "~", "$A", "`", "|", "^", "*", "!", "\u00a0", "𝄞", "a=1&b=2", "a[]=1"}
	word := func() string {
		s := words[r.IntN(len(words))]
		for r.IntN(3) == 0 {
			s += words[r.IntN(len(words))]
		}
		return s
	}
	// data is no name of a file that is not there
	data := func() string { return strings.ReplaceAll(strings.TrimLeft(word(), "@<"), "@", "-") }
	quote := func(s string) string {
		if !strings.ContainsAny(s, "'") && r.IntN(4) > 0 {
			return "'" + s + "'"
		}
		return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
	}
	url := address
	for r.IntN(3) > 0 {
		url += "/" + strings.NewReplacer("#", "", "?", "", "\n", "", "\t", "", " ", "").Replace(word())
	}
	if r.IntN(2) == 0 {
		url += "?" + strings.NewReplacer("#", "", "\n", "", "\t", "", " ", "").Replace(word()+pick("", "="+word())+pick("", "&"+word()))
	}
	out := []string{"curl", "-g", quote(url)}
	for r.IntN(4) > 0 {
		file := filepath.Join(dir, pick("note.txt", "lines.txt", "glaze.png", "order.json"))
		out = append(out, pick(
			"-X "+pick("GET", "POST", "put", "DELETE", "PATCH", "PURGE"),
			"-H "+quote("X-"+pick("Shop", "Day", "Tag")+":"+word()),
			"-H "+quote(pick("Accept", "Content-Type", "X-Shop")+":"),
			"-H "+quote("Content-Type: "+pick("application/json", "text/plain", "application/x-www-form-urlencoded", "application/vnd.a+json")),
			"-H "+quote(pick("Authorization", "X-Api-Key", "Cookie", "X-Session")+": "+pick("Bearer ", "Basic ", "")+word()),
			"-u "+quote(pick("mara", "nell:kiln")+":"+word()),
			"-d "+quote(data()), "-d "+quote(pick("a", "name", "token")+"="+word()), "--data-raw "+quote(word()), "--data-binary "+quote(data()),
			"--data-urlencode "+quote(data()), "--data-urlencode "+quote(pick("a", "name")+"="+word()), "--data-urlencode a@"+file,
			"-d @"+file, "--data-binary @"+file, "--json "+quote(data()), "--json "+quote(`{"name": `+pick("1", `"Jug"`, "null", "1.0")+`}`),
			"-F "+quote(pick("a", "name", `n"b`)+"="+data()), "-F f=@"+file, "-F "+quote("f=@"+file+pick("", ";type=text/csv", `;filename="x y.txt"`)), "-F 'f=<"+file+"'", "--form-string "+quote("a="+word()),
			"-G", "-I", "-T "+file, "-b "+quote("a="+word()), "-e "+quote(word()), "-r 0-9", "--url-query "+quote(word()), "--url-query "+quote("q="+word()), "-A hall", "-L", "-s", "--path-as-is"))
	}
	return strings.Join(out, " ")
}

// Commands made at random go out as the real program sends them, or it is said what
// does not, for as long as TRELLIS_FUZZ says and for two hundred commands otherwise.
func TestNoCallGoesOutOtherwiseSilently(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	if s := os.Getenv("TRELLIS_FUZZ_SEED"); s != "" {
		_, err := fmt.Sscan(s, &seed)
		require.NoError(t, err)
	}
	r := rand.New(rand.NewPCG(seed, 1))
	until, count := time.Now(), 200
	if s := os.Getenv("TRELLIS_FUZZ"); s != "" {
		d, err := time.ParseDuration(s)
		require.NoError(t, err)
		until, count = until.Add(d), 0
	}
	dir := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	address, take := echo(t)
	sent, refused, theirs := 0, 0, 0
	for n := 0; n < count || time.Now().Before(until); n++ {
		command := madeAtRandom(r, address, dir)
		p, err := Read(command)
		if err != nil {
			refused++
			continue
		}
		run := exec.Command("bash", "-c", `curl() { command curl -s -m 10 --noproxy '*' "$@"; }; `+command)
		run.Stdout = io.Discard
		if run.Run() != nil { // the program itself refuses it; we are kinder
			theirs++
			_, _ = take()
			continue
		}
		want, ok := take()
		send(t, p, address, command)
		got, arrived := take()
		require.True(t, arrived, "seed %d: %s", seed, command)
		notes := strings.Join(p.Notes, " | ")
		for _, x := range p.Placeholders {
			if x.Text == takenOut {
				notes += " | to fill in"
			}
		}
		if !ok { // what it sends is none that a server takes; ours is, and says so
			require.Contains(t, notes, "go out encoded", "seed %d: %s", seed, command)
			continue
		}
		require.NoError(t, silently(want, got, notes), "seed %d: %s", seed, command)
		sent++
	}
	t.Logf("seed %d: %d sent and compared, %d refused here, %d refused by the program itself", seed, sent, refused, theirs)
	require.Greater(t, sent, count/10)
}
