// Package merge brings three versions of generated files together: the text
// that was rendered last time (base), the file as the developer has it now
// (mine) and the text rendered for the new schema (theirs).
//
// Go is merged declaration by declaration over a whole package, wherever the
// developer moved them, and inside a declaration by field, parameter, element
// and statement. YAML, JSON, SQL and TypeScript are merged by their own
// structure, everything else by lines. What cannot be decided is a Conflict;
// with one of those nothing of the result may be used.
package merge

import (
	"fmt"
	"slices"
	"strings"
)

// Tree is files by their slash paths.
type Tree map[string][]byte

// Side is whose text stands where both changed it.
type Side int

// The sides.
const (
	Undecided Side = iota
	Mine
	New
)

// Choice settles the conflicts at a place, and at all places below it.
type Choice struct {
	Place string // FILE, FILE:DECL or FILE:DECL.MEMBER
	Side  Side
}

// Renames are what is known to have another name in theirs than in base.
type Renames struct {
	Files   map[string]string `json:"files"`   // new path by old one
	Symbols map[string]string `json:"symbols"` // new name by Type, Type.Field or Func
	Uses    bool              `json:"uses"`    // the developer's own files are rewritten too
}

// Options are what the developer asked for.
type Options struct {
	Renames   Renames
	Choices   []Choice
	BringBack []string // files, or folders of them, to make again though they were deleted
	Outputs   []string // folders none of which is ever deleted whole; the root if there are none
	Module    string   // import path of the tree's root; empty if it is not known
	Root      string   // folder on disk where the go command runs; empty for none

	// Branches says that theirs is what other people made, not a rendering: what
	// they did to a comment, or to what mine removed, is not given up either.
	Branches bool

	Theirs string // what theirs is called in messages; empty for the new rendering

	// Unproven reports whether a text is rendered by a template of somebody else's, and
	// so need not fit together with the others; nil for none.
	Unproven func(name string) bool

	// Whole has everything type-checked, also what cannot be broken.
	Whole bool

	alone bool // a file without the others of its package, which cannot be type-checked
}

// Conflict is a place that a person must decide on.
type Conflict struct {
	File    string `json:"file"`
	Decl    string `json:"decl"`
	Member  string `json:"member"`
	Line    int    `json:"line"` // in mine, from 1
	Class   string `json:"class"`
	Message string `json:"msg"`
}

// Place names where the conflict is, as Choice takes it.
func (c Conflict) Place() string { return place(c.File, c.Decl, c.Member) }

// Settled reports whether a choice of a side can settle the conflict; others
// need an edit.
func (c Conflict) Settled() bool {
	switch c.Class {
	case "other-branch", "both-changed", "both-added", "both-inserted", "changed-dropped", "not-ours", "maybe-renamed", "all-missing":
		return true
	}
	return false
}

// Breaks reports whether the conflict is that the result would not build; who
// chooses the new text for the place takes that upon themselves.
func (c Conflict) Breaks() bool { return c.Class == "breaks" || c.Class == "needs-deleted" }

func place(file, decl, member string) string {
	switch {
	case decl != "" && member != "":
		return file + ":" + decl + "." + member
	case decl+member != "":
		return file + ":" + decl + member
	}
	return file
}

// Notice is something to know that stops nothing.
type Notice struct {
	File    string `json:"file"`
	Decl    string `json:"decl,omitempty"`
	Member  string `json:"member,omitempty"`
	Line    int    `json:"line,omitempty"`
	Message string `json:"msg"`
}

// Result is what the merge gives: the files of mine that change, a nil text
// standing for one to remove.
type Result struct {
	Changed   Tree
	Conflicts []Conflict
	Notices   []Notice
}

// Kept is the side that was chosen for a place, if one was.
func (o *Options) Kept(at string) Side {
	side, _ := o.kept(at)
	return side
}

func (o *Options) kept(at string) (Side, bool) {
	best, side := -1, Undecided
	for _, c := range o.Choices {
		if len(c.Place) > best && (at == c.Place || strings.HasPrefix(at, c.Place+":") || strings.HasPrefix(at, c.Place+".") || strings.HasPrefix(at, strings.TrimSuffix(c.Place, "/")+"/")) {
			best, side = len(c.Place), c.Side
		}
	}
	return side, best >= 0
}

func (o *Options) unproven(name string) bool { return o.Unproven != nil && o.Unproven(name) }

func (o *Options) broughtBack(file string) bool {
	return slices.ContainsFunc(o.BringBack, func(b string) bool {
		b = strings.TrimSuffix(b, "/")
		return b == "." || file == b || strings.HasPrefix(file, b+"/")
	})
}

// Unused returns the choices whose place is in none of the files.
func Unused(choices []Choice, files []string) []Choice {
	return slices.DeleteFunc(slices.Clone(choices), func(c Choice) bool {
		file, _, _ := strings.Cut(c.Place, ":")
		return slices.ContainsFunc(files, func(f string) bool { return f == file || strings.HasPrefix(f, strings.TrimSuffix(file, "/")+"/") })
	})
}

// String is the conflict as a line for people.
func (c Conflict) String() string {
	at := c.File
	if c.Line > 0 {
		at = fmt.Sprintf("%s:%d", c.File, c.Line)
	}
	if c.Decl+c.Member != "" {
		at += " " + strings.TrimPrefix(place("", c.Decl, c.Member), ":")
	}
	return fmt.Sprintf("%s: %s (%s)", at, c.Message, c.Class)
}

// String is the notice as a line for people.
func (n Notice) String() string {
	return strings.TrimSuffix(Conflict{File: n.File, Decl: n.Decl, Member: n.Member, Line: n.Line, Message: n.Message}.String(), " ()")
}
