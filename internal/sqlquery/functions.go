package sqlquery

import (
	"slices"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// call is the type of a function's value. What stands behind it may be OVER,
// FILTER and the like.
func (a *analysis) call(name string, args, rest []sqltext.Token, s *scope) catalog.Column {
	parts := splitTokens(args)
	switch name {
	case "cast", "try_cast":
		return a.castCall(args, s)
	case "iif", "if":
		if len(parts) == 3 {
			return a.eitherOf(parts[1:], s)
		}
	case "position", "overlay", "trim", "substring", "extract": // with words between their arguments
		parts = slices.DeleteFunc(splitAtWords(args), func(p []sqltext.Token) bool { return len(p) == 0 })
	}
	list := make([]catalog.Column, 0, len(parts))
	for _, part := range parts {
		if len(part) > 0 && part[0].Is("DISTINCT") {
			part = part[1:]
		}
		if len(part) > 0 {
			list = append(list, a.typeOf(untilOrder(part), s))
		}
	}
	f, known := a.catalog.Engine.Function(name)
	if !known {
		return unknown
	}
	if (name == "min" || name == "max") && len(list) > 1 && a.catalog.Engine.WidestOfMany { // of several values
		f = sqltext.Function{Value: sqltext.AsWidest, Nulls: sqltext.IfAnyArg}
	}
	c := valueOf(f, list, a.catalog.Engine)
	c.Nullable = mayBeNull(f, list, mayLackRows(rest, s))
	return c
}

// mayLackRows reports whether an aggregate may be of no rows: where a whole
// table is summed up, where rows are filtered, and where a window has bounds.
func mayLackRows(rest []sqltext.Token, s *scope) bool {
	window, bounded := false, false
	for i, t := range rest {
		switch {
		case t.Is("FILTER"):
			return true
		case t.Is("OVER"):
			window = true
			bounded = i+1 < len(rest) && !rest[i+1].Sign("(") // a window that is named elsewhere
		case isOneOf(t, []string{"ROWS", "RANGE", "GROUPS"}):
			bounded = true
		}
	}
	if window {
		return bounded
	}
	return s == nil || !s.grouped
}

// untilOrder leaves out the order that an aggregate takes its values in, and
// what stands between them.
func untilOrder(part []sqltext.Token) []sqltext.Token {
	end := len(part)
	topLevel(part, func(i int) bool {
		if i > 0 && (part[i].Is("ORDER") || part[i].Is("SEPARATOR")) {
			end = i
		}
		return end == len(part)
	})
	return part[:end]
}

// splitAtWords splits arguments at the words that some functions have between
// them.
func splitAtWords(args []sqltext.Token) [][]sqltext.Token {
	var list [][]sqltext.Token
	from := 0
	topLevel(args, func(i int) bool {
		if args[i].Sign(",") || isOneOf(args[i], []string{"FROM", "FOR", "IN", "PLACING", "BOTH", "LEADING", "TRAILING"}) {
			list = append(list, args[from:i])
			from = i + 1
		}
		return true
	})
	return append(list, args[from:])
}

func mayBeNull(f sqltext.Function, args []catalog.Column, noRows bool) bool {
	nullable := func(c catalog.Column) bool { return c.Nullable }
	switch f.Nulls {
	case sqltext.Never:
		return false
	case sqltext.Always:
		return true
	case sqltext.IfAllArgs:
		return !slices.ContainsFunc(args, func(c catalog.Column) bool { return !c.Nullable })
	case sqltext.IfNoRows:
		return noRows || len(args) == 0 || args[0].Nullable
	}
	return slices.ContainsFunc(args, nullable)
}

// plainTypes are the types of values that are always the same.
var plainTypes = map[sqltext.Value]catalog.Type{
	sqltext.AsText: text, sqltext.AsInteger: integer, sqltext.AsFloat: float, sqltext.AsBool: boolean,
	sqltext.AsDate: {Kind: catalog.Date}, sqltext.AsTimestamp: {Kind: catalog.Timestamp}, sqltext.AsTimestampTZ: {Kind: catalog.TimestampTZ}, sqltext.AsJSON: {Kind: catalog.JSON},
}

func valueOf(f sqltext.Function, args []catalog.Column, d *sqltext.Dialect) catalog.Column {
	first := catalog.Column{}
	if len(args) > 0 {
		first = args[0]
	}
	switch f.Value {
	case sqltext.AsFirst:
		return first
	case sqltext.AsWidest:
		return widest(args)
	case sqltext.AsSum:
		return of(sumType(first.Type.Kind, d), true)
	case sqltext.AsAverage:
		if !d.ExactSums || first.Type.Kind == catalog.Float {
			return of(float, true)
		}
		return of(decimal, true)
	case sqltext.AsTheEngine:
		return of(catalog.Type{}, true)
	}
	return of(plainTypes[f.Value], true)
}

func sumType(of catalog.TypeKind, d *sqltext.Dialect) catalog.Type {
	switch {
	case of == catalog.Int && !d.ExactSums:
		return integer
	case of == catalog.Int, of == catalog.Decimal:
		return decimal
	}
	return float
}

// widest is the type of a value that is one of several, any of which may be
// null. What a column declares stays where all declare the same.
func widest(list []catalog.Column) catalog.Column {
	var result catalog.Column
	rank := func(c catalog.Column) int {
		return slices.Index([]catalog.TypeKind{catalog.Int, catalog.Decimal, catalog.Float}, c.Type.Kind)
	}
	declared := ""
	for _, c := range list {
		result.Nullable = result.Nullable || c.Nullable
		if c.Type.Kind == "" {
			continue
		}
		if known := result.Type.Kind != ""; !known {
			declared = c.Declared
		} else if c.Declared != declared {
			declared = ""
		}
		if result.Type.Kind == "" || rank(result) >= 0 && rank(c) > rank(result) {
			result.Type = c.Type
		}
	}
	result.Declared = declared
	return result
}

// eitherOf is the type of one of several expressions.
func (a *analysis) eitherOf(parts [][]sqltext.Token, s *scope) catalog.Column {
	list := make([]catalog.Column, len(parts))
	for i, part := range parts {
		list[i] = a.typeOf(part, s)
	}
	return widest(list)
}
