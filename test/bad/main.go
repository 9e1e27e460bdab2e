// Bad is the program with a fault, for the fleet to send back: with FAULT=leaks it takes more
// and more memory, with FAULT=ends it ends a while after it has begun.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime"
	"syscall"
	"time"

	"nightjar/cli"
)

func main() {
	switch os.Getenv("FAULT") {
	case "ends":
		time.AfterFunc(4*time.Second, func() { os.Exit(1) })
	case "leaks":
		go leak()
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(cli.Main(ctx, "bad", os.Args[1:], os.Stdout, os.Stderr))
}

// leak takes 200 MiB within a few seconds.
func leak() {
	var kept [][]byte
	for range 50 {
		b := make([]byte, 4<<20)
		for i := 0; i < len(b); i += 4096 {
			b[i] = 1
		}
		kept = append(kept, b)
		time.Sleep(50 * time.Millisecond)
	}
	time.Sleep(time.Hour)
	runtime.KeepAlive(kept)
}
