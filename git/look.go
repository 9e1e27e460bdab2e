package git

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/go-git/go-billy/v5/osfs"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/cache"
	"github.com/go-git/go-git/v5/plumbing/format/packfile"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/protocol/packp"
	"github.com/go-git/go-git/v5/plumbing/protocol/packp/capability"
	"github.com/go-git/go-git/v5/plumbing/protocol/packp/sideband"
	"github.com/go-git/go-git/v5/plumbing/transport"
	"github.com/go-git/go-git/v5/storage/filesystem"

	"nightjar/core/rules"
)

const (
	depth     = 50 // commits that are read to find the one that changed the path
	maxPacks  = 20 // of the local copy; then it is made anew
	cacheSize = 4 << 20
)

// Repository is a source and its local copy. One goroutine uses it at a time.
type Repository struct {
	source Source
	dir    string
	limits limits
}

// Open makes a repository with its local copy in dir, which need not exist. The source is
// one that Clean returned.
func Open(dir string, s Source) *Repository {
	return &Repository{source: s, dir: dir, limits: usualLimits}
}

// HostKey is the key by which the SSH server of the repository is known; empty: none is.
func (r *Repository) HostKey() string { return r.source.HostKey }

// State is what a repository says at a moment.
type State struct {
	Tip      string            // id of the newest commit of the branch
	Branches map[string]string // all branches, with the ids of their newest commits
	Commit   *Commit           // what the tip says; nil: the tip is the known one
	Merged   []string          // those of the asked commits that the branch has
}

// Commit is what a branch says of the rules.
type Commit struct {
	ID      string // of the newest commit that changed the path, or else the tip
	Author  string
	Subject string
	Tip     string
	Files   []rules.File // called as in the repository, in the order of their names
	// Fault is what is wrong with the path; empty: nothing. Files is nil then.
	Fault string
}

// Look asks the repository what its branch says. While its tip is known, nothing is read.
// merged are commits of which somebody wants to know whether the branch has them. An error
// is a *Failure.
func (r *Repository) Look(ctx context.Context, known string, merged []string) (State, error) {
	ctx, stop := context.WithTimeout(ctx, LookTime)
	defer stop()
	s, err := r.look(ctx, known, merged)
	for attempt := 1; isHangUp(err) && attempt < attempts; attempt++ {
		s, err = r.look(ctx, known, merged)
	}
	if err != nil {
		return s, r.explain(err)
	}
	return s, nil
}

// attempts is how often something is tried that fails because of who closes first.
const attempts = 3

// isHangUp tells whether a server closed its end before ours was closed. By SSH it may, once
// it has all that it needs; the library takes that for a failure.
func isHangUp(err error) bool {
	return err != nil && (errors.Is(err, io.EOF) || strings.HasSuffix(err.Error(), "closing input: EOF"))
}

// advertised is a session with what the repository says that it has. Who asks closes it.
func (r *Repository) advertised(ctx context.Context) (transport.UploadPackSession, *packp.AdvRefs, error) {
	over, at, auth, err := r.connect(ctx)
	if err != nil {
		return nil, nil, err
	}
	session, err := over.NewUploadPackSession(at, auth)
	if err != nil {
		return nil, nil, err
	}
	refs, err := session.AdvertisedReferencesContext(ctx)
	if err != nil {
		session.Close()
		return nil, nil, err
	}
	return session, refs, nil
}

func (r *Repository) look(ctx context.Context, known string, merged []string) (State, error) {
	session, refs, err := r.advertised(ctx)
	if err != nil {
		return State{}, err
	}
	defer session.Close()
	out := State{Branches: map[string]string{}}
	for name, id := range refs.References {
		if branch, isBranch := strings.CutPrefix(name, "refs/heads/"); isBranch {
			out.Branches[branch] = id.String()
		}
	}
	if out.Tip = out.Branches[r.source.Branch]; out.Tip == "" {
		return out, failure("the repository at %s has no branch %s: name %s", r.source.URL,
			r.source.Branch, rules.OneOf(r.source.Branch, slices.Sorted(maps.Keys(out.Branches))))
	}
	if out.Tip == known {
		return out, nil
	}
	tip := plumbing.NewHash(out.Tip)
	store := r.storage()
	if _, err := object.GetCommit(store, tip); err != nil {
		if err := r.fetch(ctx, session, refs, store, tip); err != nil {
			return out, err
		}
		store = r.storage()
	}
	out.Commit, out.Merged, err = r.read(store, tip, merged)
	return out, err
}

func (r *Repository) storage() *filesystem.Storage {
	return filesystem.NewStorageWithOptions(osfs.New(r.dir), cache.NewObjectLRU(cacheSize),
		filesystem.Options{LargeObjectThreshold: rules.MaxBytes})
}

// fetch adds to the local copy what a commit needs. A copy that is of no use is made anew.
func (r *Repository) fetch(
	ctx context.Context, session transport.UploadPackSession, refs *packp.AdvRefs, store *filesystem.Storage,
	tip plumbing.Hash,
) error {
	packs, _ := store.ObjectStorage.ObjectPacks()
	last, err := store.Reference(lastRef)
	hasLast := err == nil && len(packs) < maxPacks
	if hasLast {
		_, err := object.GetCommit(store, last.Hash())
		hasLast = err == nil
	}
	if !hasLast {
		if err := os.RemoveAll(r.dir); err != nil {
			return err
		}
		store = r.storage()
	}
	if err := os.MkdirAll(r.dir, 0o700); err != nil {
		return err
	}
	q := packp.NewUploadPackRequestFromCapabilities(refs.Capabilities)
	q.Depth = packp.DepthCommits(depth)
	q.Wants = []plumbing.Hash{tip}
	if hasLast {
		q.Haves = []plumbing.Hash{last.Hash()}
	}
	if err := q.Capabilities.Set(capability.Shallow); err != nil {
		return err
	}
	if refs.Capabilities.Supports(capability.Filter) {
		q.Filter = packp.FilterBlobLimit(rules.MaxBytes>>20+1, packp.BlobLimitPrefixMebi)
		if err := q.Capabilities.Set(capability.Filter); err != nil {
			return err
		}
	}
	if q.Shallows, err = store.Shallow(); err != nil {
		return err
	}
	reading, stop := context.WithCancel(ctx)
	defer stop()
	answer, err := session.UploadPack(reading, q)
	if err != nil {
		return err
	}
	err = r.keep(ctx, store, unframed(q.Capabilities, answer))
	if err != nil { // closing waits for a server that is still sending, unless a read fails
		stop()
		answer.Read(make([]byte, 1))
	}
	answer.Close()
	if err != nil {
		return err
	}
	shallows := slices.DeleteFunc(append(q.Shallows, answer.Shallows...), func(h plumbing.Hash) bool {
		return slices.Contains(answer.Unshallows, h)
	})
	slices.SortFunc(shallows, func(a, b plumbing.Hash) int { return cmp.Compare(a.String(), b.String()) })
	if err := store.SetShallow(slices.Compact(shallows)); err != nil {
		return err
	}
	return store.SetReference(plumbing.NewHashReference(lastRef, tip))
}

// lastRef is where the local copy notes which commit it was fetched for last.
const lastRef = plumbing.ReferenceName("refs/nightjar/last")

// unframed is the pack in an answer, which may be framed with messages for people.
func unframed(c *capability.List, answer io.Reader) io.Reader {
	switch {
	case c.Supports(capability.Sideband64k):
		return sideband.NewDemuxer(sideband.Sideband64k, answer)
	case c.Supports(capability.Sideband):
		return sideband.NewDemuxer(sideband.Sideband, answer)
	}
	return answer
}

// keep stores a pack, once it is known that nothing in it is larger than it may be.
func (r *Repository) keep(ctx context.Context, store *filesystem.Storage, pack io.Reader) error {
	f, err := os.CreateTemp(r.dir, "pack-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	n, err := io.Copy(f, io.LimitReader(pack, r.limits.pack+1))
	switch {
	case err != nil:
		return err
	case n > r.limits.pack:
		return failure("the repository at %s sends more than %d MiB for branch %s: move the rules to a "+
			"smaller one", r.source.URL, r.limits.pack>>20, r.source.Branch)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if err := r.limits.check(ctx, f); err != nil {
		return fmt.Errorf("what it sends: %w", err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return packfile.UpdateObjectStorage(store, f)
}

// read is what a commit of the local copy says, and which commits it comes after.
func (r *Repository) read(store *filesystem.Storage, tip plumbing.Hash, merged []string) (*Commit, []string, error) {
	head, err := object.GetCommit(store, tip)
	if err != nil {
		return nil, nil, err
	}
	out := &Commit{ID: head.Hash.String(), Tip: head.Hash.String(), Author: author(head), Subject: subject(head)}
	if c := changedBy(store, head, r.source.Path); c != nil {
		out.ID, out.Author, out.Subject = c.Hash.String(), author(c), subject(c)
	}
	tree, err := head.Tree()
	if err != nil {
		return nil, nil, err
	}
	out.Files, err = filesAt(tree, r.source.Path)
	if f := (*Failure)(nil); errors.As(err, &f) {
		out.Files, out.Fault, err = nil, f.Why, nil
	}
	return out, among(store, head, merged), err
}

func author(c *object.Commit) string {
	return cmp.Or(said(c.Author.Name), said(c.Author.Email), "unknown")
}

func subject(c *object.Commit) string {
	line, _, _ := strings.Cut(strings.TrimSpace(c.Message), "\n")
	return said(line)
}
