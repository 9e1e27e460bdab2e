package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
)

// run runs a command line that needs no service.
func run(t *testing.T, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	var o, e bytes.Buffer
	code = Main(t.Context(), "test", args, &o, &e)
	return o.String(), e.String(), code
}

// TestSettings: a flag comes before the environment, that before the file.
func TestSettings(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", dir)
	server := func(args ...string) string {
		_, stderr, code := run(t, append([]string{"services"}, args...)...)
		if code != ExitUnreachable {
			t.Fatalf("exit %d: %s", code, stderr)
		}
		_, rest, _ := strings.Cut(stderr, "answers at http://")
		host, _, _ := strings.Cut(rest, " ")
		return host
	}
	if got := server("--server", "127.0.0.1:1"); got != "127.0.0.1:1" {
		t.Errorf("flag: %s", got)
	}
	if err := os.MkdirAll(filepath.Join(dir, "nightjar"), 0o755); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "nightjar", "config.yaml")
	if err := os.WriteFile(file, []byte("server: 127.0.0.1:2\nwindow: 30\nunused: 1\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if got := server(); got != "127.0.0.1:2" {
		t.Errorf("file: %s", got)
	}
	t.Setenv("NIGHTJAR_SERVER", "127.0.0.1:3")
	if got := server(); got != "127.0.0.1:3" {
		t.Errorf("environment over file: %s", got)
	}
	if got := server("--server", "127.0.0.1:1"); got != "127.0.0.1:1" {
		t.Errorf("flag over all: %s", got)
	}
	for _, c := range []struct{ key, value, want string }{{"NIGHTJAR_WINDOW", "many", "NIGHTJAR_WINDOW"}, {"NIGHTJAR_OUTPUT", "xml", "expected one of table"}, {"NIGHTJAR_CONFIG", "/does/not/exist", "--config"}} {
		t.Run(c.key, func(t *testing.T) {
			t.Setenv(c.key, c.value)
			if _, stderr, code := run(t, "services"); code != ExitUsage || !strings.Contains(stderr, c.want) {
				t.Errorf("exit %d: %s", code, stderr)
			}
		})
	}
	if err := os.WriteFile(file, []byte("server: [a]\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, stderr, code := run(t, "services"); code != ExitUsage || !strings.Contains(stderr, "lines of flag: value") {
		t.Errorf("a file of nonsense: exit %d: %s", code, stderr)
	}
}

// TestHelp: every command that does something shows two examples of itself.
func TestHelp(t *testing.T) {
	var walk func(c *cobra.Command)
	seen := 0
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			if sub.HasSubCommands() {
				walk(sub)
				continue
			}
			seen++
			lines := strings.Split(sub.Example, "\n")
			if len(lines) != 2 || sub.Short == "" {
				t.Errorf("%s has %d examples", sub.CommandPath(), len(lines))
			}
			for _, l := range lines {
				if !strings.Contains(l, sub.CommandPath()) {
					t.Errorf("an example of %s is %q", sub.CommandPath(), l)
				}
			}
		}
	}
	walk((&app{}).root())
	if seen < 13 {
		t.Errorf("only %d commands", seen)
	}
}

func TestFormats(t *testing.T) {
	type thing struct {
		Name  string   `json:"name"`
		Share *float64 `json:"share"`
		List  []string `json:"list"`
	}
	v := thing{"v1 & co", nil, []string{}}
	draw := func(s *out.Sheet) {
		s.Line("A line.")
		s.Table([]string{"NAME", "SHARE>"}, [][]string{{"v1, the first", out.Share(nil)}, {"v2", out.Percent(0.5)}})
	}
	for format, want := range map[string]string{
		"table": "A line.\nNAME           SHARE\nv1, the first      –\nv2             50.0%\n",
		"csv":   "NAME,SHARE\n\"v1, the first\",–\nv2,50.0%\n",
		"json":  "{\n  \"name\": \"v1 & co\",\n  \"share\": null,\n  \"list\": []\n}\n",
		"yaml":  "name: v1 & co\nshare: null\nlist: []\n",
	} {
		var b bytes.Buffer
		if err := (&out.Printer{W: &b, Format: format}).Show(v, draw); err != nil || b.String() != want {
			t.Errorf("%s: %v\n%q\n%q", format, err, b.String(), want)
		}
	}
	for f, want := range map[float64]string{0: "0.0%", 0.0004: "<0.1%", 0.5: "50.0%", 0.99951: ">99.9%", 1: "100.0%"} {
		if got := out.Percent(f); got != want {
			t.Errorf("%v: %s, want %s", f, got, want)
		}
	}
	for ms, want := range map[float64]string{0: "–", 1.234: "1.23 ms", 12.34: "12.3 ms", 123.4: "123 ms", 12345: "12.3 s"} {
		if got := out.Millis(ms); got != want {
			t.Errorf("%v: %s, want %s", ms, got, want)
		}
	}
}

// TestTableFits: on a narrow terminal cells of text wrap between words, and numbers in
// their header alone. What cannot be narrowed stays whole.
func TestTableFits(t *testing.T) {
	draw := func(s *out.Sheet) {
		s.Line("  · Short.\n  · A longer line, where 12 words wrap.")
		s.Table([]string{"ROUTE", "FIRST ATTEMPT>", "FAILURES BY REASON"}, [][]string{
			{"route front-door/home", "86.1%", "timeout 189 → 0, fault 48 → 5"},
			{"route tides/", "100.0%", ""},
		})
	}
	for width, want := range map[int]string{
		0: `  · Short.
  · A longer line, where 12 words wrap.
ROUTE                  FIRST ATTEMPT  FAILURES BY REASON
route front-door/home          86.1%  timeout 189 → 0, fault 48 → 5
route tides/                  100.0%
`,
		49: `  · Short.
  · A longer line, where 12 words wrap.
                     FIRST        FAILURES BY
ROUTE                    ATTEMPT  REASON
route                      86.1%  timeout 189 →
front-door/home                   0, fault 48 → 5
route tides/              100.0%
`,
		20: `  · Short.
  · A longer line,
    where 12 words
    wrap.
                 FIRST    FAILURES
ROUTE            ATTEMPT  BY REASON
route              86.1%  timeout
front-door/home           189 → 0,
                          fault 48 →
                          5
route tides/      100.0%
`,
	} {
		var b bytes.Buffer
		if err := (&out.Printer{W: &b, Format: "table", Width: width}).Show(nil, draw); err != nil || b.String() != want {
			t.Errorf("%d columns: %v\n%s\nwant\n%s", width, err, b.String(), want)
		}
	}
}

// TestFleetSheet: who needs a look comes first, with a mark and a word.
func TestFleetSheet(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	member := func(id string, state string, change func(*model.Proxy)) model.Proxy {
		m := model.Proxy{ID: id, Service: "s", Version: "v1", Program: "dev", State: state, Revision: 4, LastSeen: now}
		change(&m)
		return m
	}
	f := model.Fleet{Revision: 4, Proxies: []model.Proxy{
		member("a", model.ProxyCurrent, func(m *model.Proxy) {
			m.LagMS, m.Connections, m.MemoryBytes = 5, 12, 20<<20
			m.Certificate = &model.Certificate{Expires: now.Add(23*time.Hour + 30*time.Minute)}
		}),
		member("b", model.ProxyBehind, func(m *model.Proxy) { m.Revision, m.LagMS = 3, 12_000 }),
		member("c", model.ProxyRejecting, func(m *model.Proxy) { m.Rejection = "no port" }),
		member("d", model.ProxyUnconfirmed, func(m *model.Proxy) { m.LastSeen = now.Add(-40 * time.Second) }),
	}}
	var b bytes.Buffer
	if err := (&out.Printer{W: &b, Format: "table"}).Show(f, func(s *out.Sheet) { fleetSheet(s, f, now) }); err != nil {
		t.Fatal(err)
	}
	const want = `Revision 4 is in force in 1 of 4 proxies; 3 need attention.
   PROXY  WORKLOAD  SITE  REVISION  STATE               LAG (ms)  LAST SEEN  CONNECTIONS  MEMORY (MiB)  CERTIFICATE  PROGRAM VERSION
!  c      s/v1                   4  rejecting: no port         –        now            0             –         none  dev
!  b      s/v1                   3  behind               12000.0        now            0             –         none  dev
!  d      s/v1                   4  unconfirmed                –    40s ago            0             –         none  dev
   a      s/v1                   4  current                  5.0        now           12          20.0       23h30m  dev
`
	if b.String() != want {
		t.Errorf("got\n%swant\n%s", b.String(), want)
	}
}

func TestReadFiles(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"a.yaml": "services: {}", "sub/b.json": "{}", "notes.txt": "no", "sub/.b.yaml": "hidden: 2", ".git/c.yaml": "hidden: 1"} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	cmd := &cobra.Command{}
	cmd.SetIn(strings.NewReader("gateways: {}"))
	files, err := readFiles(cmd, []string{dir, filepath.Join(dir, "a.yaml"), "-"})
	if err != nil || len(files) != 3 || !strings.HasSuffix(files[1].Name, "sub/b.json") || files[2].Name != "standard-input" {
		t.Errorf("%+v, %v", files, err)
	}
	if _, err := readFiles(cmd, []string{filepath.Join(dir, ".git", "..", "sub", "..", "nothing")}); err == nil {
		t.Error("a file that is not there was read")
	}
	empty := t.TempDir()
	if _, err := readFiles(cmd, []string{empty}); err == nil || !strings.Contains(err.Error(), "has no rule files") {
		t.Errorf("an empty directory: %v", err)
	}
	big := filepath.Join(empty, "big.yaml")
	if err := os.WriteFile(big, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(big, 64<<20); err != nil {
		t.Fatal(err)
	}
	if _, err := readFiles(cmd, []string{big}); err == nil || !strings.Contains(err.Error(), "the limit of a rule set") {
		t.Errorf("64 MiB: %v", err)
	}
}
