package main

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

const (
	followRows    = 200
	followColumns = 12
	followEdits   = 40
)

// awaits waits for what a script promises.
func awaits(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }

// following is what bar 12 says of the lattice after an edit, in a browser: a field
// is made by another expression in the second of 12 lines, so that every cell after
// it is another for 200 samples; from the stroke until it stands in the first row. The clock is the page's own: it starts at
// the field's input event, and stops at the frame after the cell has changed, so
// that the drawing is in it.
func following(ctx context.Context, w *world) ([]Result, error) {
	doc := strings.Builder{}
	doc.WriteString("format: young-trellis/1\nname: bar-follow\nlabel: item.caller\ntrigger: {type: manual}\nsteps:\n")
	for i := range followColumns {
		switch {
		case i == 1:
			doc.WriteString("  - {name: mark, type: shape, settings: {set: {mark: \"(= item.n )\"}}}\n")
		case i%4 == 3:
			fmt.Fprintf(&doc, "  - {name: s%d, type: filter, settings: {where: \"item.n %% %d != 7\"}}\n", i, 40+i)
		default:
			fmt.Fprintf(&doc, "  - {name: s%d, type: shape, settings: {set: {f%d: \"(= item.caller + ' at step %d, number ' + item.n )\"}}}\n", i, i, i)
		}
	}
	if _, err := ottermere.Answer[api.Workflow](w.client.CreateWorkflow(ctx, api.Document{Document: doc.String()})); err != nil {
		return nil, err
	}
	for i := range followRows {
		sample := api.NewSample{Fields: api.Fields(fmt.Sprintf(`{"n": %d, "caller": "Studio %d", "number": "+4416329601%02d", "note": "kiln %d, cone %d"}`, i, i*7919%1000, i%100, i%3, 4+i%7))}
		if _, err := ottermere.Answer[api.Sample](w.client.AddSample(ctx, "bar-follow", sample)); err != nil {
			return nil, err
		}
	}
	if _, err := ottermere.Answer[api.Rehearsal](w.client.Rehearse(ctx, "bar-follow", api.Rehearse{})); err != nil {
		return nil, err
	}
	page, stop, err := browser.Open(ctx, 1280, 800)
	if err != nil {
		return nil, err
	}
	defer stop()
	field := `[role=treeitem][aria-selected=true] [aria-label="Fields to set: mark"]`
	err = browser.Within(30*time.Second, page, browser.SignIn(w.service.address, "mara@ottermere.example", "a password to bench"),
		chromedp.Navigate(w.service.address+"/workflows/bar-follow?line=mark"), browser.Wait(field), browser.See("Rows from the last rehearsal"),
		chromedp.Evaluate(`document.querySelector('`+field+`').addEventListener("input", () => { window.typed = performance.now(); }, true)`, nil))
	if err != nil {
		return nil, err
	}
	var took []float64
	for i := range followEdits {
		n := 1000 + i*13
		var ms float64
		// What to wait for is known before anything is typed.
		watch := fmt.Sprintf(`window.followed = new Promise((done) => { new MutationObserver((_, o) => { if (!document.querySelector("[role=grid]")?.innerText.includes("mark 0 of %d")) return; o.disconnect(); requestAnimationFrame(() => done(performance.now() - window.typed)); }).observe(document.body, {subtree: true, childList: true, characterData: true}); }); 0`, n)
		err := browser.Within(20*time.Second, page, chromedp.Evaluate(watch, nil), browser.Type(field, fmt.Sprintf("(= 'mark ' + item.n + ' of %d' )", n)),
			chromedp.Evaluate(`window.followed`, &ms, awaits))
		if err != nil {
			return nil, fmt.Errorf("edit %d: %w", i+1, err)
		}
		took = append(took, ms)
		// The draft is saved before the next: a person pauses too.
		if err := browser.Within(10*time.Second, page, browser.See("Draft saved")); err != nil {
			return nil, err
		}
	}
	return []Result{figure(Result{Bar: 12, Work: fmt.Sprintf("after an edit the rows follow in the browser, %d rows and %d columns, p95", followRows, followColumns), Wanted: "at most 150", Notes: []string{fmt.Sprintf("median %.0f ms, %d edits", median(took), followEdits)}}, "ms", percentile(took, 0.95))}, nil
}
