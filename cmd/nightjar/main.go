// Command nightjar is the service, the proxy and the client in one binary.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"nightjar/cli"
)

// version is set when a release is built.
var version = "dev"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Main(ctx, version, os.Args[1:], os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}
