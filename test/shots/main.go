// Command shots takes pictures of the console's pages, of the running demo:
//
//	shots -url URL -name NAME -password PASSWORD -out DIR NAME=PATH[,dark][,narrow|wide|tall][,press:BUTTON]... ...
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"gullroute/test/browser"
)

func main() {
	url := flag.String("url", os.Getenv("GULL_URL"), "address of the console")
	name := flag.String("name", "keeper", "who signs in")
	password := flag.String("password", "", "password")
	out := flag.String("out", "docs/screenshots", "directory for the pictures")
	flag.Parse()
	for _, arg := range flag.Args() {
		if err := shoot(*url, *name, *password, *out, arg); err != nil {
			fmt.Fprintf(os.Stderr, "%s: %v\n", arg, err)
			os.Exit(1)
		}
	}
}

func shoot(url, name, password, out, arg string) error {
	file, rest, _ := strings.Cut(arg, "=")
	parts := strings.Split(rest, ",")
	height := int64(800)
	width, dark, signIn, press := 1280, false, true, []string(nil)
	for _, p := range parts[1:] {
		switch p {
		case "narrow":
			width = 390
		case "wide":
			width, height = 1920, 1080
		case "tall":
			height = 1300
		case "long":
			height = 2600
		case "dark":
			dark = true
		case "out":
			signIn = false
		default:
			press = append(press, strings.TrimPrefix(p, "press:"))
		}
	}
	ctx, stop, err := browser.Start(context.Background(), 1280, 800, dark)
	if err != nil {
		return err
	}
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	var tasks chromedp.Tasks
	if signIn {
		tasks = browser.SignIn(url, name, password) // at full width: then the pages are in a line
	}
	var picture []byte
	tasks = append(tasks, chromedp.EmulateViewport(int64(width), height),
		chromedp.Navigate(url+parts[0]), chromedp.Sleep(1500*time.Millisecond))
	for _, name := range press {
		tasks = append(
			tasks,
			browser.Press(`//button[normalize-space(.)="`+name+`" or @aria-label="`+name+`"]`),
			chromedp.Sleep(2*time.Second),
		)
	}
	tasks = append(tasks, chromedp.CaptureScreenshot(&picture))
	if err := chromedp.Run(ctx, tasks); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(out, file+".png"), picture, 0o644)
}
