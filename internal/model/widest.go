package model

import "slices"

// Widest is an entity worth looking at first: the one with the most relations.
func (m *Model) Widest() *Entity {
	return slices.MaxFunc(m.Entities, func(x, y *Entity) int { return len(x.Relations) - len(y.Relations) })
}
