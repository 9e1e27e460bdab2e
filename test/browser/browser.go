// Package browser drives Debian's Chromium against the console.
package browser

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"time"

	"github.com/chromedp/chromedp"
)

// Open starts a headless browser with a window of 1280×800. It talks to this
// machine alone. End it with the returned function.
func Open(ctx context.Context, profile string) (context.Context, func(), error) {
	path := os.Getenv("CHROMIUM")
	if path == "" {
		path = "/usr/bin/chromium"
	}
	if _, err := os.Stat(path); err != nil {
		return nil, nil, fmt.Errorf("no browser: %w; install Debian's chromium, or set CHROMIUM", err)
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800),
		chromedp.Flag("no-sandbox", true), chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("force-prefers-reduced-motion", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1"))
	alloc, endAlloc := chromedp.NewExecAllocator(ctx, opts...)
	tab, endTab := chromedp.NewContext(alloc)
	end := func() { endTab(); endAlloc() }
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		end()
		return nil, nil, fmt.Errorf("starting the browser: %w", err)
	}
	return tab, end, nil
}

// patience is long: binaries that look for races compute ten times slower.
const patience = 90 * time.Second

// Wait polls a JavaScript expression until it is true, within patience.
// A page that is on its way, or lacks what the expression looks at, is not
// ready yet.
func Wait(tab context.Context, js string) error {
	for end := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		ok, err := chromedp.Run(tab, chromedp.Evaluate[bool]("!!("+js+")"))
		if ok && err == nil {
			return nil
		}
		if tab.Err() != nil || time.Now().After(end) {
			return fmt.Errorf("waiting for %s: %w", js, cmp.Or(err, fmt.Errorf("not true after %v", patience)))
		}
	}
}

// place is JavaScript that gives the middle of an element, in the window, once it
// stands still and nothing covers it; otherwise null. The first %s gives the element.
const place = `(async () => {
	const at = () => (%s)?.getBoundingClientRect();
	const element = (%[1]s);
	if (!element || element.disabled || element.getAttribute("aria-disabled") === "true") return null;
	element.scrollIntoView({block: "nearest", inline: "nearest"});
	const before = at();
	await new Promise((next) => requestAnimationFrame(() => requestAnimationFrame(next)));
	const now = at();
	if (!now || now.width === 0 || now.x !== before.x || now.y !== before.y) return null;
	const x = now.x + now.width / 2, y = now.y + now.height / 2;
	const top = document.elementFromPoint(x, y);
	return element.contains(top) || top?.contains(element) && top.tagName === "LABEL" ? [x, y] : null;
})()`

// Place waits until the element that JavaScript gives can be reached with the mouse, and
// returns its middle. An element that is covered, disabled or on the move is not reached.
func Place(tab context.Context, js string) (x, y float64, err error) {
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		at, err := chromedp.Run(tab, chromedp.Evaluate[[]float64](fmt.Sprintf(place, js), chromedp.EvalAwaitPromise))
		if err == nil && len(at) == 2 {
			return at[0], at[1], nil
		}
		if tab.Err() != nil || time.Now().After(end) {
			return 0, 0, fmt.Errorf("no way to %s: %w", js, cmp.Or(err, fmt.Errorf("covered, disabled or absent for %v", patience)))
		}
	}
}

// guard is JavaScript that lets the next click through only if it lands on the element
// that the %s gives. window.landed tells whether it did.
const guard = `(() => {
	const element = (%s), kinds = ["pointerdown", "mousedown", "pointerup", "mouseup", "click"];
	window.landed = undefined;
	const see = (e) => {
		window.landed ??= element?.contains(e.target) || e.target.tagName === "LABEL" && e.target.contains(element);
		if (!window.landed) { e.stopImmediatePropagation(); e.preventDefault(); }
	};
	window.unguard?.();
	window.unguard = () => kinds.forEach((k) => removeEventListener(k, see, true));
	kinds.forEach((k) => addEventListener(k, see, true));
	return true;
})()`

// Click clicks the element that JavaScript gives, where it is. Should the page move just
// then, so that the click would land on something else, it is made again.
func Click(tab context.Context, js string) error {
	for end := time.Now().Add(patience); ; {
		x, y, err := Place(tab, js)
		if err != nil {
			return err
		}
		if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](fmt.Sprintf(guard, js))); err != nil {
			return err
		}
		if err := chromedp.Do(tab, chromedp.MouseClickXY(x, y)); err != nil {
			return err
		}
		const missed = "(() => { window.unguard?.(); return window.landed === false })()"
		again, err := chromedp.Run(tab, chromedp.Evaluate[bool](missed))
		if err != nil || !again { // another page may be there by now
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("clicks on %s land elsewhere", js)
		}
	}
}

// SignIn opens a link that signs in, and waits until it has.
func SignIn(tab context.Context, link string) error {
	if err := chromedp.Do(tab, chromedp.Navigate("about:blank"), chromedp.Navigate(link)); err != nil {
		return err
	}
	return Wait(tab, "document.querySelector('[data-test=who]')")
}

// Text is the text of the first element that fits a CSS selector; empty when
// there is none.
func Text(tab context.Context, css string) (string, error) {
	return chromedp.Run(tab, chromedp.Evaluate[string](fmt.Sprintf("(document.querySelector(%q) ?? {innerText: ''}).innerText", css)))
}

// Edit is JavaScript that replaces words in the rule editor, as typing would,
// and is true once they were there.
func Edit(before, after string) string {
	return fmt.Sprintf(`(() => {
		const content = document.querySelector(".cm-content");
		const view = content.cmView?.view ?? content.cmTile?.view;
		const at = view.state.doc.toString().indexOf(%q);
		if (at < 0) return false;
		view.dispatch({changes: {from: at, to: at + %d, insert: %q}});
		return true;
	})()`, before, len(before), after)
}
