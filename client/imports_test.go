package client

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// TestImports: whoever uses the client links it, the model, what finds a service on this
// machine, and the standard library.
func TestImports(t *testing.T) {
	list, err := exec.Command("go", "list", "-deps", "-f", "{{if not .Standard}}{{.ImportPath}}{{end}}", ".").Output()
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Fields(string(list)); !slices.Equal(got, []string{"nightjar/api/model", "nightjar/local", "nightjar/client"}) {
		t.Errorf("the client links %v", got)
	}
}
