package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"youngtrellis/internal/ottermere/ottermeretest"

	"github.com/stretchr/testify/require"
)

// Items that were set aside are looked at, changed, tried again and let be by command.
func TestItemsAreMendedByCommand(t *testing.T) {
	t.Parallel()
	w := ottermeretest.World(t)
	config := w.ConfigPath()
	const weighing = "format: young-trellis/1\nname: weighing\ntitle: Weighing\nlabel: item.piece\ntrigger: {type: manual}\nsteps:\n  - {name: weighed, type: shape, settings: {set: {kilos: \"(= number(item.kilos) )\"}}, on_error: set_aside}\n"
	out, code := said(t, config, weighing, "workflow", "apply", "-", "--live")
	require.Zero(t, code, out)
	items := `[{"piece": "Jug", "kilos": "2"}, {"piece": "Bowl", "kilos": "two"}, {"piece": "Urn", "kilos": "many"}, {"piece": "Cup", "kilos": "few"}]`
	out, code = said(t, config, items, "workflow", "start", "weighing", "--items", "-", "--watch")
	require.Zero(t, code, out)
	fields := filepath.Join(t.TempDir(), "fields.json")
	require.NoError(t, os.WriteFile(fields, []byte(`{"piece": "Urn", "kilos": "9"}`), 0o600))
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"item", "list"}, 0, "weighing"},
		{[]string{"item", "list", "--workflow", "weighing"}, 0, "Bowl"},
		{[]string{"item", "list", "--kind", "set_asid"}, 2, "Did you mean set_aside?"},
		{[]string{"item", "show", "last", "row2"}, 0, "Bowl"},
		{[]string{"item", "show", "last", "2"}, 0, "Bowl"},
		{[]string{"item", "show", "last", "@1"}, 0, "Bowl"},
		{[]string{"item", "show", "last", "0"}, 2, "rows are numbered from 1"},
		{[]string{"item", "list", "--workflow", "weighing"}, 0, "@1"},
		{[]string{"run", "item", "last", "row2", "weighed"}, 0, "Bowl"},
		{[]string{"run", "item", "last", "row9", "weighed"}, 3, ""},
		{[]string{"run", "item", "last", "row2", "wieghed"}, 3, "Did you mean weighed?"},
		{[]string{"run", "plan", "last"}, 0, "3"},
		{[]string{"item", "edit", "last", "row2", "--set", "kilos=4"}, 2, "say --yes"},
		{[]string{"item", "edit", "last", "row2", "--set", "kilos=4", "--unset", "nosuch", "--yes"}, 2, `the item has no field "nosuch"`},
		{[]string{"item", "edit", "last", "row2"}, 2, "say what is to be changed"},
		{[]string{"item", "edit", "last", "row2", "--set", "kilos=\"4\"", "--yes"}, 0, ""},
		{[]string{"item", "edit", "last", "row3", "--file", fields, "--yes"}, 0, ""},
		{[]string{"item", "retry", "--workflow", "weighing", "--yes"}, 0, ""},
		{[]string{"item", "retry"}, 2, "say which items"},
		{[]string{"run", "retry", "last"}, 0, ""},
		{[]string{"run", "watch", "last"}, 0, "partial"},
		{[]string{"run", "dismiss", "last"}, 2, "say --yes"},
		{[]string{"run", "dismiss", "last", "--yes"}, 0, "1 item dismissed"},
		{[]string{"run", "dismiss", "last", "--yes"}, 3, "no such item waits"},
		{[]string{"run", "dismiss", "last", "--restore"}, 0, "1 item waiting again"},
		{[]string{"item", "dismiss", "last", "row4"}, 0, "1 item dismissed"},
		{[]string{"item", "confirm", "last", "row4"}, 2, "--was-done and --send-again"},
		{[]string{"item", "watch", "018f2b3c-5a51-7d20-9b1c-0d8a35c9e4f1"}, 3, ""},
		{[]string{"run", "resume", "last"}, 5, ""},
		{[]string{"run", "cancel", "last"}, 5, ""},
	} {
		out, code := said(t, config, "", c.args...)
		require.Equal(t, c.code, code, "%v: %s", c.args, out)
		require.Contains(t, out, c.want, "%v", c.args)
	}
}

// Signing in keeps a token in a file; another is made and ended.
func TestSigningInByCommand(t *testing.T) {
	t.Parallel()
	w := ottermeretest.World(t)
	config := filepath.Join(t.TempDir(), "new", "cli.json")
	out, code := said(t, config, "wrong-password", "login", w.Service.Address, "--email", w.Email)
	require.Equal(t, 4, code, out)
	out, code = said(t, config, w.Password+"\n", "login", w.Service.Address, "--email", w.Email)
	require.Zero(t, code, out)
	require.Contains(t, out, "signed in to Ottermere Clayworks as Mara Quill")
	out, code = said(t, config, "", "workspace", "show")
	require.Zero(t, code, out)
	out, code = said(t, config, "", "token", "revoke", "018f2b3c-5a51-7d20-9b1c-0d8a35c9e4f1")
	require.Equal(t, 3, code, out)
	out, code = said(t, config, "", "token", "revoke", "x")
	require.Equal(t, 2, code, out)
}
