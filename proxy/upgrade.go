package proxy

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"nightjar/identity"
	"nightjar/proxy/process"
	"nightjar/wire"
)

const (
	fetchTime    = 2 * time.Minute // for a program to come
	maxProgram   = 512 << 20       // bytes
	keptPrograms = 8               // in the directory of programs, the newest
	usedEvery    = time.Hour       // how often a program in use is marked as such
)

// upgrade is how a proxy takes programs that the service offers: it fetches one, verifies
// hash and signature, and hands over to it as on SIGHUP. A program that does not come into
// force leaves everything as it is.
type upgrade struct {
	handing sync.Mutex // held while a process is started
	reading sync.Once
	busy    sync.WaitGroup
	stop    context.CancelFunc

	mu     sync.Mutex // guards what follows
	build  string     // of this process; empty: not known yet
	report *wire.UpgradeReport
	isOver bool // none is taken any more
}

// describe adds what there is to say of the program.
func (p *Proxy) describe(r *wire.Registration) {
	u := &p.upgrade
	u.reading.Do(func() {
		if b := p.cfg.Before; b != nil && b.Program.Hash != "" {
			u.build = b.Program.Hash
			if b.Program.Upgrade > 0 {
				u.report = &wire.UpgradeReport{Upgrade: b.Program.Upgrade}
			}
			return
		}
		if p.cfg.Start != nil { // which takes a moment
			u.busy.Go(func() {
				hash, err := hashOf(p.cfg.Start.Program)
				if err != nil {
					p.log.Warn("the program cannot be read, so its version is not known exactly", "error", err)
				}
				u.mu.Lock()
				u.build = hash
				u.mu.Unlock()
				p.session.Hasten()
			})
		}
	})
	u.mu.Lock()
	defer u.mu.Unlock()
	r.Build, r.Upgrade = u.build, u.report
	r.TakesPrograms = p.cfg.Start != nil && p.cfg.Start.Programs != ""
}

func hashOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// offered takes a program, unless this proxy is at it, has it, or has failed to.
func (p *Proxy) offered(o *wire.ProgramOffer) {
	u := &p.upgrade
	u.mu.Lock()
	defer u.mu.Unlock()
	isKnown := u.report != nil && u.report.Upgrade == o.Upgrade && u.report.Back == o.Back
	hasIt := u.build == o.Hash
	if u.isOver || u.build == "" || isKnown || hasIt != o.Back {
		return
	}
	u.report = &wire.UpgradeReport{Upgrade: o.Upgrade, Back: o.Back}
	ctx, stop := context.WithTimeout(context.Background(), fetchTime)
	u.stop = stop
	u.busy.Go(func() {
		defer stop()
		err := p.takeProgram(ctx, o)
		u.mu.Lock()
		if err != nil && !u.isOver {
			p.log.Error("a program that the service offers is not run; this process continues", "upgrade", o.Upgrade, "error", err)
			u.report = &wire.UpgradeReport{Upgrade: o.Upgrade, Back: o.Back, Failed: err.Error()}
		}
		u.mu.Unlock()
		p.session.Hasten()
	})
}

// end stops what is under way. No program is taken after that.
func (u *upgrade) end() {
	u.mu.Lock()
	u.isOver = true
	if u.stop != nil {
		u.stop()
	}
	u.mu.Unlock()
	u.busy.Wait()
}

// takeProgram hands over to the program of an offer, or to the one before it.
func (p *Proxy) takeProgram(ctx context.Context, o *wire.ProgramOffer) error {
	if o.Back {
		before := process.Program{Path: p.cfg.Start.Program}
		if b := p.cfg.Before; b != nil && b.Before != nil {
			if _, err := os.Stat(b.Before.Path); err == nil {
				before = *b.Before
			}
		}
		before.Upgrade = 0
		_, err := p.handOver(ctx, before, nil)
		return err
	}
	if p.cfg.Start == nil || p.cfg.Start.Programs == "" {
		return fmt.Errorf("it takes no programs: it was started with --own-program, or without --state")
	}
	path, err := p.fetch(ctx, o)
	if err != nil {
		return err
	}
	p.upgrade.mu.Lock()
	own := process.Program{Path: p.cfg.Start.Program, Hash: p.upgrade.build}
	p.upgrade.mu.Unlock()
	if b := p.cfg.Before; b != nil && b.Program.Path != "" {
		own.Path = b.Program.Path
	}
	pid, err := p.handOver(ctx, process.Program{Path: path, Hash: o.Hash, Upgrade: o.Upgrade}, &own)
	if err == nil {
		p.log.Info("handed over to a program that the service offers; this process drains", "upgrade", o.Upgrade, "to", pid)
	}
	return err
}

// fetch has a program in the directory of programs, verified.
func (p *Proxy) fetch(ctx context.Context, o *wire.ProgramOffer) (path string, err error) {
	if len(o.Hash) != 2*sha256.Size || o.Hash != filepath.Base(o.Hash) || o.Size <= 0 || o.Size > maxProgram {
		return "", fmt.Errorf("the offer makes no sense: program %q of %d bytes", o.Hash, o.Size)
	}
	program := identity.Program{Hash: o.Hash, Size: o.Size}
	if err := identity.VerifyProgram(program, o.Signature, o.Chain, p.shown.Trust(), time.Now()); err != nil {
		return "", fmt.Errorf("the program is not verified: %w", err)
	}
	dir := p.cfg.Start.Programs
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	path = filepath.Join(dir, o.Hash, "nightjar") // the name by which a process is found
	if hash, err := hashOf(path); err == nil && hash == o.Hash {
		return path, nil // another proxy of this machine has fetched it
	}
	body, err := p.session.Fetch(ctx, o.Hash)
	if err != nil {
		return "", fmt.Errorf("the program cannot be fetched: %w", err)
	}
	defer body.Close()
	f, err := os.CreateTemp(dir, ".new-*")
	if err != nil {
		return "", err
	}
	defer os.Remove(f.Name())
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, sum), io.LimitReader(body, o.Size+1))
	if err == nil {
		err = f.Chmod(0o700)
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	switch {
	case err != nil:
		return "", fmt.Errorf("the program cannot be fetched: %w", err)
	case n != o.Size || hex.EncodeToString(sum.Sum(nil)) != o.Hash:
		return "", fmt.Errorf("the program that came is another one than was signed: %d bytes instead of %d", n, o.Size)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return "", err
	}
	p.markPrograms()
	prune(dir)
	return path, nil
}

// markPrograms marks the program of this process, and the one before it, as in use, so that
// they are among the newest.
func (p *Proxy) markPrograms() {
	b := p.cfg.Before
	if b == nil || p.cfg.Start == nil || p.cfg.Start.Programs == "" {
		return
	}
	now := time.Now()
	for _, one := range []*process.Program{&b.Program, b.Before} {
		if one == nil {
			continue
		}
		if dir := filepath.Dir(one.Path); filepath.Dir(dir) == p.cfg.Start.Programs {
			os.Chtimes(dir, now, now)
		}
	}
}

// prune keeps the newest programs of a directory.
func prune(dir string) {
	entries, _ := os.ReadDir(dir)
	type file struct {
		path string
		at   time.Time
	}
	var files []file
	for _, e := range entries {
		if info, err := e.Info(); err == nil && len(e.Name()) == 2*sha256.Size {
			files = append(files, file{filepath.Join(dir, e.Name()), info.ModTime()})
		}
	}
	slices.SortFunc(files, func(a, b file) int { return b.at.Compare(a.at) })
	for _, f := range files[min(len(files), keptPrograms):] {
		os.RemoveAll(f.path)
	}
}
