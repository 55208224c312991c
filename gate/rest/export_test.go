package rest

// ReadTable is the reader of tables, for its fuzz test.
func ReadTable(text []byte) ([][]string, error) {
	return readCSV(text)
}

// Active is how many requests for one row are under way, or to store one.
func Active(s Shaped) int {
	r := s.resource()
	return int(r.finds.active.Load() + r.adds.active.Load())
}

// Shaped is any shape.
type Shaped interface{ resource() *resource }
