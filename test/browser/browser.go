// Package browser starts a headless Chromium for tests and pictures.
package browser

import (
	"context"
	"errors"
	"os/exec"

	"github.com/chromedp/chromedp"
)

// Start opens a browser window of that size; cancel ends it.
func Start(ctx context.Context, width, height int, dark bool) (context.Context, context.CancelFunc, error) {
	path := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if p, err := exec.LookPath(name); err == nil {
			path = p
			break
		}
	}
	if path == "" {
		return nil, nil, errors.New("there is no Chromium; scripts/test installs it")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path),
		chromedp.WindowSize(width, height), chromedp.NoSandbox, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-dev-shm-usage", true),
		chromedp.Flag("force-prefers-reduced-motion", true)) // a press need not wait for what moves
	if dark {
		options = append(options, chromedp.Flag("blink-settings", "preferredColorScheme=0"))
	}
	alloc, stopAlloc := chromedp.NewExecAllocator(ctx, options...)
	tab, stopTab := chromedp.NewContext(alloc)
	return tab, func() { stopTab(); stopAlloc() }, nil
}

// SignIn opens the console and signs in.
func SignIn(url, name, password string) chromedp.Tasks {
	return chromedp.Tasks{
		chromedp.Navigate(url),
		Type(`input[autocomplete="username"]`, name),
		Type(`input[autocomplete="current-password"]`, password+"\r"),
		Visible(`nav[aria-label="Pages"]`),
	}
}
