package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// crashMesh is a gateway in front of services that each bear a crash of their own
// kind. It returns their instances by name, and what cuts a machine off; nil: that
// cannot be done here.
func crashMesh(w *world) (started map[string]instance, cut func(), err error) {
	started = map[string]instance{}
	text := "sites: [north, south]\nservices:\n"
	add := func(service, version, site, name string) error {
		in, err := w.instance(service, version, site, name)
		started[name] = in
		return err
	}
	for _, s := range []string{"two", "alone", "program", "frozen"} {
		text += "  " + s + ":\n    versions: [v1]\n    timeout: 1s\n"
		if s == "frozen" { // connections to it come about, so that it takes a guard to find out
			text += "    guard: {sideline: {after: 5, for: 10s}}\n"
		}
		for _, n := range []string{"a", "b"} {
			if err := add(s, "v1", "", s+"-"+n); err != nil {
				return nil, nil, err
			}
		}
	}
	text += "  other:\n    versions: [v1, v2]\n    timeout: 1s\n    routes: [{name: main, send: v2, otherwise: v1}]\n"
	text += "  sites:\n    versions: [v1]\n    timeout: 1s\n    failover: {order: [north, south], below: 50%}\n"
	for _, in := range [][4]string{{"other", "v1", "", "other-v1"}, {"other", "v2", "", "other-v2"},
		{"sites", "v1", "north", "sites-n1"}, {"sites", "v1", "north", "sites-n2"}, {"sites", "v1", "north", "sites-n3"}, {"sites", "v1", "south", "sites-s1"}} {
		if err := add(in[0], in[1], in[2], in[3]); err != nil {
			return nil, nil, err
		}
	}
	if err := w.startGateway(0); err != nil {
		return nil, nil, err
	}
	far, cut, err := w.farInstance()
	if err != nil {
		return nil, nil, err
	}
	if far != "" {
		if err := add("far", "v1", "", "far-b"); err != nil {
			return nil, nil, err
		}
		text += "  far:\n    versions: [v1]\n    timeout: 3s\n"
	}
	proxies := len(started) + 1
	if far != "" {
		proxies++
	}
	return started, cut, w.publish(proxies, text)
}

// crashes kills instances under load.
func crashes(w *world, t *table) error {
	started, cut, err := crashMesh(w)
	if err != nil {
		return err
	}
	for _, c := range []struct {
		what, service string
		do            func()
		within        time.Duration // of the last failure; 0: no goal
	}{
		{"kill -9 of one of two", "two", started["two-a"].kill, 100 * time.Millisecond},
		{"of the only one, with otherwise", "other", started["other-v2"].kill, 100 * time.Millisecond},
		{"of two of three at a site, with failover", "sites", func() { started["sites-n1"].kill(); started["sites-n2"].kill() }, 100 * time.Millisecond},
		{"of the last one at that site", "sites", started["sites-n3"].kill, 100 * time.Millisecond},
		{"of one proxy alone", "alone", func() { kill(started["alone-a"].proxy) }, 100 * time.Millisecond},
		{"of one program alone", "program", func() { kill(started["program-a"].app) }, 100 * time.Millisecond},
		{"one frozen, proxy and program, with a sideline", "frozen", func() {
			started["frozen-a"].proxy.Process.Signal(syscall.SIGSTOP)
			started["frozen-a"].app.Process.Signal(syscall.SIGSTOP)
		}, 0},
		{"one machine cut off, packets dropped", "far", cut, 1100 * time.Millisecond},
	} {
		if c.do == nil {
			t.row(c.what, "left out: this machine allows no network namespaces", "", true)
			continue
		}
		page := w.call(c.service, 500)
		time.Sleep(2 * time.Second)
		before := len(page.fails)
		at := time.Now()
		c.do()
		done := time.Now()
		time.Sleep(5 * time.Second)
		page.stop()
		failed, last := page.since(at)
		flying := page.underWay(at, done)
		goal, isMet := "", true
		if c.within > 0 {
			goal = fmt.Sprintf("≤ under way, within %s", c.within)
			isMet = failed <= flying && last <= c.within && before == 0
			if c.service == "far" { // what was sent to the machine before it is known to be gone
				goal, isMet = "within "+c.within.String(), last <= c.within && before == 0
			}
		}
		t.row(c.what, fmt.Sprintf("%d failed of %d, %d under way then, the last due %s after", failed, page.sent, flying, last.Round(time.Millisecond)), goal, isMet)
	}
	return nil
}

// farInstance is an instance on a machine of its own, as far as the network goes,
// and what cuts it off; empty where that cannot be had.
func (w *world) farInstance() (name string, cut func(), err error) {
	const space, here, there = "nightjar-far", "10.213.77.1", "10.213.77.2"
	in := func(args ...string) error { return exec.CommandContext(w.ctx, "ip", args...).Run() }
	clear := func() {
		in("link", "del", "njfar0")
		in("netns", "del", space)
	}
	clear() // what an earlier run left behind
	w.tidy = append(w.tidy, clear)
	for _, args := range []string{"netns add " + space, "link add njfar0 type veth peer name njfar1 netns " + space, "addr add " + here + "/30 dev njfar0", "link set njfar0 up",
		"-n " + space + " addr add " + there + "/30 dev njfar1", "-n " + space + " link set njfar1 up", "-n " + space + " link set lo up"} {
		if in(strings.Fields(args)...) != nil {
			return "", nil, nil
		}
	}
	kill(w.serve)
	_, port, _ := net.SplitHostPort(freeAddr())
	if err := w.startService("data", "--mesh-addr", here+":"+port); err != nil {
		return "", nil, err
	}
	text, err := exec.Command("bin/nightjar", "join-token", "create", "--server", w.server, "--service", "far").Output()
	if err != nil {
		return "", nil, err
	}
	token := filepath.Join(w.dir, "token")
	if err := os.WriteFile(token, text, 0o600); err != nil {
		return "", nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return "", nil, err
	}
	if _, err := w.start("ip", "netns", "exec", space, self, "workload", "127.0.0.1:9000"); err != nil {
		return "", nil, err
	}
	_, err = w.start("ip", "netns", "exec", space, "bin/nightjar", "proxy", "--join", token, "--service", "far", "--version", "v1",
		"--name", "far-a", "--app", "127.0.0.1:9000", "--inbound", there+":9001", "--state", w.dir)
	return "far-a", func() { in("-n", space, "route", "add", "blackhole", here+"/32") }, err
}
