package rest

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"strings"

	"widegate/gate"
	"widegate/gate/cql2"
)

// rule ties the rows of a resource to what is known of the caller.
type rule struct {
	text string
	root *cql2.Node
	fill map[int]string // columns that equal a claim, and the claim
}

// claimPrefix stands before the name of a claim in a rule.
const claimPrefix = "claim."

// claimed is a node whose value comes from a claim, and is read as that of the
// column that it is compared with.
const claimed cql2.Op = "claim"

// fromClaims marks a list whose values come from a claim.
const fromClaims = "claims"

// addRules reads the rules of a resource, by the roles that they bind.
func (r *resource) addRules(texts map[string]string) error {
	for _, role := range slices.Sorted(maps.Keys(texts)) {
		root, err := cql2.Parse(texts[role], cql2.DefaultLimits)
		if err == nil {
			err = r.checkRule(root)
		}
		if err != nil {
			return fmt.Errorf("the rule of %s for the rows of %s: %w", role, r.path, err)
		}
		if len(r.info.Keys) == 0 && r.create != nil {
			return fmt.Errorf("the rule of %s for the rows of %s: rows without a key cannot be stored under a rule; give the table a key", role, r.path)
		}
		made := &rule{text: texts[role], root: root, fill: map[int]string{}}
		r.findFills(root, made.fill)
		if r.rules == nil {
			r.rules = map[string]*rule{}
		}
		r.rules[role] = made
	}
	return nil
}

// checkRule finds names that mean nothing.
func (r *resource) checkRule(n *cql2.Node) error {
	if n.Op == cql2.Property && !strings.HasPrefix(n.Value, claimPrefix) {
		_, _, err := r.walk(n)
		return err
	}
	for _, a := range n.Args {
		if err := r.checkRule(a); err != nil {
			return err
		}
	}
	return nil
}

// findFills finds the columns that every row of the rule has from a claim.
func (r *resource) findFills(n *cql2.Node, fill map[int]string) {
	switch n.Op {
	case cql2.And:
		for _, a := range n.Args {
			r.findFills(a, fill)
		}
	case cql2.Equal:
		for i := range n.Args {
			column, other := n.Args[i], n.Args[1-i]
			if column.Op != cql2.Property || other.Op != cql2.Property {
				continue
			}
			claim, ok := strings.CutPrefix(other.Value, claimPrefix)
			if at, own := r.find(column.Value); own && ok {
				fill[at] = claim
			}
		}
	}
}

// rowsFor is the condition under which an identity may do something with a
// row, and whether there is one: whoever has a role that no rule binds may do
// it with all of them.
func (r *resource) rowsFor(id *Identity, v verb) (cond gate.Cond[any], ruled bool) {
	if len(r.rules) == 0 {
		return cond, false
	}
	var some []gate.Cond[any]
	for _, role := range r.api.config.allowOf(r.own.path).roles(v) {
		if !holds([]string{role}, id) {
			continue
		}
		bound := r.rules[role]
		if bound == nil {
			return cond, false
		}
		if one, ok := r.own.conditionOf(bound, id); ok {
			some = append(some, one)
		}
	}
	return gate.Or(some...), true
}

// conditionOf is what a rule means for an identity. A claim that is missing, or
// is no value of the column, leaves no rows.
func (r *resource) conditionOf(rule *rule, id *Identity) (cond gate.Cond[any], ok bool) {
	root, ok := id.resolve(rule.root)
	if !ok {
		return cond, false
	}
	cond, err := condition(root, true, r.predicate)
	if err != nil {
		slog.Debug("a rule for rows leaves none", "resource", r.path, "rule", rule.text, "reason", err.Error())
	}
	return cond, err == nil
}

// resolve puts claims in the places of their names.
func (id *Identity) resolve(n *cql2.Node) (*cql2.Node, bool) {
	if n.Op == cql2.Property {
		name, isClaim := strings.CutPrefix(n.Value, claimPrefix)
		if !isClaim {
			return n, true
		}
		text, ok := claimText(id.claim(name))
		return &cql2.Node{Op: claimed, Value: text, Place: n.Place}, ok
	}
	own := *n
	own.Args = nil
	for _, a := range n.Args {
		if n.Op == cql2.List && a.Op == cql2.Property {
			if items, ok := id.claim(strings.TrimPrefix(a.Value, claimPrefix)).([]any); ok {
				for _, item := range items {
					text, ok := claimText(item)
					if !ok {
						return nil, false
					}
					own.Args = append(own.Args, &cql2.Node{Op: claimed, Value: text, Place: a.Place})
				}
				own.Value = fromClaims // of which there may be none
				continue
			}
		}
		resolved, ok := id.resolve(a)
		if !ok {
			return nil, false
		}
		own.Args = append(own.Args, resolved)
	}
	return &own, true
}

// claim is what is known of the caller by a name; points lead into objects.
func (id *Identity) claim(name string) any {
	if id == nil {
		return nil
	}
	if name == "sub" {
		return id.Subject
	}
	if v, ok := id.Claims[name]; ok {
		return v
	}
	var at any = id.Claims
	for _, word := range strings.Split(name, ".") {
		inner, ok := at.(map[string]any)
		if !ok {
			return nil
		}
		at = inner[word]
	}
	return at
}

// claimText is a claim as text, if it is a single value.
func claimText(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return v, v != ""
	case bool:
		return strconv.FormatBool(v), true
	case json.Number:
		return v.String(), true
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), true
	case int:
		return strconv.Itoa(v), true
	case int64:
		return strconv.FormatInt(v, 10), true
	}
	return "", false
}

// fills are the values that new rows have from the claims of their sender, where
// one rule binds them.
func (r *resource) fills() map[int]string {
	fills := map[int]string{}
	for _, role := range r.api.config.allowOf(r.own.path).roles(toCreate) {
		if !holds([]string{role}, r.who) {
			continue
		}
		bound := r.rules[role]
		if bound == nil || len(fills) > 0 {
			return nil // all values are allowed, or those of several rules
		}
		for i, claim := range bound.fill {
			if text, ok := claimText(r.who.claim(claim)); ok {
				fills[i] = text
			}
		}
	}
	return fills
}

// written are rows that were stored for a caller.
type written struct {
	res     *resource
	drafts  []*draft
	verb    verb
	columns []int // that were stored; nil is all
}

// checkChunk is how many rows are held to their rules by one statement.
const checkChunk = 200

// check holds rows that were stored, within their transaction, to the rules for
// their sender, and their references to the rows that these may read.
func (w written) check(ctx context.Context, tx gate.DB) error {
	conds := w.conditions()
	if len(conds) == 0 {
		return nil
	}
	for part := range slices.Chunk(w.drafts, checkChunk) {
		ok, err := w.hold(ctx, tx, part, conds...)
		if err != nil {
			return err
		}
		if !ok {
			return w.notTheirs(ctx, tx, part, conds)
		}
	}
	return nil
}

func (w written) conditions() []gate.Cond[any] {
	var conds []gate.Cond[any]
	if own, ruled := w.res.rowsFor(w.res.who, w.verb); ruled {
		conds = append(conds, own)
	}
	for i := range w.res.relations {
		if cond, bound := w.referring(&w.res.relations[i]); bound {
			conds = append(conds, cond)
		}
	}
	return conds
}

// referring is the condition that a reference which was stored leads to a row
// that its sender may read, or nowhere.
func (w written) referring(rel *relation) (cond gate.Cond[any], bound bool) {
	holds := rel.rel.Holds()
	if holds == nil || !rel.bound {
		return cond, false
	}
	if _, ruled := rel.at.rowsFor(rel.who, toRead); !ruled {
		return cond, false
	}
	either := []gate.Cond[any]{rel.rel.Holding()}
	stored := w.columns == nil
	for _, name := range holds {
		i, _ := w.res.info.Find(name)
		either = append(either, w.res.info.Term(i).Null())
		stored = stored || slices.Contains(w.columns, i)
	}
	return gate.Or(either...), stored
}

// hold reports whether all conditions hold for all of the rows.
func (w written) hold(ctx context.Context, tx gate.DB, part []*draft, conds ...gate.Cond[any]) (bool, error) {
	info := w.res.info
	keys := make([]gate.Cond[any], len(part))
	for n, d := range part {
		fields := info.Fields(nil, d.row)
		same := make([]gate.Cond[any], len(info.Keys))
		for i, k := range info.Keys {
			arg, err := info.Argument(k, string(gate.AppendText(nil, fields[k])))
			if err != nil {
				return false, fmt.Errorf("reading the key of a row of %s: %w", info.Name, err)
			}
			same[i] = info.Term(k).Compare("=", arg)
		}
		keys[n] = gate.And(same...)
	}
	count, err := gate.AllOf(info).Where(gate.Or(keys...)).Where(conds...).Count(ctx, tx)
	return count == int64(len(part)), err
}

// notTheirs is the error of rows that are not for their sender to store: of the
// one that it is about, where there is one.
func (w written) notTheirs(ctx context.Context, tx gate.DB, part []*draft, conds []gate.Cond[any]) error {
	f := &refused{res: w.res, drafts: part, whole: part, columns: w.columns, err: errNotTheirs}
	for _, d := range part {
		ok, err := w.hold(ctx, tx, []*draft{d}, conds...)
		if err != nil {
			return err
		}
		if !ok {
			f.drafts = []*draft{d}
			break
		}
	}
	return f
}
