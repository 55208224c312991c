package project

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Fork is where two lines of work come together, or just did: what they have in
// common, and where each has got to. They are revisions of Git.
type Fork struct{ Base, Ours, Theirs string }

// Repository is the version control of a project, as far as it is read: nothing in it
// is changed, and nothing that it asks for is run.
type Repository struct {
	root   string
	folder string // where its own files are
}

// OpenRepository finds the repository that a folder lies in; nil means that there is
// none, or that there is no git.
func OpenRepository(ctx context.Context, root string) *Repository {
	full, err := filepath.Abs(root)
	if err != nil {
		return nil
	}
	r := &Repository{root: full}
	for at := full; ; at = filepath.Dir(at) {
		if info, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			if info.IsDir() {
				r.folder = filepath.Join(at, ".git")
				return r
			}
			break
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
	folder, err := r.git(ctx, nil, "rev-parse", "--absolute-git-dir")
	if err != nil {
		return nil
	}
	r.folder = strings.TrimSpace(string(folder))
	return r
}

func (r *Repository) git(ctx context.Context, input io.Reader, args ...string) ([]byte, error) {
	cmd := exec.CommandContext(ctx, "git", append(append(slices.Clone(quietGit), "-C", r.root), args...)...)
	cmd.Env = append(os.Environ(), gitEnvironment...)
	cmd.Stdin = input
	return cmd.Output()
}

// read is a small file of the repository's own, in words.
func (r *Repository) read(name string) []string {
	text, err := os.ReadFile(filepath.Join(r.folder, name))
	if err != nil {
		return nil
	}
	return strings.Fields(string(text))
}

// Merging reports whether lines of work are being brought together at this moment.
func (r *Repository) Merging() bool {
	return len(r.read("MERGE_HEAD"))+len(r.read("CHERRY_PICK_HEAD"))+len(r.read("REBASE_HEAD")) > 0
}

// Forks are the lines of work that are being merged, rebased or picked at this moment,
// or were by the last thing that was done here.
func (r *Repository) Forks(ctx context.Context) []Fork {
	var forks []Fork
	add := func(ours, theirs string) {
		if base, err := r.git(ctx, nil, "merge-base", ours, theirs); err == nil {
			forks = append(forks, Fork{strings.TrimSpace(string(base)), ours, theirs})
		}
	}
	for _, head := range r.read("MERGE_HEAD") {
		add("HEAD", head)
	}
	for _, name := range []string{"CHERRY_PICK_HEAD", "REBASE_HEAD"} {
		for _, head := range r.read(name) {
			forks = append(forks, Fork{head + "^", "HEAD", head})
		}
	}
	if len(forks) > 0 {
		return forks
	}
	steps := r.steps()
	if len(steps) == 0 {
		return nil
	}
	switch last := steps[len(steps)-1]; {
	case strings.HasPrefix(last.what, "rebase") && strings.Contains(last.what, "(finish)"):
		before := r.read("ORIG_HEAD")
		for _, s := range slices.Backward(steps) {
			if strings.Contains(s.what, "(start)") && len(before) > 0 {
				add(s.to, before[0])
				break
			}
		}
	case strings.Contains(last.what, "merge") || strings.Contains(last.what, "Merge"):
		parents, err := r.git(ctx, nil, "rev-parse", last.to+"^@")
		if err != nil {
			break
		}
		list := strings.Fields(string(parents))
		for _, other := range list[min(1, len(list)):] {
			add(list[0], other)
		}
	}
	return forks
}

// step is a line of the log of what was done.
type step struct{ to, what string }

func (r *Repository) steps() []step {
	text, err := os.ReadFile(filepath.Join(r.folder, "logs", "HEAD"))
	if err != nil {
		return nil
	}
	var steps []step
	for line := range strings.Lines(string(text)) {
		head, what, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if words := strings.Fields(head); len(words) > 1 {
			steps = append(steps, step{words[1], what})
		}
	}
	return steps
}

// Changed are the files below the project that differ between two revisions.
func (r *Repository) Changed(ctx context.Context, from, to string) []string {
	out, err := r.git(ctx, nil, "diff-tree", "-r", "-z", "--name-only", "--relative", "--no-renames", from, to, "--")
	if err != nil {
		return nil
	}
	return strings.FieldsFunc(string(out), func(c rune) bool { return c == 0 })
}

// Revisions are those that changed any of some files, the newest first.
func (r *Repository) Revisions(ctx context.Context, most int, files ...string) []string {
	out, err := r.git(ctx, nil, append([]string{"rev-list", "--full-history", fmt.Sprintf("--max-count=%d", most), "HEAD", "--"}, files...)...)
	if err != nil {
		return nil
	}
	return strings.Fields(string(out))
}

// Texts are files as they are in a revision; those that it has not are left out.
func (r *Repository) Texts(ctx context.Context, revision string, files ...string) (map[string][]byte, error) {
	list, err := r.History(ctx, []string{revision}, files...)
	if err != nil {
		return nil, err
	}
	return list[0], nil
}

// History is files as they are in each of some revisions.
func (r *Repository) History(ctx context.Context, revisions []string, files ...string) ([]map[string][]byte, error) {
	var ask strings.Builder
	for _, revision := range revisions {
		for _, name := range files {
			if strings.ContainsAny(name, "\n\r") {
				return nil, fmt.Errorf("reading revision %s: %q is no name of a file here", revision, name)
			}
			fmt.Fprintf(&ask, "%s:./%s\n", revision, name)
		}
	}
	out, err := r.git(ctx, strings.NewReader(ask.String()), "cat-file", "--batch")
	if err != nil {
		return nil, fmt.Errorf("reading revisions: %w", err)
	}
	in := bufio.NewReader(bytes.NewReader(out))
	list := make([]map[string][]byte, len(revisions))
	for i := range revisions {
		list[i] = map[string][]byte{}
		for _, name := range files {
			text, err := nextBlob(in)
			if err != nil {
				return nil, fmt.Errorf("reading revision %s: %w", revisions[i], err)
			}
			if text != nil {
				list[i][name] = text
			}
		}
	}
	return list, nil
}

// nextBlob reads one answer of `git cat-file --batch`; nil stands for no file.
func nextBlob(in *bufio.Reader) ([]byte, error) {
	head, err := in.ReadString('\n')
	if err != nil {
		return nil, err
	}
	if strings.HasSuffix(head, " missing\n") || strings.HasSuffix(head, " ambiguous\n") {
		return nil, nil
	}
	var id, kind string
	var size int
	if n, _ := fmt.Sscanf(head, "%s %s %d", &id, &kind, &size); n < 3 {
		return nil, fmt.Errorf("%q is no answer of git", head)
	}
	text := make([]byte, size+1)
	if _, err := io.ReadFull(in, text); err != nil {
		return nil, err
	}
	if kind != "blob" {
		return nil, nil
	}
	return text[:size], nil
}

// MergedFile is a pattern of files that a merge driver is for, and a file that fits.
type MergedFile struct{ Pattern, Example string }

// Line is the line of .gitattributes that says so.
func (m MergedFile) Line() string {
	pattern := m.Pattern
	if strings.ContainsAny(pattern, " \"\\") {
		pattern = strconv.Quote(pattern)
	}
	return pattern + " merge=widegate"
}

// Unmerged tells what is missing for the driver widegate to merge files: its setting,
// and attributes.
func (r *Repository) Unmerged(ctx context.Context, key string, files []MergedFile) []string {
	var missing []string
	if driver, err := r.git(ctx, nil, "config", "--get", key); err != nil || !strings.Contains(string(driver), " merge --path %P %O %A %B") {
		missing = append(missing, "the setting "+key)
	}
	for _, f := range files {
		out, err := r.git(ctx, nil, "check-attr", "-z", "merge", "--", f.Example)
		if words := strings.Split(string(out), "\x00"); err != nil || len(words) < 3 || words[2] != "widegate" {
			missing = append(missing, "in .gitattributes: "+f.Line())
		}
	}
	return missing
}

// Configure gives a setting of the repository a value.
func (r *Repository) Configure(ctx context.Context, key, value string) error {
	cmd := exec.CommandContext(ctx, "git", append(slices.Clone(quietGit), "-C", r.root, "config", "--local", key, value)...)
	cmd.Env = append(os.Environ(), gitEnvironment...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git config %s: %w: %s", key, err, bytes.TrimSpace(out))
	}
	return nil
}
