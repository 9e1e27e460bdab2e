package backup

import (
	"io"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// gentleBytes is how much is written between two flushes. When a gigabyte reaches the
	// disk at once, whoever waits for it at that moment waits for all of it.
	gentleBytes = 4 << 20
	// flushEvery is how often a file is flushed that something else writes.
	flushEvery = 10 * time.Millisecond
)

// gentle writes to a file and flushes what it wrote in small parts.
type gentle struct {
	*os.File
	unflushed int
}

func (g *gentle) Write(p []byte) (int, error) {
	n, err := g.File.Write(p)
	if g.unflushed += n; err == nil && g.unflushed >= gentleBytes {
		g.unflushed = 0
		err = unix.Fdatasync(int(g.Fd()))
	}
	return n, err
}

// ReadFrom keeps io.Copy from writing everything at once.
func (g *gentle) ReadFrom(r io.Reader) (int64, error) {
	return io.Copy(struct{ io.Writer }{g}, r)
}

// flushing flushes a file that something else writes, in small parts, until stop is called.
func flushing(path string) (stop func()) {
	done, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		var f *os.File
		t := time.NewTicker(flushEvery)
		defer t.Stop()
		for {
			select {
			case <-done:
				if f != nil {
					f.Close()
				}
				return
			case <-t.C:
				if f == nil {
					f, _ = os.Open(path)
				}
				if f != nil {
					unix.Fdatasync(int(f.Fd()))
				}
			}
		}
	}()
	return func() { close(done); <-ended }
}

// shrink makes a file empty in small parts: the file system holds up others while it frees
// a gigabyte at once.
func shrink(path string) {
	info, err := os.Stat(path)
	if err != nil {
		return
	}
	for size := info.Size(); size > 0; {
		size = max(0, size-4*gentleBytes)
		if os.Truncate(path, size) != nil {
			return
		}
		time.Sleep(flushEvery)
	}
}
