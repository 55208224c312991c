package rest

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/big"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"widegate/gate"
)

// patch is a change to a row: members of a merge patch, or operations.
type patch struct {
	merge object
	steps []step
}

// step is an operation of a JSON patch (RFC 6902).
type step struct {
	Op    string          `json:"op"`
	Path  *string         `json:"path"`
	From  *string         `json:"from"`
	Value json.RawMessage `json:"value"` // null is a value; nil is none
}

// maxSteps bounds a JSON patch.
const maxSteps = 1000

// readPatch reads a patch of a media type.
func readPatch(media string, text []byte) (patch, error) {
	if media != mediaPatch {
		o, err := oneObject(text)
		return patch{merge: o}, err
	}
	if err := checkJSON(text); err != nil {
		return patch{}, err
	}
	var p patch
	if err := json.Unmarshal(text, &p.steps); err != nil {
		return p, NewProblem(http.StatusUnprocessableEntity, `a JSON patch is an array such as [{"op":"replace","path":"/name","value":"Sunny Slope"}]`)
	}
	if len(p.steps) > maxSteps {
		return p, NewProblem(http.StatusUnprocessableEntity, "a JSON patch has at most %d operations", maxSteps)
	}
	if p.steps == nil {
		p.steps = []step{}
	}
	return p, nil
}

// members are the properties that the patch changes of a row.
func (p patch) members(r *resource, row any) (object, error) {
	if p.steps == nil {
		return p.merge, nil
	}
	before, err := tree(r.appendRow(nil, row, nil))
	if err != nil {
		return nil, err
	}
	after, err := tree(r.appendRow(nil, row, nil))
	if err != nil {
		return nil, err
	}
	for i, s := range p.steps {
		if after, err = s.apply(after); err != nil {
			return nil, faultyStep(i, err)
		}
	}
	own, ok := after.(map[string]any)
	if !ok {
		return nil, faultyStep(len(p.steps)-1, fmt.Errorf("the row cannot become %T", after))
	}
	return changes(before.(map[string]any), own)
}

func faultyStep(i int, err error) error {
	p := NewProblem(http.StatusUnprocessableEntity, "operation %d of the patch cannot be done", i)
	p.Errors = []Fault{{"#/" + strconv.Itoa(i), err.Error()}}
	return p
}

// tree reads JSON and keeps its numbers as they are written.
func tree(text []byte) (any, error) {
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.UseNumber()
	var v any
	return v, dec.Decode(&v)
}

// changes are the members in which two objects differ. One that went is null.
func changes(before, after map[string]any) (object, error) {
	var o object
	for name, value := range after {
		if old, ok := before[name]; ok && reflect.DeepEqual(old, value) {
			continue
		}
		text, err := json.Marshal(value)
		if err != nil {
			return nil, err
		}
		o = append(o, jsonMember{name: name, raw: text})
	}
	for name := range before {
		if _, ok := after[name]; !ok {
			o = append(o, jsonMember{name: name, raw: json.RawMessage("null")})
		}
	}
	slices.SortFunc(o, func(a, b jsonMember) int { return strings.Compare(a.name, b.name) })
	return o, nil
}

func (s step) apply(document any) (any, error) {
	if s.Path == nil {
		return nil, fmt.Errorf("it has no path")
	}
	path, err := splitPointer(*s.Path)
	if err != nil {
		return nil, err
	}
	switch s.Op {
	case "add", "replace", "test":
		if s.Value == nil {
			return nil, fmt.Errorf("%s wants a value", s.Op)
		}
		value, err := tree(s.Value)
		if err != nil {
			return nil, err
		}
		if s.Op == "test" {
			return document, test(document, path, value)
		}
		return put(document, path, value, s.Op == "add")
	case "remove":
		return remove(document, path)
	case "move", "copy":
		if s.From == nil {
			return nil, fmt.Errorf("%s wants a from", s.Op)
		}
		return s.carry(document, path)
	}
	return nil, fmt.Errorf("there is no operation %q; there are add, remove, replace, move, copy and test", s.Op)
}

func (s step) carry(document any, path []string) (any, error) {
	from, err := splitPointer(*s.From)
	if err != nil {
		return nil, err
	}
	value, err := get(document, from)
	if err != nil {
		return nil, err
	}
	if s.Op == "move" {
		if len(path) > len(from) && slices.Equal(path[:len(from)], from) {
			return nil, fmt.Errorf("%s lies inside of %s", *s.Path, *s.From)
		}
		if document, err = remove(document, from); err != nil {
			return nil, err
		}
	} else if value, err = copied(value); err != nil {
		return nil, err
	}
	return put(document, path, value, true)
}

func copied(value any) (any, error) {
	text, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	return tree(text)
}

func test(document any, path []string, want any) error {
	got, err := get(document, path)
	if err != nil {
		return err
	}
	if !sameJSON(got, want) {
		text, _ := json.Marshal(got)
		return fmt.Errorf("the test fails: the value is %s", text)
	}
	return nil
}

// sameJSON compares values as RFC 6902 does: numbers by what they are, and not by
// how they are written.
func sameJSON(a, b any) bool {
	switch a := a.(type) {
	case json.Number:
		other, ok := b.(json.Number)
		return ok && (a == other || sameNumber(a.String(), other.String()))
	case []any:
		other, ok := b.([]any)
		return ok && slices.EqualFunc(a, other, sameJSON)
	case map[string]any:
		other, ok := b.(map[string]any)
		return ok && maps.EqualFunc(a, other, sameJSON)
	}
	return a == b
}

// mostExponent bounds the powers of ten of numbers that are compared exactly.
const mostExponent = 400

func sameNumber(a, b string) bool {
	for _, s := range []string{a, b} {
		_, exponent, _ := strings.Cut(strings.ToLower(s), "e")
		if n, err := strconv.Atoi(exponent); exponent != "" && (err != nil || n > mostExponent || n < -mostExponent) {
			return false
		}
	}
	x, ok1 := new(big.Rat).SetString(a)
	y, ok2 := new(big.Rat).SetString(b)
	return ok1 && ok2 && x.Cmp(y) == 0
}

// mergeJSON applies a merge patch (RFC 7396) to a JSON text; what neither speaks
// of stays as it is written.
func mergeJSON(target, patch []byte) ([]byte, error) {
	changes, err := members(patch)
	if err != nil {
		return nil, err
	}
	if name, twice := doubled(changes.names()); twice {
		return nil, fmt.Errorf("has the name %q twice in an object", name)
	}
	var whole object
	if target = bytes.TrimSpace(target); len(target) > 0 && target[0] == '{' {
		if whole, err = members(target); err != nil {
			return nil, err
		}
	}
	for _, c := range changes {
		at := slices.IndexFunc(whole, func(m jsonMember) bool { return m.name == c.name })
		switch {
		case string(c.raw) == "null" && at >= 0:
			whole = slices.Delete(whole, at, at+1)
			continue
		case string(c.raw) == "null":
			continue
		case at < 0:
			whole, at = append(whole, jsonMember{name: c.name}), len(whole)
		}
		if c.raw[0] == '{' {
			if c.raw, err = mergeJSON(whole[at].raw, c.raw); err != nil {
				return nil, err
			}
		}
		whole[at].raw = c.raw
	}
	b := []byte{'{'}
	for i, m := range whole {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(append(gate.AppendJSONString(b, m.name), ':'), m.raw...)
	}
	return append(b, '}'), nil
}

// splitPointer reads a JSON pointer (RFC 6901).
func splitPointer(text string) ([]string, error) {
	if text == "" {
		return nil, nil
	}
	if text[0] != '/' {
		return nil, fmt.Errorf("the path %q should begin with /", text)
	}
	words := strings.Split(text[1:], "/")
	for i, w := range words {
		words[i] = strings.ReplaceAll(strings.ReplaceAll(w, "~1", "/"), "~0", "~")
	}
	return words, nil
}

func missingAt(word string) error { return fmt.Errorf("there is nothing at %q", word) }

func get(at any, path []string) (any, error) {
	for _, word := range path {
		switch v := at.(type) {
		case map[string]any:
			next, ok := v[word]
			if !ok {
				return nil, missingAt(word)
			}
			at = next
		case []any:
			i, err := place(word, len(v)-1)
			if err != nil {
				return nil, err
			}
			at = v[i]
		default:
			return nil, missingAt(word)
		}
	}
	return at, nil
}

// place reads the index of an element.
func place(word string, last int) (int, error) {
	i, err := strconv.Atoi(word)
	if err != nil || i < 0 || i > last || strconv.Itoa(i) != word {
		return 0, missingAt(word)
	}
	return i, nil
}

// put stores a value at a path: a new one, or in place of one that is there.
func put(at any, path []string, value any, fresh bool) (any, error) {
	if len(path) == 0 {
		return value, nil
	}
	word, last := path[0], len(path) == 1
	switch v := at.(type) {
	case map[string]any:
		old, ok := v[word]
		if !ok && (!last || !fresh) {
			return nil, missingAt(word)
		}
		next, err := put(old, path[1:], value, fresh)
		v[word] = next
		return v, err
	case []any:
		if last && fresh {
			if word == "-" {
				return append(v, value), nil
			}
			i, err := place(word, len(v))
			if err != nil {
				return nil, err
			}
			return slices.Insert(v, i, value), nil
		}
		i, err := place(word, len(v)-1)
		if err != nil {
			return nil, err
		}
		v[i], err = put(v[i], path[1:], value, fresh)
		return v, err
	}
	return nil, missingAt(word)
}

func remove(at any, path []string) (any, error) {
	if len(path) == 0 {
		return nil, fmt.Errorf("the row itself is removed by DELETE")
	}
	word, last := path[0], len(path) == 1
	switch v := at.(type) {
	case map[string]any:
		old, ok := v[word]
		if !ok {
			return nil, missingAt(word)
		}
		if last {
			delete(v, word)
			return v, nil
		}
		next, err := remove(old, path[1:])
		v[word] = next
		return v, err
	case []any:
		i, err := place(word, len(v)-1)
		if err != nil {
			return nil, err
		}
		if last {
			return slices.Delete(v, i, i+1), nil
		}
		v[i], err = remove(v[i], path[1:])
		return v, err
	}
	return nil, missingAt(word)
}
