package sqltext

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"widegate/internal/fault"
)

// File is a script.
type File struct {
	Path string
	Text string
}

// Find reads the scripts that paths name: files, folders of them, and patterns
// as of path/filepath. Those of a folder or pattern run in the order of their
// names, in which numbers count as numbers. Of migrations that come in pairs,
// up and down, only the up halves are returned.
func Find(paths []string) ([]*File, error) {
	var names []string
	for _, p := range paths {
		found, err := expand(p)
		if err != nil {
			return nil, err
		}
		names = append(names, found...)
	}
	var files []*File
	for _, name := range withoutDown(names) {
		text, err := ReadBounded(name)
		if err != nil {
			return nil, fault.New("check the path and your right to read the file", "reading the script: %w", err)
		}
		files = append(files, &File{Path: name, Text: upHalf(decode(text))})
	}
	return files, nil
}

// largest is how large a script or a snapshot may be, in bytes.
const largest = 256 << 20

// ReadBounded reads a file that may not be larger than what a schema can need.
func ReadBounded(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, largest+1))
	if err == nil && len(text) > largest {
		err = fmt.Errorf("%s is larger than %d MB", name, largest>>20)
	}
	return text, err
}

func expand(path string) ([]string, error) {
	info, err := os.Stat(path)
	switch {
	case err == nil && info.IsDir():
		return folder(path)
	case err == nil:
		return []string{path}, nil
	case strings.ContainsAny(path, "*?["):
		list, err := filepath.Glob(path)
		if err != nil {
			return nil, fault.New("use * and ? as in schema/*.sql", "the pattern %s cannot be read", path)
		}
		if len(list) == 0 {
			return nil, fault.New("check the pattern; * matches inside one folder", "no file fits %s", path)
		}
		slices.SortFunc(list, Natural)
		return list, nil
	case errors.Is(err, fs.ErrNotExist):
		return nil, fault.New("check the path", "there is no file or folder %s", path)
	}
	return nil, fault.New("check the path and your right to read it", "looking at %s: %w", path, err)
}

// folder lists the scripts below a folder, those of folders in it in their
// place.
func folder(path string) ([]string, error) {
	var list []string
	err := filepath.WalkDir(path, func(at string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() && strings.EqualFold(filepath.Ext(at), ".sql") {
			list = append(list, at)
		}
		return err
	})
	if err != nil {
		return nil, fault.New("check your right to read the folder", "looking into %s: %w", path, err)
	}
	if len(list) == 0 {
		return nil, fault.New("name the folder in which they are; their names end in .sql", "there are no scripts in %s", path)
	}
	slices.SortFunc(list, Natural)
	return list, nil
}

var digits = regexp.MustCompile(`^\d+`)

// Natural compares names with their numbers as numbers: 2_hives before
// 10_queens.
func Natural(a, b string) int {
	for a != "" && b != "" {
		x, y := digits.FindString(a), digits.FindString(b)
		if x != "" && y != "" {
			n, err1 := strconv.ParseUint(x, 10, 64)
			m, err2 := strconv.ParseUint(y, 10, 64)
			if err1 == nil && err2 == nil && n != m {
				return cmp.Compare(n, m)
			}
			if c := strings.Compare(x, y); err1 != nil && err2 != nil && c != 0 {
				return c
			}
			a, b = a[len(x):], b[len(y):]
			continue
		}
		if a[0] != b[0] {
			return cmp.Compare(a[0], b[0])
		}
		a, b = a[1:], b[1:]
	}
	return cmp.Compare(len(a), len(b))
}

var half = regexp.MustCompile(`(?i)^(.*[^a-z])(up|down)(\.sql)$`)

// withoutDown drops the down halves: files whose name says so and whose up half
// is there, or that end in .down.sql in any case.
func withoutDown(names []string) []string {
	ups := map[string]bool{}
	for _, name := range names {
		if m := half.FindStringSubmatch(name); m != nil && strings.EqualFold(m[2], "up") {
			ups[m[1]] = true
		}
	}
	return slices.DeleteFunc(slices.Clone(names), func(name string) bool {
		m := half.FindStringSubmatch(name)
		return m != nil && strings.EqualFold(m[2], "down") && (ups[m[1]] || strings.HasSuffix(m[1], "."))
	})
}

var halfMark = regexp.MustCompile(`(?i)^--[ \t]*(?:\S*[:+@]\S*[ \t]+|\S*[:+@])?(up|down)[ \t\r]*$`)

// halfMarks finds the lines that are such comments. Only comments are looked at:
// scripts may be long.
func halfMarks(text string) [][]int {
	var list [][]int
	for at := 0; at < len(text); {
		end := at + indexOr(text[at:], "\n", len(text)-at)
		if strings.HasPrefix(text[at:], "--") {
			if m := halfMark.FindStringSubmatchIndex(text[at:end]); m != nil {
				for i := range m {
					m[i] += at
				}
				list = append(list, m)
			}
		}
		at = end + 1
	}
	return list
}

// upHalf blanks what stands below a comment that says down and nothing else,
// up to one that says up.
func upHalf(text string) string {
	marks := halfMarks(text)
	if len(marks) == 0 {
		return text
	}
	out := []byte(text)
	for i, m := range marks {
		if !strings.EqualFold(text[m[2]:m[3]], "down") {
			continue
		}
		end := len(text)
		if i+1 < len(marks) {
			end = marks[i+1][0]
		}
		for at := m[0]; at < end; at++ {
			if out[at] != '\n' {
				out[at] = ' '
			}
		}
	}
	return string(out)
}

// decode takes the byte order mark away, and reads UTF-16 as some editors
// write it.
func decode(text []byte) string {
	s := string(text)
	switch {
	case strings.HasPrefix(s, "\xef\xbb\xbf"):
		return s[3:]
	case strings.HasPrefix(s, "\xff\xfe"):
		return fromUTF16(s[2:], 0, 1)
	case strings.HasPrefix(s, "\xfe\xff"):
		return fromUTF16(s[2:], 1, 0)
	}
	return s
}

// fromUTF16 decodes pairs of bytes whose low and high ones stand at those
// places.
func fromUTF16(s string, low, high int) string {
	units := make([]uint16, 0, len(s)/2)
	for i := 0; i+1 < len(s); i += 2 {
		units = append(units, uint16(s[i+low])|uint16(s[i+high])<<8)
	}
	return string(utf16.Decode(units))
}
