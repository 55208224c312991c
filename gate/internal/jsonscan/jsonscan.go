// Package jsonscan goes through texts that are known to be JSON, without copying: the
// members of an object, the elements of an array.
package jsonscan

// Scanner goes through a text that is JSON; that it is must be known.
type Scanner struct {
	Text []byte
	at   int
}

// Next returns the next sign that is no space.
func (s *Scanner) Next() byte {
	for s.at < len(s.Text) {
		switch s.Text[s.at] {
		case ' ', '\t', '\n', '\r':
			s.at++
		default:
			return s.Text[s.at]
		}
	}
	return 0
}

// Skip goes on behind the sign here, which opens a value or parts two of them,
// and returns the next one; behind the end it returns what ends an array or an
// object.
func (s *Scanner) Skip() byte {
	if c := s.Next(); c == ',' || c == '[' || c == '{' || c == ':' {
		s.at++
	}
	if c := s.Next(); c != 0 {
		return c
	}
	return ']'
}

// Value is the value that begins here.
func (s *Scanner) Value() []byte {
	s.Next()
	start, depth := s.at, 0
	for s.at < len(s.Text) {
		switch c := s.Text[s.at]; c {
		case '"':
			s.quoted()
			if depth == 0 {
				return s.Text[start:s.at]
			}
			continue
		case '{', '[':
			depth++
		case '}', ']':
			if depth == 0 {
				return s.Text[start:s.at]
			}
			if depth--; depth == 0 {
				s.at++
				return s.Text[start:s.at]
			}
		case ',', ' ', '\t', '\n', '\r':
			if depth == 0 {
				return s.Text[start:s.at]
			}
		}
		s.at++
	}
	return s.Text[start:]
}

// quoted goes behind a string.
func (s *Scanner) quoted() {
	for s.at++; s.at < len(s.Text); s.at++ {
		switch s.Text[s.at] {
		case '\\':
			s.at++
		case '"':
			s.at++
			return
		}
	}
}

// Plain reports whether a string is what stands between its quotes.
func Plain(inside []byte) bool {
	for _, c := range inside {
		if c == '\\' || c >= 0x80 {
			return false
		}
	}
	return true
}
