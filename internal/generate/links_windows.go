package generate

// hardLinked reports whether a file has several names, which is rare here.
func hardLinked(string) bool { return false }
