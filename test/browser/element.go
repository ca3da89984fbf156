package browser

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

// Elements are found in the page itself, by script. The driver's own queries
// read its copy of the page while it is being changed, which the race
// detector rightly reports.

// lookEvery is how often the page is asked again for an element it lacks.
const lookEvery = 20 * time.Millisecond

// find is a script for the first element that a CSS selector or, if it begins
// with a slash, an XPath expression chooses; null if there is none.
func find(selector string) string {
	quoted, _ := json.Marshal(selector)
	if strings.HasPrefix(selector, "/") {
		return fmt.Sprintf("document.evaluate(%s, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE).singleNodeValue",
			quoted)
	}
	return fmt.Sprintf("document.querySelector(%s)", quoted)
}

// until runs the body of a function of e, the element, until it returns
// something other than null, and puts that into the result.
func until(selector, body string, result any) chromedp.Action {
	script := fmt.Sprintf(`(() => {
		const e = %s;
		if (!e || e.getClientRects().length === 0) return null;
		if (getComputedStyle(e).visibility === "hidden") return null;
		%s
	})()`, find(selector), body)
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for {
			var found json.RawMessage
			// An error is a page on its way to the next one: asked again, too.
			err := chromedp.Evaluate(script, &found).Do(ctx)
			if err == nil && len(found) > 0 && string(found) != "null" {
				return json.Unmarshal(found, result)
			}
			select {
			case <-ctx.Done():
				return fmt.Errorf("no %s to be seen: %w (last: %v)", selector, ctx.Err(), err)
			case <-time.After(lookEvery):
			}
		}
	})
}

// Visible waits until the element is there to be seen.
func Visible(selector string) chromedp.Action {
	var seen bool
	return until(selector, `return true`, &seen)
}

// Focus puts the keyboard into the element.
func Focus(selector string) chromedp.Action {
	var has bool
	return until(selector, `e.focus(); return document.activeElement === e || null`, &has)
}

// Type writes into the element, key by key.
func Type(selector, text string) chromedp.Action {
	return chromedp.Tasks{Focus(selector), chromedp.KeyEvent(text)}
}

// Press clicks the middle of the element with the mouse, once it has come to
// rest there and nothing lies over it.
func Press(selector string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		var at, before struct{ X, Y float64 }
		look := until(selector, `
			e.scrollIntoView({block: "center", inline: "nearest", behavior: "instant"});
			const r = e.getBoundingClientRect();
			const at = {x: r.x + r.width / 2, y: r.y + r.height / 2};
			const hit = document.elementFromPoint(at.x, at.y);
			if (!hit) return null;
			const its = e.contains(hit) || hit.closest("label")?.control === e ||
				(hit.contains(e) && getComputedStyle(e).display === "inline");
			return its ? at : null;`, &at)
		for rested := false; !rested; {
			before = at
			if err := (chromedp.Tasks{look, chromedp.Sleep(lookEvery)}).Do(ctx); err != nil {
				return err
			}
			rested = at == before
		}
		return chromedp.MouseClickXY(at.X, at.Y).Do(ctx)
	})
}

// Disabled says whether the element can be pressed.
func Disabled(selector string, is *bool) chromedp.Action {
	return until(selector, `return e.disabled === true`, is)
}
