package cli_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"youngtrellis/internal/ottermere/ottermeretest"
	"youngtrellis/internal/standins/switchboard"

	"github.com/stretchr/testify/require"
)

// notRun are commands whose examples are not run here: they run until somebody ends them,
// need a person, another database or a shell of their own, or name something by an id.
var notRun = []string{"completion bash", "completion fish", "completion powershell", "completion zsh", "connection confirm", "connection sign-in", "demo", "item cancel", "item watch", "login", "serve", "setup", "standins", "token revoke", "vault drop-old", "vault rotate"}

// mayFail are examples that need something that has not happened in this world; they
// are found to be well written and say so.
var mayFail = []string{"connection add", "workflow address", "connection remove", "connector paste", "item confirm", "item dismiss", "item edit", "item retry", "item show", "run dismiss", "run resume", "run retry", "run cancel", "run watch", "workflow call", "workflow rehearse", "sample expect"}

// Every command has a help with an example, and the examples work on the demo's data.
func TestEveryCommandHasAnExampleThatWorks(t *testing.T) { // not parallel: it works in a folder of its own
	w := ottermeretest.World(t)
	ctx := within(t, 3*time.Minute)
	dir := t.TempDir()
	t.Chdir(dir)
	for name, text := range map[string]string{
		"openapi.json": `{"openapi": "3.1.0", "info": {"title": "Clay stock"}, "servers": [{"url": "https://stock.ottermere.example"}], "paths": {"/bags": {"get": {"operationId": "bags", "summary": "List the bags"}}}}`,
		"call.txt":     "curl https://api.ottermere.example/v1/orders",
		"call.json":    `{"call_id": "c_9", "duration_s": 40, "number": "+441632960141"}`,
		"calls.json":   `[{"call_id": "c_1", "duration_s": 30, "number": "+441632960141"}, {"call_id": "c_2", "duration_s": 40, "number": "+441632960142"}]`,
		"duty.csv":     "short,name,phone\nelm,Elm Quernlane,+441632960120\n",
		"memos.yaml":   "format: young-trellis/1\nname: memos\ntitle: Memos\ntrigger: {type: manual}\nsteps:\n  - {name: kept, type: filter, settings: {where: \"true\"}}\n",
		"key.txt":      w.TablesKey,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	sent, err := w.Report(ctx, switchboard.Fourteen(time.Now(), "example"))
	require.NoError(t, err)
	for _, x := range sent {
		_, err := w.Wait(ctx, x.Run)
		require.NoError(t, err)
	}
	run := func(line string) (string, int) { return typed(ctx, w.ConfigPath(), dir, line) }
	commands := regexp.MustCompile(`(?s)\nCommands\n(.*?)\n\n`)
	var all []string
	var walk func(path string)
	walk = func(path string) {
		out, code := run("trellis " + path + " --help")
		require.Zero(t, code, path)
		m := commands.FindStringSubmatch(out)
		if m == nil {
			all = append(all, strings.TrimSpace(path))
			require.Contains(t, out, "For example\n", path)
			return
		}
		for _, line := range strings.Split(m[1], "\n") {
			if strings.HasPrefix(line, "  ") && !strings.HasPrefix(line, "   ") {
				walk(strings.TrimSpace(path + " " + strings.Fields(line)[0]))
			}
		}
	}
	walk("")
	require.Greater(t, len(all), 85)
	ran := 0
	// What removes something comes last, what adds something first.
	order := func(name string) int {
		switch verb := name[strings.LastIndex(name, " ")+1:]; {
		case name == "connector import":
			return -2
		case verb == "import":
			return 0
		case name == "connection add":
			return 2
		case verb == "add", verb == "create", name == "workflow export":
			return -1
		case verb == "remove", verb == "delete", verb == "drop", verb == "mend", verb == "pause", name == "workflow address":
			return 3
		}
		return 1
	}
	slices.SortStableFunc(all, func(a, b string) int { return order(a) - order(b) })
	for _, name := range all {
		if slices.Contains(notRun, name) {
			continue
		}
		help, code := run("trellis " + name + " --help")
		require.Zero(t, code, name)
		_, after, _ := strings.Cut(help, "For example\n")
		for _, line := range strings.Split(after, "\n") {
			if line = strings.TrimSpace(line); line == "" {
				break
			}
			if strings.Contains(line, "--ring") {
				continue
			}
			out, code := run(line)
			if ran++; code == 0 {
				continue
			}
			if strings.Contains(out, "It is written as") || strings.Contains(out, "there is no flag") || !slices.Contains(mayFail, name) {
				t.Errorf("%s\n%s", line, out)
			}
		}
	}
	require.Greater(t, ran, 90)
}
