// Command screenshots makes the pictures of docs/screenshots from the sample
// mesh: the console's pages in Chromium, and the commands in a terminal.
package main

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"nightjar/client"
	"nightjar/test/browser"
)

const (
	addr    = "127.0.0.1:7600" // the default, so that the pictures show what a reader will see
	display = ":97"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

// page is a picture of the console.
type page struct {
	name, path, dark string
	late             bool     // after the pictures of commands, since what it does would show there
	before           []string // commands of nightjar to run first; those after a hyphen may fail, one after a dollar is the shell's
	ready            string   // JavaScript that is true when the page is ready
	keys             []string // JavaScript to run first, each after the page is ready
}

var pages = []page{
	{name: "mesh", path: "/", ready: "document.querySelectorAll('[data-test=lane]').length > 8"},
	{name: "service", path: "/services/sailings", ready: "document.querySelector('[data-test=history] path') && document.querySelectorAll('[data-id]').length > 4"},
	{name: "routes", path: "/services/sailings?tab=routes&edit=timetable", ready: "document.querySelector('[data-test=form] fieldset')"},
	{name: "try", path: "/try?url=" + url.QueryEscape("http://sailings/sailings/today"), ready: "document.querySelector('[data-test=explanation]')",
		keys: []string{"document.querySelector('[data-test=send]').click()", "document.querySelector('[data-test=tally][data-final=true]')"}},
	{name: "sites-page", path: "/sites", ready: "document.querySelectorAll('[data-id]').length > 5"},
	{name: "fleet-page", path: "/fleet", ready: "document.querySelectorAll('[data-test=proxy]').length > 10"},
	{name: "access-page", path: "/access?from=kiosk&to=berths", before: []string{"- call http://berths/berths/9 -n 20 --from kiosk"},
		ready: "document.querySelectorAll('[data-test=cell]').length > 8 && document.querySelector('[data-test=access-link]') && document.querySelectorAll('[data-test=table-certificates] .MuiDataGrid-row').length > 4"},
	{name: "releases-page", path: "/releases/sailings-to-v2", late: true, before: []string{"- release withdraw sailings-to-v2", "rules restore 1", "release start sailings-to-v2"},
		ready: "document.querySelectorAll('[data-test=\"step-15%\"] [data-test=tick-met]').length > 2"},
	{name: "requests-page", path: "/requests?attempts=2", late: true, before: []string{"- release withdraw sailings-to-v2", "rules restore 1", "rules publish examples/bad-weather --bundle bad-weather", "drill start --service sailings --version v1 --fail 40% --for 1m"},
		ready: "document.querySelectorAll('.MuiDataGrid-row').length > 6", keys: []string{"(document.querySelector('.MuiDataGrid-row .MuiDataGrid-cell').click(), true)", "document.querySelector('[data-test=detail]')"}},
	{name: "people-page", path: "/people", late: true, before: []string{"- token create mara --role editor", "- token create pipeline --role viewer --for 30d"},
		ready: "document.querySelectorAll('.MuiDataGrid-row').length > 2"},
	{name: "effects-page", path: "/effects?revision=2", late: true, ready: "document.querySelectorAll('[data-test=rows] [data-id]').length > 4 && document.querySelector('[data-test=history] path')"},
	{name: "forecast-page", path: "/forecast", dark: "dark", ready: "document.querySelector('[data-test=forecast]')",
		keys: []string{"document.querySelector('[data-test=forecast]').click()", "document.querySelectorAll('[data-test=sweep] svg').length > 1"}},
	{name: "rules", path: "/rules", late: true, before: []string{"- release withdraw sailings-to-v2", "rules restore 1", "$ " + ferryRepository, "follow add main --repo /tmp/ferry.git --path rules --every 1h",
		"split sailings v1=80 v2=20 --propose --message rain", "split fares v1=70 v2=30"}, // the last, as it changes where the rules come from
		ready: "document.querySelector('.cm-content') && document.querySelector('[data-test=proposals]')"},
}

// ferryRepository makes a repository with the rules of the sample.
const ferryRepository = "rm -rf /tmp/ferry.git /tmp/ferry && git init -q --bare -b main /tmp/ferry.git && git clone -q /tmp/ferry.git /tmp/ferry && " +
	"mkdir /tmp/ferry/rules && cp examples/ferry/rules.yaml /tmp/ferry/rules && cd /tmp/ferry && git checkout -q -B main && git add -A && " +
	"git -c user.name='Mara Lind' -c user.email=mara@ferry.example commit -qm 'The rules of the ferry line' && git push -q origin main"

// command is a picture of a terminal of so many rows.
type command struct {
	name string
	rows int
	run  string // commands, with ; between them
}

var commands = []command{
	{"effect", 56, "nightjar drill start --service sailings --version v1 --fail 30% --for 70s; sleep 20; nightjar rules publish examples/bad-weather --bundle bad-weather --message guards; sleep 25; nightjar effect --by route; nightjar trial run morning-rush; sleep 12"},
	{"forecast", 50, "nightjar forecast --split sailings/timetable:v1=50,v2=50 --sweep --by version; sleep 8"},
	{"services", 55, "nightjar services; nightjar links; nightjar access"},
	{"call", 54, "nightjar call http://sailings/sailings/today -n 200; nightjar explain GET http://tickets.ferry.example/sailings/today -H 'x-crew: yes'"},
	{"publish", 54, "nightjar rules check examples/mistakes; nightjar split sailings v1=70 v2=30; nightjar rules diff examples/ferry; nightjar rules restore 1; nightjar rules log; nightjar doctor"},
	{"release", 38, "nightjar release start sailings-to-v2 --follow; sleep 84"},
}

func run(only []string) error {
	ctx, stop := context.WithTimeout(context.Background(), 25*time.Minute)
	defer stop()
	root, err := os.Getwd()
	if err != nil {
		return err
	}
	outDir := filepath.Join(root, "docs", "screenshots")
	if d := os.Getenv("SHOTS"); d != "" {
		outDir = d
	}
	if err := os.MkdirAll(outDir, 0o755); err != nil {
		return err
	}
	wanted := func(name string) bool {
		for _, o := range only {
			if o == name {
				return true
			}
		}
		return len(only) == 0
	}
	demo := exec.CommandContext(ctx, filepath.Join(root, "bin", "nightjar"), "demo", "--listen", addr)
	demo.Stderr = os.Stderr
	if err := demo.Start(); err != nil {
		return err
	}
	defer func() { demo.Process.Signal(os.Interrupt); demo.Wait() }()
	time.Sleep(5 * time.Minute) // what there is to see takes that long

	profile, err := os.MkdirTemp("", "nightjar-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(profile)
	tab, end, err := browser.Open(ctx, profile)
	if err != nil {
		return err
	}
	defer end()
	c, err := client.New(addr)
	if err != nil {
		return err
	}
	link, _, err := c.Console(ctx, 0)
	if err != nil {
		return err
	}
	if err := browser.SignIn(tab, link); err != nil {
		return err
	}
	for _, late := range []bool{false, true} {
		if err := shoot(ctx, tab, root, outDir, func(p page) bool { return p.late == late && wanted(p.name) }); err != nil {
			return err
		}
		if !late {
			if err := terminal(ctx, root, outDir, wanted); err != nil {
				return err
			}
		}
	}
	return nil
}

// shoot takes the pictures of those pages.
func shoot(ctx, tab context.Context, root, outDir string, wanted func(page) bool) error {
	for _, p := range pages {
		if !wanted(p) {
			continue
		}
		mode := "light"
		if p.dark != "" {
			mode = "dark"
		}
		for _, c := range p.before {
			c, may := strings.CutPrefix(c, "- ")
			run := exec.CommandContext(ctx, filepath.Join(root, "bin", "nightjar"), strings.Fields(c)...)
			if script, isScript := strings.CutPrefix(c, "$ "); isScript {
				run = exec.CommandContext(ctx, "sh", "-c", script)
				run.Dir, run.Env = root, append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null")
			}
			if text, err := run.CombinedOutput(); err != nil && !may {
				return fmt.Errorf("%s: %w: %s", c, err, text)
			}
		}
		if err := chromedp.Do(tab, chromedp.Navigate("http://"+addr+"/try")); err != nil {
			return err
		}
		if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](fmt.Sprintf("localStorage.setItem('nightjar.mode', %q), localStorage.setItem('nightjar.tour', 'closed'), fetch('/api/v1/drafts/main', {method: 'DELETE', headers: {'If-Match': '*'}}), true", mode))); err != nil {
			return err
		}
		if err := chromedp.Do(tab, chromedp.Navigate("http://"+addr+p.path)); err != nil {
			return err
		}
		if err := browser.Wait(tab, p.ready); err != nil {
			return err
		}
		for _, js := range p.keys {
			if err := browser.Wait(tab, strings.Replace(js, ".click()", ".click() === undefined", 1)); err != nil {
				return err
			}
		}
		time.Sleep(700 * time.Millisecond) // movements come to rest
		png, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(outDir, p.name+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// terminal runs each command in an xterm of its own and takes its window.
func terminal(ctx context.Context, root, outDir string, wanted func(string) bool) error {
	screen := exec.CommandContext(ctx, "Xvfb", display, "-screen", "0", "1400x1000x24")
	if err := screen.Start(); err != nil {
		return err
	}
	defer func() { screen.Process.Kill(); screen.Wait() }()
	time.Sleep(time.Second)
	for _, c := range commands {
		if !wanted(c.name) {
			continue
		}
		title := "shot" + strconv.Itoa(os.Getpid()) + c.name
		script := fmt.Sprintf("export PATH=%q:$PATH; IFS=';' read -ra all <<< %q; for c in \"${all[@]}\"; do echo \"\\$ ${c# }\"; eval \"$c\"; done; echo; sleep 20",
			filepath.Join(root, "bin"), c.run)
		term := exec.CommandContext(ctx, "xterm", "-u8", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "160x"+strconv.Itoa(c.rows), "-bg", "#10181d", "-fg", "#ece6da", "-T", title, "-e", "bash", "-c", script)
		term.Env = append(os.Environ(), "DISPLAY="+display, "XDG_DATA_HOME=/var/lib")
		term.Dir = root
		if err := term.Start(); err != nil {
			return err
		}
		time.Sleep(4 * time.Second)
		for _, part := range strings.Split(c.run, ";") {
			if text, ok := strings.CutPrefix(strings.TrimSpace(part), "sleep "); ok {
				if s, err := strconv.Atoi(text); err == nil {
					time.Sleep(time.Duration(s+1) * time.Second)
				}
			}
		}
		shot := exec.CommandContext(ctx, "import", "-window", title, filepath.Join(outDir, c.name+".png"))
		shot.Env = append(os.Environ(), "DISPLAY="+display)
		text, err := shot.CombinedOutput()
		term.Process.Kill()
		term.Wait()
		if err != nil {
			return fmt.Errorf("picture of %s: %w: %s", c.name, err, text)
		}
	}
	return nil
}
