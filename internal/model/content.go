package model

import (
	"cmp"
	"slices"
	"strings"

	"widegate/internal/fault"
)

// Content is a binary column as a resource of its own.
type Content struct {
	Path        string // below the row's
	Media       string // a media type, or a range of them such as image/*; empty: whatever is sent
	MediaColumn *Field // the column that holds the media type; nil: none does
	Most        int    // bytes; 0: as many as any body may have
}

// shortBytes is how long keys, hashes and the like are, which nobody downloads.
const shortBytes = 64

// mediaNames are what columns are called that hold a media type.
var mediaNames = []string{"media_type", "content_type", "mime_type", "mimetype"}

// addContents makes resources of binary columns.
func (b *builder) addContents(e *Entity) error {
	if len(e.Key) == 0 {
		return nil
	}
	paths := newNamespace("summary")
	for _, r := range e.Relations {
		paths.reserve(r.Path)
	}
	binary := 0
	for _, f := range e.Fields {
		if f.Kind == KindBytes && !f.InKey {
			binary++
		}
	}
	for _, f := range e.Fields {
		set := b.settings(e.Table).Columns[f.Column.Name]
		said := set.Media != "" || set.Most != 0
		if f.Kind != KindBytes || f.InKey {
			if said {
				return fault.New("take `media` and `most` out", "widegate.yaml: entities.%s.columns.%s is no binary column that could be a resource", e.Table.FullName(), f.Column.Name)
			}
			continue
		}
		if f.Hidden || !said && f.Column.Type.Size > 0 && f.Column.Type.Size <= shortBytes {
			continue
		}
		path := cmp.Or(kebab(b.steady.Split(f.Column.Name)), "content")
		c := &Content{Path: paths.give(path, path+"-content"), Most: max(set.Most, 0)}
		c.MediaColumn = e.mediaColumn(f, binary == 1)
		switch {
		case strings.Contains(set.Media, "/"):
			c.Media = set.Media
		case set.Media != "":
			if c.MediaColumn = e.Field(set.Media); c.MediaColumn == nil || c.MediaColumn.Kind != KindText {
				return fault.New("name a text column, or a media type such as image/png", "widegate.yaml: entities.%s.columns.%s.media is %q", e.Table.FullName(), f.Column.Name, set.Media)
			}
		}
		f.Content = c
	}
	return nil
}

// mediaColumn finds the column that holds the media type of another: one that is
// called after it, or where there is no other binary column, one that is called
// like that.
func (e *Entity) mediaColumn(of *Field, only bool) *Field {
	for _, name := range mediaNames {
		for _, candidate := range []string{of.Column.Name + "_" + name, name} {
			if candidate == name && !only {
				continue
			}
			if f := e.Field(candidate); f != nil && f.Kind == KindText {
				return f
			}
		}
	}
	return nil
}

// Contents are the fields that are resources of their own.
func (e *Entity) Contents() []*Field {
	return slices.DeleteFunc(slices.Clone(e.Fields), func(f *Field) bool { return f.Content == nil || f.Hidden })
}
