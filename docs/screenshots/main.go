// Command screenshots makes the pictures of docs/screenshots anew, from a demo
// world of its own. Names given as arguments choose among them.
package main

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/chromedp/chromedp"

	"youngtrellis/internal/browser"
	"youngtrellis/internal/cli"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/switchboard"

	api "youngtrellis/api/client"
	"youngtrellis/demo"
)

const folder = "docs/screenshots"

func main() {
	if err := run(context.Background()); err != nil {
		log.Fatal("screenshots: ", err)
	}
}

func run(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "trellis-screenshots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	w, err := ottermere.Start(ctx, ottermere.Options{Data: dir, Pages: "localhost", Say: func(s string) { fmt.Println("screenshots: " + s) }})
	if err != nil {
		return err
	}
	defer w.Close()
	sent, err := w.Report(ctx, switchboard.Fourteen(time.Now().UTC(), "pictures"))
	if err != nil {
		return err
	}
	for _, s := range sent {
		if _, err := w.Wait(ctx, s.Run); err != nil {
			return err
		}
	}
	started, err := ottermere.Answer[api.Started](w.Client.StartWorkflow(ctx, "kiln-list", api.Items{}))
	if err != nil {
		return err
	}
	if _, err := w.Wait(ctx, started.Run); err != nil {
		return err
	}
	nested := map[string]string{}
	for _, name := range []string{"kiln-loads", "studio-notes", "glaze-order", "oldest-pieces"} {
		if nested[name], err = withSamples(ctx, w, name); err != nil {
			return err
		}
	}
	// Something to go live with, and something beside it.
	for name, edit := range map[string]string{
		"kiln-loads": `{"op": "set", "step": "dry", "key": "settings.where", "value": "age(item.dry_since) >= duration(\"7d\")"}`,
		"kiln-list":  `{"op": "trigger", "key": "type", "value": "schedule"}, {"op": "trigger", "key": "settings", "value": {"every": "2 hours", "at": ":30", "zone": "Europe/Lisbon"}}`,
	} {
		var edits api.Edits
		if err := json.Unmarshal([]byte(`{"edits": [`+edit+`]}`), &edits); err != nil {
			return err
		}
		if _, err := ottermere.Answer[api.Workflow](w.Client.EditDraft(ctx, name, &api.EditDraftParams{}, edits)); err != nil {
			return err
		}
	}
	if _, err := ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "kiln-list", &api.GoLiveParams{})); err != nil {
		return err
	}
	aside := sent[6].Run.String()
	page, stop, err := browser.Open(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer stop()
	base := w.Service.Address
	if err := browser.Within(30*time.Second, page, browser.SignIn(base, w.Email, w.Password)); err != nil {
		return err
	}
	light := chromedp.Evaluate(`localStorage.setItem("trellis-theme", "light")`, nil)
	shots := []struct {
		name    string
		actions []chromedp.Action
	}{
		{"workflows", []chromedp.Action{light, chromedp.Navigate(base + "/workflows"), browser.See("Calls at the counter")}},
		{"workbench", []chromedp.Action{chromedp.Navigate(base + "/workflows/kiln-list"), browser.See("Rehearse"), browser.Click("Rehearse"), browser.See("Nothing was sent."), browser.Press(`[data-line="dry"] button`), browser.Settle(), browser.Press(`//*[@role="row"][5]//*[@role="gridcell"][2]`)}},
		{"finder", []chromedp.Action{chromedp.Navigate(base + "/workflows/counter-calls?line=noted"), browser.Click("Rehearse"), browser.See("Nothing was sent."), browser.Press(`[aria-label="Find a value for Values: minutes"]`), browser.Type(`[aria-label="Find a value for Values: minutes"][role=combobox]`, "dur"), browser.See("whole number")}},
		{"workbench-nested", []chromedp.Action{light, chromedp.Navigate(base + "/workflows/studio-notes"), browser.See("Rehearse"), browser.Click("Rehearse"), browser.See("Nothing was sent."), browser.Press(`[data-line="way"] button`), browser.Settle()}},
		{"run-nested", []chromedp.Action{chromedp.Navigate(base + "/runs/" + nested["glaze-order"]), browser.See("Tenmoku"), browser.Settle()}},
		{"run", []chromedp.Action{light, chromedp.Navigate(base + "/runs/" + started.Run.String()), browser.See("Tall jug"), browser.Press(`//*[@role="row"][4]//*[@role="gridcell"][2]`), browser.See("Its way here")}},
		{"run-set-aside", []chromedp.Action{chromedp.Navigate(base + "/runs/" + aside), browser.See("Started by a call"), browser.Press(`//*[@role="row"][1]//*[@role="gridcell"][4]`), browser.See("Its way here")}},
		{"mend", []chromedp.Action{chromedp.Navigate(base + "/mend"), browser.See("To mend"), browser.Press(`//section//button[starts-with(normalize-space(.), "Show")]`), browser.Settle()}},
		{"runs", []chromedp.Action{chromedp.Navigate(base + "/runs"), browser.See("Hollowbank Pottery")}},
		{"connections", []chromedp.Action{chromedp.Navigate(base + "/connections?connection=documents"), browser.See("Last calls")}},
		{"connector", []chromedp.Action{chromedp.Navigate(base + "/connectors?connector=helpdesk"), browser.See("Helpdesk"), browser.Press(`//button[contains(., "Raise a ticket")]`), browser.See("a repeat is known")}},
		{"lists", []chromedp.Action{chromedp.Navigate(base + "/lists?list=words"), browser.Wait(`[aria-label="Word of tenmoko"]`)}},
		{"schedule", []chromedp.Action{chromedp.Navigate(base + "/schedule"), browser.Click("A week"), browser.See("Plan tomorrow's kiln loads")}},
		{"golive", []chromedp.Action{chromedp.Navigate(base + "/workflows/kiln-loads/live"), browser.See("Who gets something")}},
		{"try-action", []chromedp.Action{chromedp.Navigate(base + "/connectors?connector=register&try=search"), browser.See("Compare two"), browser.Click("Compare two"), browser.Type(`#try-register-search-name`, "Hollowbank"), browser.Press(`//div[@id="try-register-search"]//button[normalize-space(.)="Try it"]`), browser.See("Came back"), browser.Type(`#try-register-by_domain-domain`, "hollowbank-pottery.example"), browser.Press(`//div[@id="try-register-by_domain"]//button[normalize-space(.)="Try it"]`), browser.See("entity")}},
	}
	for _, s := range shots {
		if len(os.Args) > 1 && !slices.Contains(os.Args[1:], s.name) {
			continue
		}
		var png []byte
		actions := append(slices.Clone(s.actions), browser.Settle(), chromedp.CaptureScreenshot(&png))
		if err := browser.Within(30*time.Second, page, actions...); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if err := os.WriteFile(filepath.Join(folder, s.name+".png"), png, 0o644); err != nil {
			return err
		}
		fmt.Println("screenshots: made " + s.name)
	}
	if len(os.Args) == 1 || slices.Contains(os.Args[1:], "form") {
		if err := form(ctx, page, w); err != nil {
			return fmt.Errorf("form: %w", err)
		}
	}
	return terminal(ctx, page, w, started.Run.String(), aside)
}

// form pictures a hosted form, what is wrong with it, and its answer, side by side as on
// telephones.
func form(ctx context.Context, page context.Context, w *ottermere.World) error {
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "hall-hours"))
	if err != nil {
		return err
	}
	day := time.Now().AddDate(0, 0, 7)
	for day.Weekday() != time.Friday {
		day = day.AddDate(0, 0, 1)
	}
	fill := func(hour string) chromedp.Tasks {
		return chromedp.Tasks{chromedp.SetValue("#who", "Ada Fen"), chromedp.SetValue("#day", day.Format(time.DateOnly)), chromedp.SetValue("#hour", hour)}
	}
	var pictures [3][]byte
	err = browser.Within(30*time.Second, page, chromedp.EmulateViewport(390, 740), chromedp.Navigate(sheet.Address), fill("18:30"), chromedp.CaptureScreenshot(&pictures[0]),
		chromedp.Evaluate(`document.querySelector("form").noValidate = true`, nil), fill("22:30"), browser.Click("Ask for the time"), browser.See("One thing to mend"), browser.Settle(), chromedp.CaptureScreenshot(&pictures[1]),
		fill("18:30"), browser.Click("Ask for the time"), browser.See("Lisbon time."), browser.See("Book"), browser.Settle(), chromedp.CaptureScreenshot(&pictures[2]))
	if err != nil {
		return err
	}
	all := ""
	for _, png := range pictures {
		all += `<img style="border-radius:18px;border:1px solid #cfc9ba" src="data:image/png;base64,` + base64.StdEncoding.EncodeToString(png) + `">`
	}
	var png []byte
	err = browser.Within(30*time.Second, page, chromedp.EmulateViewport(1280, 800), chromedp.Navigate("about:blank"), chromedp.Evaluate(fmt.Sprintf(`document.body.style.cssText = "margin:0;height:100vh;display:flex;gap:24px;justify-content:center;align-items:center;background:#e9e5da"; document.body.innerHTML = %q`, all), nil),
		browser.Until("the pictures", `[...document.images].every((i) => i.complete)`), chromedp.CaptureScreenshot(&png))
	if err != nil {
		return err
	}
	fmt.Println("screenshots: made form")
	return os.WriteFile(filepath.Join(folder, "form.png"), png, 0o644)
}

// withSamples runs a workflow with its samples and waits for its end.
func withSamples(ctx context.Context, w *ottermere.World, name string) (string, error) {
	items := []api.Fields{}
	for _, s := range demo.Samples[name] {
		items = append(items, api.Fields(s))
	}
	started, err := ottermere.Answer[api.Started](w.Client.StartWorkflow(ctx, name, api.Items{Items: &items}))
	if err != nil {
		return "", err
	}
	_, err = w.Wait(ctx, started.Run)
	return started.Run.String(), err
}

// terminal pictures what commands print, set in the console's own type.
func terminal(ctx context.Context, page context.Context, w *ottermere.World, run, aside string) error {
	for _, t := range []struct {
		name string
		args [][]string
	}{
		{"cli-run", [][]string{{"workflow", "show", "kiln-list"}, {"run", "show", run}}},
		{"cli-connect", [][]string{{"connection", "list"}, {"connector", "show", "sms"}}},
		{"cli-item", [][]string{{"trigger", "list"}, {"item", "list"}, {"item", "show", aside, "row1"}}},
	} {
		if len(os.Args) > 1 && !slices.Contains(os.Args[1:], t.name) {
			continue
		}
		var out bytes.Buffer
		for _, args := range t.args {
			fmt.Fprintf(&out, "$ trellis")
			for _, a := range args {
				fmt.Fprintf(&out, " %s", a)
			}
			out.WriteByte('\n')
			if code := cli.Run(ctx, append([]string{"--config", w.ConfigPath()}, args...), os.Stdin, &out, &out); code != 0 {
				return fmt.Errorf("%v ended with %d: %s", args, code, out.String())
			}
			out.WriteByte('\n')
		}
		var png []byte
		err := browser.Within(20*time.Second, page, chromedp.Navigate("about:blank"), chromedp.ActionFunc(func(ctx context.Context) error {
			return chromedp.Evaluate(fmt.Sprintf(`document.body.style.cssText = "margin:0;background:#1d211d;color:#e9ebe3"; const pre = document.createElement("pre"); pre.style.cssText = "margin:22px;font:12.5px/1.38 'DejaVu Sans Mono',monospace"; pre.textContent = %q; document.body.replaceChildren(pre);`, out.String()), nil).Do(ctx)
		}), chromedp.CaptureScreenshot(&png))
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, t.name+".png"), png, 0o644); err != nil {
			return err
		}
		fmt.Println("screenshots: made " + t.name)
	}
	return nil
}
