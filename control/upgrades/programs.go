package upgrades

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"nightjar/api/model"
	"nightjar/control/problem"
)

// MaxProgram is the largest program, in bytes.
const MaxProgram = 512 << 20

const (
	keptPrograms = 4  // the newest
	maxSending   = 16 // proxies that are sent a program at once; others wait
)

// programs are the files of programs, by their hashes.
type programs struct {
	dir     string
	sending chan struct{}
}

func (p *programs) path(hash string) (string, error) {
	if b, err := hex.DecodeString(hash); err != nil || len(b) != sha256.Size {
		return "", fmt.Errorf("%q is not the hash of a program", hash)
	}
	return filepath.Join(p.dir, hash), nil
}

func (p *programs) size(hash string) (int64, error) {
	path, err := p.path(hash)
	if err != nil {
		return 0, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// Upload keeps a program.
func (u *Upgrades) Upload(from io.Reader) (model.Program, error) {
	dir := u.programs.dir
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return model.Program{}, err
	}
	f, err := os.CreateTemp(dir, ".new-*")
	if err != nil {
		return model.Program{}, err
	}
	defer os.Remove(f.Name())
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, sum), io.LimitReader(from, MaxProgram+1))
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	switch {
	case err != nil:
		return model.Program{}, fmt.Errorf("the program could not be kept: %w", err)
	case n == 0:
		return model.Program{}, problem.Invalid("the program is empty")
	case n > MaxProgram:
		return model.Program{}, problem.Invalid("the program has more than %d bytes", MaxProgram)
	}
	out := model.Program{Hash: hex.EncodeToString(sum.Sum(nil)), Size: n}
	path := filepath.Join(dir, out.Hash)
	if err := os.Rename(f.Name(), path); err != nil {
		return model.Program{}, err
	}
	now := time.Now()
	os.Chtimes(path, now, now)
	u.prune()
	return out, nil
}

// prune keeps the newest programs, and that of the newest upgrade.
func (u *Upgrades) prune() {
	entries, _ := os.ReadDir(u.programs.dir)
	type file struct {
		name string
		at   time.Time
	}
	var files []file
	for _, e := range entries {
		if info, err := e.Info(); err == nil && len(e.Name()) == 2*sha256.Size {
			files = append(files, file{e.Name(), info.ModTime()})
		}
	}
	slices.SortFunc(files, func(a, b file) int { return b.at.Compare(a.at) })
	for _, f := range files[min(len(files), keptPrograms):] {
		if now := u.newest(); now == nil || now.Hash != f.name {
			os.Remove(filepath.Join(u.programs.dir, f.name))
		}
	}
}

// Program opens a program, when it is the turn of who asks. The caller closes it.
func (u *Upgrades) Program(ctx context.Context, hash string) (f *os.File, done func(), err error) {
	path, err := u.programs.path(hash)
	if err != nil {
		return nil, nil, problem.Invalid("%s", err)
	}
	select {
	case u.programs.sending <- struct{}{}:
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
	if f, err = os.Open(path); err != nil {
		<-u.programs.sending
		return nil, nil, problem.Missing("program %s is not kept any more", hash[:12])
	}
	return f, func() {
		f.Close()
		<-u.programs.sending
	}, nil
}
