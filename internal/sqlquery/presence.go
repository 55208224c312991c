package sqlquery

import "slices"

// Presence says for which arguments a part of a query stands in the statement:
// where all optional arguments of at least one of the lists are given. A nil
// Presence is always.
type Presence [][]int

// Holds reports whether the part stands where the arguments for which given
// holds are there.
func (p Presence) Holds(given func(arg int) bool) bool {
	return p == nil || slices.ContainsFunc(p, func(all []int) bool {
		return !slices.ContainsFunc(all, func(arg int) bool { return !given(arg) })
	})
}

// allOf is the presence of what needs all of some arguments.
func allOf(args []int) Presence {
	if len(args) == 0 {
		return nil
	}
	args = slices.Clone(args)
	slices.Sort(args)
	return Presence{slices.Compact(args)}
}

// or is the presence of what stands where one of two parts does.
func (p Presence) or(other Presence) Presence {
	if p == nil || other == nil {
		return nil
	}
	return slices.Concat(p, other).shortest()
}

// and is the presence of what stands where both of two parts do.
func (p Presence) and(other Presence) Presence {
	if p == nil {
		return other
	}
	if other == nil {
		return p
	}
	var both Presence
	for _, a := range p {
		for _, b := range other {
			both = append(both, allOf(slices.Concat(a, b))...)
		}
	}
	return both.shortest()
}

// shortest leaves out the lists that others make needless.
func (p Presence) shortest() Presence {
	var list Presence
	for i, a := range p {
		needless := slices.ContainsFunc(p[:i], func(b []int) bool { return slices.Equal(a, b) })
		for _, b := range p {
			needless = needless || len(b) < len(a) && !slices.ContainsFunc(b, func(arg int) bool { return !slices.Contains(a, arg) })
		}
		if !needless {
			list = append(list, a)
		}
	}
	slices.SortFunc(list, slices.Compare)
	return list
}

func (p Presence) equal(other Presence) bool { return slices.EqualFunc(p, other, slices.Equal) }

// args are all arguments that the presence depends on.
func (p Presence) args() []int {
	list := slices.Concat(p...)
	slices.Sort(list)
	return slices.Compact(list)
}
