package git

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/format/packfile"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/protocol/packp"
	"github.com/go-git/go-git/v5/storage/memory"
)

// Edit is a commit to push as a branch of its own.
type Edit struct {
	Base    string // id of the commit that it changes, which was looked at
	Branch  string // that must not exist yet
	Author  string // a name or an e-mail address
	Message string
	At      time.Time
	// Files are the new texts by their names in the repository; nil: the file is removed.
	Files map[string]*string
}

// Propose pushes an edit, and returns the id of its commit. An error is a *Failure.
func (r *Repository) Propose(ctx context.Context, e Edit) (string, error) {
	ctx, stop := context.WithTimeout(ctx, LookTime)
	defer stop()
	made := &objects{Storage: memory.NewStorage()}
	id, err := r.commit(made, e)
	if err == nil {
		err = r.push(ctx, made, &packp.Command{
			Name: plumbing.NewBranchReferenceName(e.Branch), Old: plumbing.ZeroHash, New: id,
		})
	}
	if isHangUp(err) && r.has(ctx, e.Branch, id) {
		err = nil
	}
	if err != nil {
		return "", r.explain(err)
	}
	return id.String(), nil
}

// has tells whether the repository has a branch at a commit.
func (r *Repository) has(ctx context.Context, branch string, id plumbing.Hash) bool {
	session, refs, err := r.advertised(ctx)
	if err != nil {
		return false
	}
	defer session.Close()
	return refs.References[plumbing.NewBranchReferenceName(branch).String()] == id
}

// Withdraw deletes a branch that Propose pushed, if it is still at that commit.
func (r *Repository) Withdraw(ctx context.Context, branch, commit string) error {
	ctx, stop := context.WithTimeout(ctx, LookTime)
	defer stop()
	err := r.push(ctx, nil, &packp.Command{
		Name: plumbing.NewBranchReferenceName(branch), Old: plumbing.NewHash(commit), New: plumbing.ZeroHash,
	})
	if err != nil {
		return r.explain(err)
	}
	return nil
}

// objects are the new ones of an edit.
type objects struct {
	*memory.Storage
	ids []plumbing.Hash
}

func (o *objects) add(encode func(plumbing.EncodedObject) error) (plumbing.Hash, error) {
	e := o.NewEncodedObject()
	if err := encode(e); err != nil {
		return plumbing.ZeroHash, err
	}
	id, err := o.SetEncodedObject(e)
	o.ids = append(o.ids, id)
	return id, err
}

// commit makes the objects of an edit.
func (r *Repository) commit(made *objects, e Edit) (plumbing.Hash, error) {
	base, err := object.GetCommit(r.storage(), plumbing.NewHash(e.Base))
	if err != nil {
		return plumbing.ZeroHash, fmt.Errorf("commit %s is not in the local copy: %w", e.Base, err)
	}
	tree, err := base.Tree()
	if err != nil {
		return plumbing.ZeroHash, err
	}
	root, err := made.tree(tree, e.Files)
	if err != nil {
		return plumbing.ZeroHash, err
	}
	name, mail := e.Author, e.Author
	if !strings.Contains(mail, "@") {
		mail += "@nightjar.invalid"
	}
	c := &object.Commit{
		Author:       object.Signature{Name: person(name), Email: person(mail), When: e.At},
		Committer:    object.Signature{Name: "Nightjar", Email: "service@nightjar.invalid", When: e.At},
		Message:      strings.TrimSpace(strings.Map(printable, e.Message)) + "\n",
		TreeHash:     root,
		ParentHashes: []plumbing.Hash{base.Hash},
	}
	return made.add(c.Encode)
}

// printable drops control characters of a message, except the ends of lines.
func printable(r rune) rune {
	if r < ' ' && r != '\n' && r != '\t' || r == 0x7f {
		return -1
	}
	return r
}

// person is a name without what would end it in a commit.
func person(name string) string {
	return strings.NewReplacer("<", "", ">", "", "\n", " ").Replace(said(name))
}

// tree makes a directory with changed files, and those within it. old: nil: there is none.
func (o *objects) tree(old *object.Tree, files map[string]*string) (plumbing.Hash, error) {
	out := &object.Tree{}
	if old != nil {
		out.Entries = slices.Clone(old.Entries)
	}
	inner := map[string]map[string]*string{}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		dir, rest, isDeeper := strings.Cut(name, "/")
		if isDeeper {
			if inner[dir] == nil {
				inner[dir] = map[string]*string{}
			}
			inner[dir][rest] = files[name]
			continue
		}
		if files[name] == nil {
			out.Entries = slices.DeleteFunc(out.Entries, func(e object.TreeEntry) bool { return e.Name == name })
			continue
		}
		id, err := o.add(func(e plumbing.EncodedObject) error {
			e.SetType(plumbing.BlobObject)
			w, err := e.Writer()
			if err == nil {
				_, err = io.WriteString(w, *files[name])
			}
			return err
		})
		if err != nil {
			return id, err
		}
		set(out, name, filemode.Regular, id)
	}
	for _, dir := range slices.Sorted(maps.Keys(inner)) {
		var before *object.Tree
		if old != nil {
			before, _ = old.Tree(dir)
		}
		id, err := o.tree(before, inner[dir])
		if err != nil {
			return id, err
		}
		if id == plumbing.ZeroHash { // nothing is left of it
			out.Entries = slices.DeleteFunc(out.Entries, func(e object.TreeEntry) bool { return e.Name == dir })
			continue
		}
		set(out, dir, filemode.Dir, id)
	}
	if len(out.Entries) == 0 {
		return plumbing.ZeroHash, nil
	}
	sort.Sort(object.TreeEntrySorter(out.Entries))
	return o.add(out.Encode)
}

// set puts an entry into a directory. A file that is there keeps its mode.
func set(t *object.Tree, name string, mode filemode.FileMode, id plumbing.Hash) {
	for i := range t.Entries {
		if e := &t.Entries[i]; e.Name == name {
			if e.Hash = id; mode == filemode.Dir || !e.Mode.IsFile() || e.Mode == filemode.Symlink {
				e.Mode = mode
			}
			return
		}
	}
	t.Entries = append(t.Entries, object.TreeEntry{Name: path.Base(name), Mode: mode, Hash: id})
}

// push sends a command with the objects that it needs; nil: none.
func (r *Repository) push(ctx context.Context, made *objects, c *packp.Command) error {
	over, at, auth, err := r.connect(ctx)
	if err != nil {
		return err
	}
	session, err := over.NewReceivePackSession(at, auth)
	if err != nil {
		return err
	}
	defer session.Close()
	refs, err := session.AdvertisedReferencesContext(ctx)
	if err != nil {
		return err
	}
	q := packp.NewReferenceUpdateRequestFromCapabilities(refs.Capabilities)
	q.Commands = []*packp.Command{c}
	if made != nil {
		var pack bytes.Buffer
		if _, err := packfile.NewEncoder(&pack, made, false).Encode(made.ids, 0); err != nil {
			return err
		}
		q.Packfile = io.NopCloser(&pack)
	}
	report, err := session.ReceivePack(ctx, q)
	if report != nil && report.Error() != nil {
		return failure("the repository at %s does not take branch %s: %s", r.source.URL, c.Name.Short(), report.Error())
	}
	return err
}
