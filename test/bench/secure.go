package main

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"time"

	"nightjar/api/model"
	"nightjar/client"
)

// secure compares mutual TLS between two proxies with the same two without, and measures
// what an idle connection costs.
func secure(b *bench) error {
	dir, err := os.MkdirTemp("", "nightjar-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	server := freeAddr()
	if _, err := b.spawn("bin/nightjar", "serve", "--listen", server, "--data", dir); err != nil {
		return err
	}
	plain, sealed := &target{name: "plain", addr: freeAddr()}, &target{name: "mutual TLS", addr: freeAddr()}
	inbound := freeAddr()
	var pids [3]int
	for i, args := range [][]string{
		{"--service", "caller", "--port", "plain=" + plain.addr, "--port", "sealed=" + sealed.addr},
		{"--service", "plain", "--app", b.backend},
		{"--service", "sealed", "--app", b.backend, "--inbound", inbound},
	} {
		args = append([]string{"proxy", "--server", server, "--version", "v1", "--state", ""}, args...)
		if pids[i], err = b.spawn("bin/nightjar", args...); err != nil {
			return err
		}
	}
	if err := publishSecure(b, server); err != nil {
		return err
	}
	targets := []*target{plain, sealed}
	for _, t := range targets {
		if err := ready(t.addr); err != nil {
			return fmt.Errorf("%s: %w", t.name, err)
		}
	}
	used := func() (sum time.Duration) {
		for _, pid := range pids {
			sum += processorTime(pid)
		}
		return sum
	}
	fmt.Printf("\ntwo relays, with access rules: %d rounds of %d s for each, in turn; %d kept connections, answers of 1 KiB\n", *rounds, *seconds, *conns)
	for round := range *rounds + 1 { // the first is not counted
		slices.Reverse(targets)
		for _, t := range targets {
			before := used()
			rps, total, _, err := wrk(b.ctx, t.addr, *conns)
			if err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			cpu := used() - before
			_, _, p50, err := wrk(b.ctx, t.addr, 1)
			if err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			if round > 0 {
				t.rps, t.cpu, t.p50 = append(t.rps, rps), append(t.cpu, cpu.Seconds()*1e6/total), append(t.p50, p50)
			}
		}
	}
	added := make([]float64, len(sealed.p50))
	for i := range added {
		added[i] = sealed.p50[i] - plain.p50[i]
	}
	r := ratios(sealed.rps, plain.rps)
	fmt.Println("           requests/s   CPU µs/request, both relays   p50 µs, 1 connection")
	for _, t := range []*target{plain, sealed} {
		fmt.Printf("%-10s %10.0f   %28.1f   %20.0f\n", t.name, median(t.rps), median(t.cpu), median(t.p50))
	}
	fmt.Printf("mutual TLS: × %.2f of plain (%.2f–%.2f), %+.0f µs p50 on one connection\n", median(r), slices.Min(r), slices.Max(r), median(added))
	return idleSecure(b.ctx, server, inbound, pids[2])
}

// publishSecure publishes rules under which one service takes calls by mutual TLS and one
// without, and waits for the proxies.
func publishSecure(b *bench, server string) error {
	c, err := client.New(server)
	if err != nil {
		return err
	}
	const text = "services: {caller: {versions: [v1]}, plain: {versions: [v1], identity: none}, sealed: {versions: [v1]}}\n" +
		"access: {default: deny, rules: [{name: a, from: [caller], to: [sealed], allow: {method: GET, path: /ferry/**}}, {name: b, to: [plain], allow: {method: GET, path: /ferry/**}}]}\n"
	for range 100 {
		var out model.Published
		out, err = c.Publish(b.ctx, model.PublishRequest{Files: []model.File{{Name: "bench.yaml", Text: text}}}, nil)
		if err == nil && out.Rollout.Acknowledged >= 4 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return err
}

// idleSecure measures what connections cost by mutual TLS that were used once.
func idleSecure(ctx context.Context, server, inbound string, pid int) error {
	shown, _, err := join(ctx, server, "by-hand", "caller")
	if err != nil {
		return err
	}
	const many = 2000
	before := memory(pid)
	var held []net.Conn
	defer func() {
		for _, c := range held {
			c.Close()
		}
	}()
	for range many {
		c, err := tls.Dial("tcp", inbound, &tls.Config{InsecureSkipVerify: true, Certificates: []tls.Certificate{*shown}})
		if err != nil {
			return err
		}
		held = append(held, c)
		c.SetDeadline(time.Now().Add(time.Minute))
		io.WriteString(c, "GET /ferry/times HTTP/1.1\r\nHost: sealed\r\n\r\n")
		resp, err := http.ReadResponse(bufio.NewReader(c), nil)
		if err != nil {
			return err
		}
		io.Copy(io.Discard, resp.Body)
		if resp.StatusCode != http.StatusOK {
			return fmt.Errorf("a connection by hand: %s", resp.Status)
		}
	}
	time.Sleep(5 * time.Second)
	fmt.Printf("an idle connection by mutual TLS, used once: %.1f KiB (of %d)\n", (memory(pid)-before)*1024/many, many)
	return nil
}
