package git

import (
	"errors"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/storer"

	"nightjar/core/rules"
)

const (
	maxEntries = 20_000 // of directories that are looked through
	maxNesting = 32
	maxWalk    = 2000 // commits that are looked through
)

// IsRuleFile tells whether a file of a repository is read as rules, by its name.
func IsRuleFile(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".yaml", ".yml", ".json":
		return !strings.HasPrefix(path.Base(name), ".")
	}
	return false
}

// filesAt reads the rule files at a path of a tree. A *Failure tells what is wrong with
// what the tree says.
func filesAt(tree *object.Tree, at string) ([]rules.File, error) {
	w := &walk{}
	if at == "." {
		if err := w.directory(tree, "", 0); err != nil {
			return nil, err
		}
		return w.found(at)
	}
	for dir := at; dir != "."; dir = path.Dir(dir) { // a link on the way leads elsewhere
		if e, err := tree.FindEntry(dir); err == nil && e.Mode == filemode.Symlink {
			return nil, link(dir)
		}
	}
	e, err := tree.FindEntry(at)
	if err != nil {
		return nil, failure("the branch has nothing at %s: push rule files there, or follow another path", at)
	}
	if e.Mode == filemode.Dir {
		inner, err := tree.Tree(at)
		if err != nil {
			return nil, err
		}
		err = w.directory(inner, at, 0)
		if err != nil {
			return nil, err
		}
		return w.found(at)
	}
	if err := w.entry(tree, e, at); err != nil {
		return nil, err
	}
	return w.found(at)
}

func link(name string) error {
	return failure("%s is a symbolic link, which is not followed: put the file itself there", name)
}

// walk reads the rule files of a directory.
type walk struct {
	entries int
	bytes   int64
	files   []rules.File
}

func (w *walk) found(at string) ([]rules.File, error) {
	if len(w.files) == 0 {
		return nil, failure(
			"the branch has no rule files at %s: push some, with names that end in .yaml, .yml or .json", at)
	}
	slices.SortFunc(w.files, func(a, b rules.File) int { return strings.Compare(a.Name, b.Name) })
	return w.files, nil
}

func (w *walk) directory(tree *object.Tree, at string, nesting int) error {
	for i := range tree.Entries {
		e := &tree.Entries[i]
		if w.entries++; w.entries > maxEntries || nesting > maxNesting {
			return failure("the path has more than %d files or %d levels: follow a path with rules alone",
				maxEntries, maxNesting)
		}
		name := path.Join(at, e.Name)
		if strings.HasPrefix(e.Name, ".") {
			continue
		}
		if e.Mode == filemode.Dir {
			inner, err := tree.Tree(e.Name)
			if err == nil {
				err = w.directory(inner, name, nesting+1)
			}
			if err != nil {
				return err
			}
			continue
		}
		if err := w.entry(tree, e, name); err != nil {
			return err
		}
	}
	return nil
}

// entry reads one file, if it is one of rules. A link without an ending could be to a
// directory with rules.
func (w *walk) entry(tree *object.Tree, e *object.TreeEntry, name string) error {
	isRules := IsRuleFile(name)
	switch {
	case e.Mode == filemode.Symlink && (isRules || path.Ext(name) == ""):
		return link(name)
	case e.Mode == filemode.Submodule:
		return failure("%s is another repository, which is not read: put the files themselves there", name)
	case !isRules:
		return nil
	}
	f, err := tree.TreeEntryFile(e)
	if errors.Is(err, plumbing.ErrObjectNotFound) { // it was too large to be sent
		return tooMuch()
	}
	if err != nil {
		return err
	}
	if w.bytes += f.Size; w.bytes > rules.MaxBytes {
		return tooMuch()
	}
	in, err := f.Reader()
	if err != nil {
		return err
	}
	defer in.Close()
	text, err := io.ReadAll(io.LimitReader(in, rules.MaxBytes+1))
	w.files = append(w.files, rules.File{Name: name, Text: string(text)})
	return err
}

func tooMuch() error {
	return failure("the rule files have more than %d MiB, the limit of a rule set: leave out files that are no rules",
		rules.MaxBytes>>20)
}

// changedBy is the newest commit that changed what is at a path: one that differs there
// from all of its parents. nil: the local copy does not reach back to it.
func changedBy(store storer.EncodedObjectStorer, head *object.Commit, at string) *object.Commit {
	c := head
	for range maxWalk {
		now := hashAt(c, at)
		var same *object.Commit
		isKnown := true
		for _, id := range c.ParentHashes {
			p, err := object.GetCommit(store, id)
			if err != nil {
				isKnown = false
				continue
			}
			if hashAt(p, at) == now {
				same = p
				break
			}
		}
		switch {
		case same != nil:
			c = same
		case isKnown:
			return c
		default:
			return nil
		}
	}
	return nil
}

// hashAt is that of what a commit has at a path; the zero hash: nothing.
func hashAt(c *object.Commit, at string) plumbing.Hash {
	if at == "." {
		return c.TreeHash
	}
	tree, err := c.Tree()
	if err != nil {
		return plumbing.ZeroHash
	}
	e, err := tree.FindEntry(at)
	if err != nil {
		return plumbing.ZeroHash
	}
	return e.Hash
}

// among is those of the commits that head comes after, or is.
func among(store storer.EncodedObjectStorer, head *object.Commit, ids []string) (out []string) {
	if len(ids) == 0 {
		return nil
	}
	seen := map[plumbing.Hash]bool{head.Hash: true}
	for next := []*object.Commit{head}; len(next) > 0 && len(seen) < maxWalk; {
		c := next[0]
		next = next[1:]
		if slices.Contains(ids, c.Hash.String()) {
			out = append(out, c.Hash.String())
		}
		for _, id := range c.ParentHashes {
			if p, err := object.GetCommit(store, id); err == nil && !seen[id] {
				seen[id] = true
				next = append(next, p)
			}
		}
	}
	return out
}
