package test

import (
	"context"
	"testing"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"youngtrellis/internal/browser"
)

// slowly lets every answer come late, each at its own time, and collects what can
// be pressed and moved after it was shown without anybody having done something
// (https://wicg.github.io/layout-instability/).
const slowly = `
window.asked = 0;
const now = window.fetch;
window.fetch = async (...what) => {
	const url = new URL(what[0].url ?? what[0], location.href).pathname;
	window.asked++;
	try {
		const answer = await now(...what);
		await new Promise((done) => setTimeout(done, 80 + [...url].reduce((n, c) => (n * 31 + c.charCodeAt(0)) % 400, 0)));
		return answer;
	} finally {
		setTimeout(() => window.asked--, 50);
	}
};
window.moved = [];
const pressed = "a, button, input, select, textarea";
new PerformanceObserver((list) => {
	for (const e of list.getEntries()) {
		if (e.hadRecentInput) continue;
		for (const s of e.sources) {
			const n = s.node?.nodeType === 1 ? s.node : s.node?.parentElement;
			const by = Math.hypot(s.currentRect.x - s.previousRect.x, s.currentRect.y - s.previousRect.y);
			if (!n || by < 4 || s.previousRect.width === 0 || s.currentRect.width === 0) continue;
			if (n.matches(pressed) || n.querySelector(pressed) || n.closest("a, button")) window.moved.push(Math.round(by) + "px: " + (n.outerHTML ?? "").slice(0, 160));
		}
	}
}).observe({type: "layout-shift", buffered: true});
`

// A page that is still being read does not move what can already be pressed: who
// presses it would press something else.
func TestNothingMovesUnderTheMouse(t *testing.T) {
	t.Parallel()
	w := world(t)
	list := places(t, w)
	p := console(t, w)
	do(t, p, chromedp.ActionFunc(func(ctx context.Context) error {
		_, err := page.AddScriptToEvaluateOnNewDocument(slowly).Do(ctx)
		return err
	}))
	seen := map[string]bool{}
	for _, at := range list {
		if seen[at.path] {
			continue
		}
		seen[at.path] = true
		var moved []string
		do(t, p, chromedp.Navigate(w.Service.Address+at.path), browser.Wait("main"), browser.Settle(), browser.Until("every answer", `window.asked === 0`), browser.Settle(), chromedp.Evaluate(`window.moved`, &moved))
		for _, m := range moved {
			t.Errorf("%s (%s) %s", at.name, at.path, m)
		}
	}
}
