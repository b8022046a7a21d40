// Package browser drives Debian's headless Chromium for the tests of the
// console and for its screenshots.
package browser

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// ErrMissing says that Chromium is not installed.
var ErrMissing = errors.New("chromium was not found; install it with: apt-get install chromium")

// Open starts a browser with an empty profile and gives its first page.
func Open(ctx context.Context, width, height int) (page context.Context, stop func(), err error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, ErrMissing
	}
	profile, err := os.MkdirTemp("", "trellis-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(width, height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-dev-shm-usage", true), chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("font-render-hinting", "none"), chromedp.Flag("lang", "en-GB"))
	allocator, stopAllocator := chromedp.NewExecAllocator(ctx, options...)
	page, stopPage := chromedp.NewContext(allocator)
	stop = func() {
		stopPage()
		stopAllocator()
		_ = os.RemoveAll(profile)
	}
	if err := chromedp.Run(page, emulation.SetDeviceMetricsOverride(int64(width), int64(height), 1, false)); err != nil {
		stop()
		return nil, nil, err
	}
	return page, stop, nil
}

// Actions on a page. Elements are found in the page by script, and then met the
// way people meet them: by mouse and keyboard.

// find gives a script that finds the first visible element: by a CSS selector,
// or by an XPath if it begins with a slash.
func find(selector string) string {
	all := fmt.Sprintf(`[...document.querySelectorAll(%q)]`, selector)
	if strings.HasPrefix(strings.TrimLeft(selector, "("), "/") {
		all = fmt.Sprintf(`(() => { const r = document.evaluate(%q, document, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null); return Array.from({length: r.snapshotLength}, (_, i) => r.snapshotItem(i)); })()`, selector)
	}
	return all + `.find((e) => { const b = e.getBoundingClientRect(); return b.width > 0 && b.height > 0 && !e.disabled; })`
}

// Until evaluates a script until it is true; what is said where it never is.
func Until(what, script string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for {
			var ok bool
			err := chromedp.Evaluate(script, &ok).Do(ctx)
			if ok {
				return nil
			}
			select {
			case <-ctx.Done():
				return fmt.Errorf("waiting for %s: %w (last: %v)", what, ctx.Err(), err)
			case <-time.After(25 * time.Millisecond):
			}
		}
	})
}

// Wait waits until an element is visible.
func Wait(selector string) chromedp.Action { return Until(selector, `!!(`+find(selector)+`)`) }

// Gone waits until no element fits.
func Gone(selector string) chromedp.Action {
	return Until("the end of "+selector, `!(`+find(selector)+`)`)
}

// See waits until a text is visible.
func See(text string) chromedp.Action {
	return Until("the text "+text, fmt.Sprintf(`document.body.innerText.replace(/\s+/g, " ").includes(%q)`, text))
}

// Press clicks an element once it is there, nothing lies over it, and it stands
// still: in two frames that were drawn it is at the same place. Time alone does not
// tell, for a busy browser draws nothing for a while in the middle of a movement.
func Press(selector string) chromedp.Action {
	place := `new Promise((done) => {
	const look = () => {
		const e = ` + find(selector) + `;
		if (!e) return done({why: "it is gone"});
		e.scrollIntoView({block: "nearest", inline: "nearest"});
		const b = e.getBoundingClientRect(), x = b.x + Math.min(b.width / 2, 60), y = b.y + b.height / 2;
		const there = document.elementFromPoint(x, y);
		if (!there || !(e.contains(there) || there.contains(e) || there.closest("label")?.control === e)) return done({why: "over it lies " + (there?.outerHTML ?? "nothing of the page").slice(0, 200)});
		done({x, y});
	};
	const late = setTimeout(look, 1000);
	requestAnimationFrame(() => { clearTimeout(late); look(); });
})`
	return chromedp.ActionFunc(func(ctx context.Context) error {
		if err := Wait(selector).Do(ctx); err != nil {
			return err
		}
		var before, at struct {
			X, Y float64
			Why  string
		}
		before.Why = "it was not looked at"
		for {
			at.X, at.Y, at.Why = 0, 0, ""
			if err := chromedp.Evaluate(place, &at, awaited).Do(ctx); err != nil && ctx.Err() == nil {
				return err
			}
			if at.Why == "" && at == before {
				return chromedp.MouseClickXY(at.X, at.Y).Do(ctx)
			}
			if err := pause(ctx); err != nil {
				return fmt.Errorf("pressing %s: %w (%s)", selector, err, cmp.Or(at.Why, "it does not stand still"))
			}
			before = at
		}
	})
}

func awaited(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }

func pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(25 * time.Millisecond):
		return nil
	}
}

// Click presses the button or link with this text.
func Click(text string) chromedp.Action {
	return Press(fmt.Sprintf(`//*[self::button or self::a][normalize-space(.)="%s"]`, text))
}

// Tick ticks every box of the page that is not ticked.
func Tick() chromedp.Action {
	return chromedp.Evaluate(`document.querySelectorAll("input[type=checkbox]:not(:checked)").forEach((c) => c.click())`, nil)
}

// Type puts text into the element, in place of what it holds.
func Type(selector, text string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		if err := Press(selector).Do(ctx); err != nil {
			return err
		}
		if err := Keys("Control+a").Do(ctx); err != nil {
			return err
		}
		return input.InsertText(text).Do(ctx)
	})
}

// Drag takes one element by the mouse and lets it go over the upper part of
// another.
func Drag(from, to string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		var at []float64
		script := `(() => { const [a, b] = [` + find(from) + `, ` + find(to) + `].map((e) => e.getBoundingClientRect()); return [a.x + 60, a.y + a.height / 2, b.x + 60, b.y + b.height / 4]; })()`
		if err := (chromedp.Tasks{Wait(from), Wait(to), chromedp.Evaluate(script, &at)}).Do(ctx); err != nil {
			return err
		}
		if err := input.DispatchMouseEvent(input.MousePressed, at[0], at[1]).WithButton(input.Left).WithClickCount(1).Do(ctx); err != nil {
			return err
		}
		for i := 1.0; i <= 10; i++ {
			if err := input.DispatchMouseEvent(input.MouseMoved, at[0]+(at[2]-at[0])*i/10, at[1]+(at[3]-at[1])*i/10).WithButton(input.Left).WithButtons(1).Do(ctx); err != nil {
				return err
			}
			if err := pause(ctx); err != nil {
				return err
			}
		}
		return input.DispatchMouseEvent(input.MouseReleased, at[2], at[3]).WithButton(input.Left).WithClickCount(1).Do(ctx)
	})
}

// Keys presses a key: a name of the DOM standard such as Enter or ArrowDown, or a
// letter; with Control+, Alt+ or Shift+ before it.
func Keys(key string) chromedp.Action {
	held := input.Modifier(0)
	for name, m := range map[string]input.Modifier{"Control+": input.ModifierCtrl, "Alt+": input.ModifierAlt, "Shift+": input.ModifierShift} {
		if strings.Contains(key, name) {
			key, held = strings.ReplaceAll(key, name, ""), held|m
		}
	}
	return chromedp.ActionFunc(func(ctx context.Context) error {
		code, number := key, codes[key]
		if len(key) == 1 {
			code, number = "Key"+strings.ToUpper(key), int64(strings.ToUpper(key)[0])
		}
		down := input.DispatchKeyEvent(input.KeyDown).WithModifiers(held).WithKey(key).WithCode(code).WithWindowsVirtualKeyCode(number)
		if commands := editing[key]; held == input.ModifierCtrl && commands != "" {
			down = down.WithCommands([]string{commands})
		}
		if text := typed[key]; text != "" && held == 0 {
			down = down.WithText(text)
		}
		up := input.DispatchKeyEvent(input.KeyUp).WithModifiers(held).WithKey(key).WithCode(code).WithWindowsVirtualKeyCode(number)
		return errors.Join(down.Do(ctx), up.Do(ctx))
	})
}

var (
	codes   = map[string]int64{"Enter": 13, "Escape": 27, " ": 32, "End": 35, "Home": 36, "ArrowLeft": 37, "ArrowUp": 38, "ArrowRight": 39, "ArrowDown": 40, "Tab": 9, "Delete": 46, "F2": 113, "F10": 121}
	editing = map[string]string{"a": "selectAll", "c": "copy", "x": "cut", "v": "paste"}
	typed   = map[string]string{"Enter": "\r", " ": " ", "n": "n", "p": "p"}
)

// Text reads an element's text.
func Text(selector string, into *string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		if err := Wait(selector).Do(ctx); err != nil {
			return err
		}
		return chromedp.Evaluate(`(`+find(selector)+`).innerText`, into).Do(ctx)
	})
}

// SignIn opens the console and signs in.
func SignIn(address, email, password string) chromedp.Tasks {
	return chromedp.Tasks{chromedp.Navigate(address), Type("#email", email), Type("#password", password), Click("Sign in"), Wait(`nav[aria-label="Pages"]`)}
}

// Settle waits until nothing has changed on the page for a moment.
func Settle() chromedp.Action {
	return chromedp.Evaluate(`new Promise((done) => { let t; const end = () => { o.disconnect(); done(true); }; const o = new MutationObserver(() => { clearTimeout(t); t = setTimeout(end, 250); }); o.observe(document, {subtree: true, childList: true, attributes: true, characterData: true}); t = setTimeout(end, 250); setTimeout(end, 3000); })`, nil, awaited)
}

// Within bounds a set of actions in time. The error says what the page showed.
func Within(d time.Duration, page context.Context, actions ...chromedp.Action) error {
	ctx, cancel := context.WithTimeout(page, d)
	defer cancel()
	err := chromedp.Run(ctx, actions...)
	if err == nil {
		return nil
	}
	ctx, cancel = context.WithTimeout(page, 5*time.Second)
	defer cancel()
	var shown string
	if serr := chromedp.Run(ctx, chromedp.Evaluate(`[...document.querySelectorAll('[role=dialog], [data-sonner-toast]'), document.body].map((e) => e.innerText.replace(/\s+/g, " ").slice(0, 1500)).join("\n---\n")`, &shown)); serr != nil {
		shown = serr.Error()
	}
	return fmt.Errorf("%w\nthe page showed:\n%s", err, shown)
}

// Choose takes the option with this text, once a list of options has it.
func Choose(selector, option string) chromedp.Action {
	list := find(selector)
	at := fmt.Sprintf(`[...(%s)?.options ?? []].findIndex((o) => o.text.trim() === %q)`, list, option)
	return chromedp.ActionFunc(func(ctx context.Context) error {
		if err := Until("the option "+option+" of "+selector, `(`+at+`) >= 0`).Do(ctx); err != nil {
			return err
		}
		return chromedp.Evaluate(`(() => { const list = `+list+`; const at = `+at+`; list.scrollIntoView({block: "nearest"}); list.focus(); list.selectedIndex = at; list.dispatchEvent(new Event("input", {bubbles: true})); list.dispatchEvent(new Event("change", {bubbles: true})); })()`, nil).Do(ctx)
	})
}

// Enter gives a control of a day or a time its value: how one types it depends on
// the language of the browser.
func Enter(selector, value string) chromedp.Action {
	return chromedp.Tasks{Press(selector), chromedp.ActionFunc(func(ctx context.Context) error {
		return chromedp.Evaluate(fmt.Sprintf(`(() => { const e = %s; Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(e, %q); e.dispatchEvent(new Event("input", {bubbles: true})); e.dispatchEvent(new Event("change", {bubbles: true})); })()`, find(selector), value), nil).Do(ctx)
	})}
}
