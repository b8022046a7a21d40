package cli_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/ottermere/ottermeretest"
)

// signedInAt writes a configuration for a service at an address.
func signedInAt(t *testing.T, address string) string {
	path := filepath.Join(t.TempDir(), "cli.json")
	require.NoError(t, os.WriteFile(path, []byte(`{"address": "`+address+`", "token": "ytk_x"}`), 0o600))
	return path
}

// What was typed wrongly is a usage error that names the argument, the flag or the word,
// and what there is instead.
func TestWhatWasTypedWronglyIsNamed(t *testing.T) {
	t.Parallel()
	nowhere := signedInAt(t, "http://127.0.0.1:1")
	folder := t.TempDir()
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"run", "show"}, "RUN is missing. It is written as: trellis run show RUN"},
		{[]string{"run", "item", "last", "row1"}, "STEP is missing. It is written as: trellis run item RUN ITEM STEP"},
		{[]string{"run", "show", "last", "more"}, `"more" is one too many. It is written as: trellis run show RUN`},
		{[]string{"run", "list", "more"}, `"more" is one too many: trellis run list takes nothing behind it`},
		{[]string{"workflow", "show", ""}, "NAME is empty"},
		{[]string{"item", "dismiss", "last"}, "ITEM is missing. It is written as: trellis item dismiss [RUN ITEM…]"},
		{[]string{"wrokflow"}, `"wrokflow" is no command. Did you mean workflow?`},
		{[]string{"workflow", "lst"}, `"lst" is not something that can be done with a workflow. Did you mean list?`},
		{[]string{"help", "nosuch"}, `"nosuch" is no command.`},
		{[]string{"help", "run", "shw"}, "Did you mean show?"},
		{[]string{"completion", "klingon"}, `"klingon" is not something`},
		{[]string{"run", "list", "--limit", "x"}, `--limit is "x", which is no whole number`},
		{[]string{"run", "list", "--limt", "3"}, "there is no flag --limt here. Did you mean --limit?"},
		{[]string{"run", "list", "-z"}, "there is no flag -z here"},
		{[]string{"run", "list", "--workflow"}, "--workflow needs a value"},
		{[]string{"run", "list", "--state", "failde"}, `--state is "failde"; it can be queued, running, waiting, succeeded, partial, failed or cancelled. Did you mean failed?`},
		{[]string{"run", "list", "-o", "tabel"}, `--output is "tabel"; it can be table, json or yaml`},
		{[]string{"run", "list", "--yes=maybe"}, `which is neither true nor false`},
		{[]string{"workflow", "check", "/nowhere/at/all"}, "there is no file /nowhere/at/all; - reads standard input"},
		{[]string{"workflow", "check", folder}, "is a folder, not a file"},
		{[]string{"login", "127.0.0.1:7480", "--email", "mara@ottermere.example"}, "it is written as http://127.0.0.1:7480"},
		{[]string{"run", "list", "--since", "yesterday"}, "--since"},
		{[]string{"sample", "edit", "counter-calls", "1", "x.json", "--set", "a=1"}, "cannot be reached"},
		{[]string{"setup"}, "is missing"},
		{[]string{"workflow", "start", "x", "--items", "a", "--set", "b=1"}, "--items and --set cannot stand together"},
	} {
		out, code := said(t, nowhere, "", c.args...)
		want := 2
		if strings.Contains(c.want, "cannot be reached") {
			want = 1
		}
		require.Equal(t, want, code, "%v: %s", c.args, out)
		require.Contains(t, out, c.want, "%v", c.args)
	}
}

// Another program that answers at the address is not taken for the service.
func TestAnotherServiceIsRecognised(t *testing.T) {
	t.Parallel()
	for body, status := range map[string]int{`{"workflows": []}`: 200, `<html>hello</html>`: 200, `{"title": "no"}`: 404, "bad gateway": 502} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(status)
			_, _ = w.Write([]byte(body))
		}))
		t.Cleanup(s.Close)
		config := signedInAt(t, s.URL)
		for _, args := range [][]string{{"workflow", "list"}, {"doctor"}, {"run", "watch", "018f2b3c-5a51-7d20-9b1c-0d8a35c9e4f1"}} {
			out, code := said(t, config, "", args...)
			require.Equal(t, 1, code, out)
			if status == 502 {
				require.Contains(t, out, "answers 502, and not by Young Trellis")
			} else {
				require.Contains(t, out, "is answered by something that is no Young Trellis")
			}
		}
	}
	out, code := said(t, filepath.Join(t.TempDir(), "none.json"), "", "workflow", "list")
	require.Equal(t, 4, code)
	require.Contains(t, out, "nobody is signed in")
}

// Exit codes, names that are not there, and what the shell completes, against a service.
func TestNamesAndExitCodes(t *testing.T) {
	t.Parallel()
	w := ottermeretest.World(t)
	config := w.ConfigPath()
	ctx := within(t, time.Minute)
	failing := "format: young-trellis/1\nname: fails\ntitle: Fails\ntrigger: {type: manual}\nsteps:\n  - {name: weighed, type: shape, settings: {set: {kilos: \"(= 1 / item.none )\"}}, on_error: stop}\n"
	out, code := said(t, config, failing, "workflow", "apply", "-", "--live")
	require.Zero(t, code, out)
	for _, c := range []struct {
		in   string
		args []string
		code int
		want string
	}{
		{"", []string{"workflow", "show", "counter-cals"}, 3, "there is no workflow counter-cals. Did you mean counter-calls?"},
		{"", []string{"connection", "show", "tabels"}, 3, "there is no connection tabels. Did you mean tables?"},
		{"", []string{"connector", "show", "nosuchthing"}, 3, "there is no connector nosuchthing. trellis connector list shows them."},
		{"", []string{"sample", "show", "counter-calls", "99"}, 3, "there is no sample 99"},
		{"", []string{"run", "list", "--workflow", "counter-cals"}, 3, "there is no workflow counter-cals. Did you mean counter-calls?"},
		{"", []string{"run", "show", "018f2b3c-5a51-7d20-9b1c-0d8a35c9e4f1"}, 3, "nothing with this name or id"},
		{"", []string{"run", "show", "lst"}, 2, "last for the newest"},
		{"", []string{"run", "show", "last:nosuch"}, 3, "no"},
		{"", []string{"workspace", "allow", "nonsense"}, 2, "is not a host and port"},
		{"x", []string{"connection", "add", "tables", "tables", "--account", "address=http://127.0.0.1:1"}, 5, "There is a connection called tables already."},
		{"", []string{"workflow", "delete", "fails"}, 2, "say --yes"},
		{"", []string{"workflow", "export", "fails", "--revision", "7"}, 3, "there is no revision 7 of fails; it has 1 revision"},
		{"", []string{"workflow", "revisions", "fails", "x"}, 2, "REVISION"},
		{failing, []string{"workflow", "import", "-"}, 5, "There is a workflow called fails already."},
		{failing, []string{"workflow", "import", "-", "--name", "Not A Name"}, 2, "cannot be the name of a workflow"},
		{failing, []string{"workflow", "import", "-", "--name", "fails-too"}, 0, "made fails-too"},
		{"", []string{"workflow", "start", "fails", "--set", "none=0", "--watch"}, 1, "the run failed"},
		{"", []string{"run", "watch", "last"}, 1, "the run failed"},
		{"", []string{"run", "show", "last:fails"}, 0, "failed"},
		{"", []string{"workflow", "revisions", "fails"}, 0, "live"},
		{"", []string{"workflow", "open", "fails"}, 0, w.Service.Address + "/workflows/fails"},
		{"", []string{"connector", "try", "tables.rows", "--input", `{"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}`}, 0, "Nothing was sent."},
		{"", []string{"connector", "try", "tables.rows", "--connection", "sms", "--input", `{}`}, 2, "is one of sms"},
		{"", []string{"connector", "try", "nosuch.rows"}, 2, "nosuch"},
		{"", []string{"workspace", "show"}, 0, "Ottermere Clayworks"},
		{"", []string{"connection", "export", "tables"}, 0, "trellis connection add tables tables --method api_key"},
		{"", []string{"workflow", "delete", "fails-too", "--yes"}, 0, "removed fails-too"},
	} {
		out, code := said(t, config, c.in, c.args...)
		require.Equal(t, c.code, code, "%v: %s", c.args, out)
		require.Contains(t, out, c.want, "%v", c.args)
	}
	rehearse := strings.Replace(failing, "name: fails", "name: tried", 1)
	_, code = said(t, config, rehearse, "workflow", "apply", "-")
	require.Zero(t, code)
	out, code = said(t, config, `{"none": 0}`, "workflow", "rehearse", "tried", "--items", "-")
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "the rehearsal failed")

	runs, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, nil))
	require.NoError(t, err)
	run := runs.Runs[0].Id.String()
	for typed, want := range map[string]string{
		"workflow show ": "counter-calls\tCalls at the counter", "workflow pause cou": "counter-calls", "run show ": run, "run item " + run + " row1 ": "weighed",
		"run list --workflow co": "counter-calls", "run list --state ": "waiting", "run list -o ": "yaml", "connection show tab": "tables", "connection add mine tab": "tables\tTables",
		"connector try tables.": "tables.append", "connector show he": "helpdesk", "sample show counter-calls ": "1\t", "list show du": "duty", "trigger show kiln": "kiln-list", "token create x --role ": "viewer", "item retry --workflow ": "counter-calls",
	} {
		words := strings.Split(typed, " ")
		out, code := said(t, config, "", append([]string{"__complete"}, words...)...)
		require.Zero(t, code, typed)
		require.Contains(t, out, want, typed)
	}
	out, _ = said(t, config, "", "__complete", "connection", "add", "")
	require.NotContains(t, out, "tables", "a new name is none that is there")
}

// Every command that prints facts prints them as JSON and as YAML too.
func TestEveryOutputIsJSONAndYAML(t *testing.T) {
	t.Parallel()
	w := ottermeretest.World(t)
	for _, line := range []string{"version", "doctor", "workflow list", "workflow show counter-calls", "workflow revisions counter-calls", "workflow diff counter-calls", "workflow open counter-calls", "trigger list", "trigger show kiln-list", "trigger next kiln-loads", "run list", "item list", "connection list", "connection show tables",
		"connection export tables", "connection calls tables", "connection choices tables workbooks", "connector list", "connector show tables", "sample list counter-calls", "sample show counter-calls 1", "sample profile counter-calls", "list all", "list show duty", "list columns duty", "list history duty", "token list", "workspace show", "workspace allowances", "functions date", "run executing"} {
		args := strings.Fields(line)
		out, code := said(t, w.ConfigPath(), "", append(args, "-o", "json")...)
		require.Zero(t, code, "%s: %s", line, out)
		require.True(t, json.Valid([]byte(out)), "%s: %s", line, out)
		out, code = said(t, w.ConfigPath(), "", append(args, "-o", "yaml")...)
		require.Zero(t, code, line)
		var v any
		require.NoError(t, yaml.Unmarshal([]byte(out), &v), "%s: %s", line, out)
	}
}

// A newer version of an imported document shows what changes, and for which workflows.
func TestANewerVersionShowsWhatChanges(t *testing.T) {
	t.Parallel()
	w := ottermeretest.World(t)
	config := w.ConfigPath()
	folder := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	document := func(parameters string) string {
		return `{"openapi": "3.1.0", "info": {"title": "Clay stock"}, "servers": [{"url": "https://stock.ottermere.example"}], "paths": {"/bags": {"get": {"operationId": "bags", "parameters": [` + parameters + `]}}}}`
	}
	first, second := write("first.json", document("")), write("second.json", document(`{"name": "glaze", "in": "query", "required": true, "schema": {"type": "string"}}`))
	made := filepath.Join(folder, "stock.yaml")
	for _, c := range []struct {
		in   string
		args []string
		want []string
	}{
		{"", []string{"connector", "import", first, "--to", made}, []string{"1 action that reads and 0 actions that write"}},
		{"", []string{"connector", "add", made}, []string{"added clay-stock, version 1"}},
		{"format: young-trellis/1\nname: stock-taken\ntitle: Stock\ntrigger: {type: manual}\nsteps:\n  - {name: bags, type: clay-stock.bags, connection: stock, input: {}}\n", []string{"workflow", "apply", "-"}, []string{"made stock-taken"}},
		{"", []string{"connector", "import", first}, []string{"clay-stock, version 1, is there already", "It does the same."}},
		{"", []string{"connector", "import", second, "--to", made}, []string{"clay-stock, version 1, is there already", "bags: The field glaze is new, and required. Used by stock-taken.", "What is live keeps the version"}},
		{"", []string{"connector", "add", made}, []string{"What it does otherwise than the version before", "The field glaze is new, and required. Used by stock-taken.", "added clay-stock, version 2"}},
	} {
		out, code := said(t, config, c.in, c.args...)
		require.Zero(t, code, out)
		for _, want := range c.want {
			require.Contains(t, out, want)
		}
	}
}

// Smaller words: the same document again is no other version, a file of another encoding
// is refused without a service, a workflow that nothing calls has no address.
func TestWhatIsTheSameIsSaid(t *testing.T) {
	t.Parallel()
	w := ottermeretest.World(t)
	config := w.ConfigPath()
	const text = "format: young-trellis/1\nname: kept\ntitle: Kept\ntrigger: {type: manual}\nsteps:\n  - {name: always, type: filter, settings: {where: \"true\"}}\n"
	for _, c := range []struct {
		in   string
		args []string
		code int
		want string
	}{
		{text, []string{"workflow", "apply", "-"}, 0, "made kept, draft version 1"},
		{text, []string{"workflow", "apply", "-"}, 0, "nothing is new in kept, draft version 1"},
		{strings.Replace(text, "Kept", "Kept too", 1), []string{"workflow", "apply", "-"}, 0, "changed kept, draft version 2"},
		{strings.Replace(text, "Kept", "caf\xe9", 1), []string{"workflow", "check", "-"}, 2, "- is not valid UTF-8 at line 3, column 11"},
		{strings.Replace(text, "Kept", "caf\xe9", 1), []string{"workflow", "apply", "-"}, 2, "not valid UTF-8"},
		{"", []string{"workflow", "address", "kept"}, 5, "Nothing calls kept: when somebody starts it."},
		{"", []string{"workflow", "address", "kept", "--new-secret"}, 5, "Nothing calls kept"},
		{"", []string{"workflow", "live", "kept"}, 0, "This holds for every item"},
	} {
		out, code := said(t, config, c.in, c.args...)
		require.Equal(t, c.code, code, "%v: %s", c.args, out)
		require.Contains(t, out, c.want, "%v", c.args)
	}
}
