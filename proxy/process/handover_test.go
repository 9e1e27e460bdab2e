package process

import (
	"fmt"
	"net"
	"os"
	"sync"
	"syscall"
	"testing"
)

// TestListenWhileOthersAreGivenUp: a listener is taken over once at most, or
// closed, whatever happens at the same time.
func TestListenWhileOthersAreGivenUp(t *testing.T) {
	read, write, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	defer read.Close()
	ready, err := syscall.Dup(int(write.Fd()))
	if err != nil {
		t.Fatal(err)
	}
	write.Close()
	h := &Handover{Ready: ready, open: map[string]net.Listener{}}
	handed := map[net.Listener]bool{}
	for i := range 20 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		h.open[fmt.Sprint(i)], handed[l] = l, true
	}
	var taking sync.WaitGroup
	var mu sync.Mutex
	taken := map[net.Listener]int{}
	for range 2 {
		taking.Go(func() {
			for i := range 20 {
				l, err := h.Listen(fmt.Sprint(i), "127.0.0.1:0")
				if err != nil {
					t.Error(err)
					continue
				}
				defer l.Close()
				mu.Lock()
				taken[l]++
				mu.Unlock()
			}
		})
	}
	h.Done()
	taking.Wait()
	if n, _ := read.Read(make([]byte, 2)); n != 1 {
		t.Errorf("the process before was told by %d bytes", n)
	}
	for l, n := range taken {
		if n > 1 {
			t.Errorf("%s was taken %d times", l.Addr(), n)
		}
	}
	if l, err := h.Listen("0", "127.0.0.1:0"); err != nil || handed[l] {
		t.Errorf("a listener that was given up is taken: %v", err)
	}
}
