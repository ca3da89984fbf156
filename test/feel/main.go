// Command feel measures how the console of a running service feels:
//
//	feel -url URL -password PASSWORD [-inside HOST:PORT -rate 20 -live 1h]
//
// Fill the queue before, to measure the lists: with all delivery paused, say. With -live it
// leaves the overview open for so long, sends so many messages a second through the listener
// for machines, and tells memory, work and requests minute by minute.
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"net/smtp"
	"os"
	"strings"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/heapprofiler"
	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"gullroute/test/browser"
)

func main() {
	url := flag.String("url", os.Getenv("GULL_URL"), "address of the console")
	password := flag.String("password", "", "of keeper")
	inside := flag.String("inside", "127.0.0.1:2526", "the listener for machines")
	rate := flag.Int("rate", 20, "messages a second while -live")
	live := flag.Duration("live", 0, "how long to watch the overview")
	flag.Parse()
	if err := run(*url, *password, *inside, *rate, *live); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// longTasks notes how long the page was busy at a stretch: 50 ms and more are told.
const longTasks = `window.__long = []; new PerformanceObserver(l => l.getEntries().forEach(
	e => window.__long.push([e.startTime, e.duration]))).observe({type: "longtask", buffered: true})`

type feel struct {
	ctx context.Context
	url string
}

func (f *feel) do(actions ...chromedp.Action) error { return chromedp.Run(f.ctx, actions...) }

func value[T any](f *feel, script string) (v T, err error) {
	err = f.do(chromedp.Evaluate(script, &v, func(p *runtime.EvaluateParams) *runtime.EvaluateParams {
		return p.WithAwaitPromise(true)
	}))
	return v, err
}

func run(url, password, inside string, rate int, live time.Duration) error {
	ctx, stop, err := browser.Start(context.Background(), 1280, 800, false)
	if err != nil {
		return err
	}
	defer stop()
	f := &feel{ctx, url}
	if err := f.do(browser.SignIn(url, "keeper", password)); err != nil {
		return err
	}
	if live > 0 {
		return f.watch(inside, rate, live)
	}
	for _, step := range []func() error{f.opens, f.scrolls, f.answers} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// opens measures the first view on a processor four times as slow.
func (f *feel) opens() error {
	for range 3 {
		err := f.do(
			emulation.SetCPUThrottlingRate(4),
			chromedp.Navigate(f.url+"/"),
			chromedp.WaitVisible(`#wrong`, chromedp.ByQuery),
			chromedp.Evaluate(longTasks, nil),
			chromedp.Sleep(2*time.Second),
		)
		if err != nil {
			return err
		}
		// Ready for a hand: half a second without a long task follows.
		ms, err := value[[]float64](f, `(() => {
			const paint = performance.getEntriesByName("first-contentful-paint")[0]?.startTime ?? 0;
			let ready = paint;
			for (const [from, took] of window.__long.sort((a, b) => a[0] - b[0]))
				if (from < ready + 500) ready = Math.max(ready, from + took);
			return [paint, ready, window.__long.reduce((n, l) => n + Math.max(0, l[1] - 50), 0)];
		})()`)
		if err != nil {
			return err
		}
		fmt.Printf("overview, processor 4 times slower: first paint %.0f ms, ready %.0f ms, blocked %.0f ms\n",
			ms[0], ms[1], ms[2])
	}
	return f.do(emulation.SetCPUThrottlingRate(1))
}

const grid = `document.querySelector('[role=grid]')`

// scrolls goes down the list of all that waits: to row 2,000, then on and on.
func (f *feel) scrolls() error {
	err := f.do(chromedp.Navigate(f.url+"/queue?view=messages"),
		chromedp.WaitVisible(`[role=grid] [role=row]`, chromedp.ByQuery),
		chromedp.Evaluate(longTasks, nil), chromedp.Sleep(time.Second))
	if err != nil {
		return err
	}
	rows, err := value[string](f, grid+`.getAttribute("aria-rowcount")`)
	if err != nil {
		return err
	}
	// A page at a time, each when its rows are there.
	took, err := value[float64](f, `(async () => {
		const g = `+grid+`, box = [...g.querySelectorAll("*")].concat(g).find(e => e.scrollHeight > e.clientHeight + 50);
		window.__box = box; window.__long = [];
		const row = g.querySelector("[role=row][aria-rowindex]:nth-child(2)")?.getBoundingClientRect().height || 30;
		const begin = performance.now();
		while (box.scrollTop < 2000 * row && performance.now() - begin < 60000) {
			box.scrollTop += box.clientHeight;
			const until = performance.now() + 3000;
			do { await new Promise(d => setTimeout(d, 15)) }
			while (performance.now() < until && g.querySelector("[aria-busy=true]"));
			if (box.scrollTop + box.clientHeight >= box.scrollHeight - 2) await new Promise(d => setTimeout(d, 30));
		}
		return performance.now() - begin;
	})()`)
	if err != nil {
		return err
	}
	if err := f.tell(fmt.Sprintf("list of %s rows, to row 2,000: %.2f s", rows, took/1000)); err != nil {
		return err
	}
	frames, err := value[[]float64](f, `(async () => {
		const box = window.__box; window.__long = []; box.scrollTop = 0;
		await new Promise(d => setTimeout(d, 500));
		let n = 0, worst = 0, last = performance.now(); const begin = last;
		while (last - begin < 4000) {
			box.scrollTop += 120;
			const at = await new Promise(d => requestAnimationFrame(d));
			worst = Math.max(worst, at - last); last = at; n++;
		}
		return [n / 4, worst];
	})()`)
	if err != nil {
		return err
	}
	return f.tell(fmt.Sprintf("scrolling four rows a frame: %.0f frames a second, the longest %.0f ms",
		frames[0], frames[1]))
}

// tell prints a line with the page's longest task, elements and memory.
func (f *feel) tell(text string) error {
	page, err := value[[]float64](f,
		`[Math.max(0, ...window.__long.map(l => l[1])), document.querySelectorAll("*").length]`)
	if err != nil {
		return err
	}
	heap, err := f.heap()
	if err != nil {
		return err
	}
	fmt.Printf("%s; longest task %.0f ms, %.0f elements, heap %.1f MB\n", text, page[0], page[1], heap)
	return nil
}

// heap is what the page holds after what nobody needs is thrown away, in MB.
func (f *feel) heap() (mb float64, err error) {
	err = f.do(chromedp.ActionFunc(func(ctx context.Context) error {
		if err := heapprofiler.CollectGarbage().Do(ctx); err != nil {
			return err
		}
		used, _, _, _, err := runtime.GetHeapUsage().Do(ctx)
		mb = used / 1e6
		return err
	}))
	return mb, err
}

// answers measures from a press to the frame that shows it.
func (f *feel) answers() error {
	for _, x := range []struct{ what, script string }{
		{"one checkbox", `g.querySelectorAll("input[type=checkbox]")[3].click()`},
		{"choose all", `g.querySelector("input[type=checkbox]").click()`},
		{"mark by arrow", `g.dispatchEvent(new KeyboardEvent("keydown", {key: "ArrowDown", bubbles: true}))`},
	} {
		ms, err := value[float64](f, `(async () => {
			const g = `+grid+`; window.__box.scrollTop = 0; g.focus();
			await new Promise(d => setTimeout(d, 600));
			const begin = performance.now();
			`+x.script+`;
			await new Promise(d => requestAnimationFrame(() => { const c = new MessageChannel();
				c.port1.onmessage = d; c.port2.postMessage(0); }));
			return performance.now() - begin;
		})()`)
		if err != nil {
			return err
		}
		fmt.Printf("%s: %.0f ms to the frame that shows it\n", x.what, ms)
	}
	begin := time.Now()
	err := f.do(browser.Type(`input[aria-label="Recipient"]`, "zzz-nobody"),
		chromedp.Poll(`document.body.innerText.includes("Nothing matches") ||
			document.body.innerText.includes("No messages")`, nil,
			chromedp.WithPollingInterval(20*time.Millisecond), chromedp.WithPollingTimeout(20*time.Second)))
	fmt.Printf("filter, ten keys until nothing matches: %v\n", time.Since(begin).Round(10*time.Millisecond))
	return err
}

// watch leaves the overview open while messages flow.
func (f *feel) watch(inside string, rate int, live time.Duration) error {
	go send(inside, rate)
	if err := f.do(chromedp.Navigate(f.url+"/"), performance.Enable(), chromedp.Sleep(5*time.Second)); err != nil {
		return err
	}
	var busy, requests float64
	for begin := time.Now(); ; {
		heap, err := f.heap()
		if err != nil {
			return err
		}
		n, err := value[float64](f, `(() => { const n = performance.getEntriesByType("resource")
			.filter(e => e.name.includes("/api/")).length; performance.clearResourceTimings(); return n })()`)
		if err != nil {
			return err
		}
		task, err := f.worked()
		if err != nil {
			return err
		}
		if requests >= 0 && busy > 0 {
			fmt.Printf("%4.0f min: heap %.1f MB, busy %.1f %%, %.0f requests in the minute\n",
				time.Since(begin).Minutes(), heap, (task-busy)/60*100, n)
		}
		busy, requests = task, n
		if time.Since(begin) > live {
			return nil
		}
		time.Sleep(time.Minute)
	}
}

// worked is how long the page has been at work, in seconds.
func (f *feel) worked() (seconds float64, err error) {
	err = f.do(chromedp.ActionFunc(func(ctx context.Context) error {
		list, err := performance.GetMetrics().Do(ctx)
		for _, m := range list {
			if m.Name == "TaskDuration" {
				seconds = m.Value
			}
		}
		return err
	}))
	return seconds, err
}

// send hands in messages for a mailbox of the demo world, until the program ends.
func send(inside string, rate int) {
	tick := time.NewTicker(time.Second / time.Duration(rate))
	for {
		if err := session(inside, tick.C); err != nil {
			fmt.Fprintln(os.Stderr, err)
			time.Sleep(time.Second)
		}
	}
}

func session(inside string, tick <-chan time.Time) error {
	conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 20, 1, 5)}}).Dial("tcp", inside)
	if err != nil {
		return err
	}
	c, err := smtp.NewClient(conn, "tally.skerryline.example")
	if err != nil {
		return err
	}
	defer func() { _ = c.Close() }()
	for range 50 {
		<-tick
		if err := c.Mail("tickets@skerryline.example"); err != nil {
			return err
		}
		if err := c.Rcpt("odile.marr@skerryline.example"); err != nil {
			return err
		}
		w, err := c.Data()
		if err != nil {
			return err
		}
		_, _ = io.Copy(w, strings.NewReader("From: tickets@skerryline.example\r\nSubject: Ticket\r\n\r\nTide.\r\n"))
		if err := w.Close(); err != nil {
			return err
		}
	}
	return c.Quit()
}
