package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

// examples are those of commands that do not say theirs themselves: each works as it
// stands, on the demo's data.
var examples = map[string][]string{
	"completion bash":       {"source <(trellis completion bash)"},
	"completion fish":       {"trellis completion fish | source"},
	"completion powershell": {"trellis completion powershell | Out-String | Invoke-Expression"},
	"completion zsh":        {"source <(trellis completion zsh)"},

	"connection calls":   {"trellis connection calls tables"},
	"connection check":   {"trellis connection check tables"},
	"connection choices": {"trellis connection choices tables workbooks", "trellis connection choices tables tabs --input workbook=wb_p91zsu"},
	"connection confirm": {"trellis connection confirm documents"},
	"connection grant":   {"trellis connection grant tables mara@ottermere.example --action rows", "trellis connection grant tables --everyone"},
	"connection limit":   {"trellis connection limit tables --calls 5", "trellis connection limit tables --off"},
	"connection list":    {"trellis connection list", "trellis connection list -o json"},
	"connection mend":    {"trellis connection mend tables --secret-file key.txt"},
	"connection remove":  {"trellis connection remove statistics"},
	"connection show":    {"trellis connection show tables"},
	"connection sign-in": {"trellis connection sign-in documents"},

	"connector add":    {"trellis connector add stock.yaml"},
	"connector check":  {"trellis connector check stock.yaml"},
	"connector import": {"trellis connector import openapi.json --to stock.yaml"},
	"connector list":   {"trellis connector list"},
	"connector remove": {"trellis connector remove clay-stock"},
	"connector schema": {"trellis connector schema > connector.schema.json"},
	"connector show":   {"trellis connector show tables", "trellis connector show tables --document"},

	"demo":   {"trellis demo", "trellis demo --ring"},
	"doctor": {"trellis doctor"},
	"help":   {"trellis help run show"},
	"login":  {"trellis login http://127.0.0.1:7480 --email mara@ottermere.example"},

	"item cancel":  {"trellis item cancel 018f2b3c-5a51-7d20-9b1c-0d8a35c9e4f1"},
	"item confirm": {"trellis item confirm last row3 --was-done"},
	"item dismiss": {"trellis item dismiss last row3", "trellis item dismiss --workflow counter-calls --step studio --yes"},
	"item edit":    {"trellis item edit last row3 --set number=+441632960141"},
	"item list":    {"trellis item list", "trellis item list --workflow counter-calls"},
	"item retry":   {"trellis item retry last row3", "trellis item retry --workflow counter-calls --yes"},
	"item show":    {"trellis item show last row3"},
	"item watch":   {"trellis item watch 018f2b3c-5a51-7d20-9b1c-0d8a35c9e4f1"},

	"list all":     {"trellis list all"},
	"list back":    {"trellis list back duty 1"},
	"list drop":    {"trellis list drop duty wren"},
	"list export":  {"trellis list export duty", "trellis list export duty duty.csv"},
	"list history": {"trellis list history duty", "trellis list history duty 1"},
	"list import":  {"trellis list import duty duty.csv"},
	"list remove":  {"trellis list remove evening-duty"},
	"list show":    {"trellis list show duty"},

	"run cancel":    {"trellis run cancel last"},
	"run executing": {"trellis run executing"},
	"run item":      {"trellis run item last:counter-calls row1 studio"},
	"run plan":      {"trellis run plan last"},
	"run resume":    {"trellis run resume last"},
	"run retry":     {"trellis run retry last"},
	"run show":      {"trellis run show last", "trellis run show last:counter-calls --fate set_aside"},
	"run watch":     {"trellis run watch last"},

	"sample add":     {"trellis sample add counter-calls calls.json"},
	"sample list":    {"trellis sample list counter-calls"},
	"sample profile": {"trellis sample profile counter-calls"},
	"sample remove":  {"trellis sample remove counter-calls 2"},
	"sample show":    {"trellis sample show counter-calls 1"},
	"sample take":    {"trellis sample take counter-calls"},

	"serve":    {"trellis serve --database-url postgres://trellis@127.0.0.1/trellis --data /var/lib/trellis"},
	"setup":    {"trellis setup --database-url postgres://trellis@127.0.0.1/trellis --workspace \"Ottermere Clayworks\" --email mara@ottermere.example --name \"Mara Quill\""},
	"standins": {"trellis standins"},

	"token list":   {"trellis token list"},
	"token revoke": {"trellis token revoke 018f2b3c-5a51-7d20-9b1c-0d8a35c9e4f1"},

	"trigger list": {"trellis trigger list"},
	"trigger show": {"trellis trigger show kiln-list"},

	"vault drop-old": {"trellis vault drop-old --database-url postgres://trellis@127.0.0.1/trellis --data /var/lib/trellis"},
	"vault rotate":   {"trellis vault rotate --database-url postgres://trellis@127.0.0.1/trellis --data /var/lib/trellis"},
	"version":        {"trellis version"},

	"workflow apply":    {"trellis workflow apply memos.yaml", "trellis workflow apply memos.yaml --live"},
	"workflow check":    {"trellis workflow check memos.yaml"},
	"workflow diff":     {"trellis workflow diff counter-calls"},
	"workflow list":     {"trellis workflow list"},
	"workflow pause":    {"trellis workflow pause counter-calls"},
	"workflow rehearse": {"trellis workflow rehearse counter-calls", "trellis workflow rehearse counter-calls --requests"},
	"workflow schema":   {"trellis workflow schema > workflow.schema.json"},
	"workflow show":     {"trellis workflow show counter-calls", "trellis workflow show counter-calls --document"},
	"workflow unpause":  {"trellis workflow unpause counter-calls"},

	"workspace allow":      {"trellis workspace allow 10.0.0.5:8080"},
	"workspace allowances": {"trellis workspace allowances"},
	"workspace disallow":   {"trellis workspace disallow 10.0.0.5:8080"},
}

// exampled gives a command its examples.
func exampled(c *cobra.Command) {
	name := strings.TrimPrefix(c.CommandPath(), "trellis ")
	if list := examples[name]; c.Example == "" && list != nil {
		c.Example = "  " + strings.Join(list, "\n  ")
	}
	if name == "completion" {
		c.Long, c.Short = "", "Let the shell complete commands and names"
	}
	if strings.HasPrefix(name, "completion ") { // the library's words are of other programs
		c.Long, c.Short = "", "The completion of commands and names, for this shell"
	}
}
