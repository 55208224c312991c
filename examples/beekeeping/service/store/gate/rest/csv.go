package rest

import (
	"bytes"
	"fmt"
	"net/http"
	"strings"

	"beekeeping/store/gate"
)

// readCSV reads records of RFC 4180, in which a quoted cell keeps every character,
// line ends included.
func readCSV(text []byte) (records [][]string, err error) {
	s := csvScanner{text: text, line: 1}
	for s.at < len(s.text) {
		start := s.line
		record, blank, err := s.record()
		if err != nil {
			return nil, err
		}
		if blank {
			continue
		}
		if len(records) > 0 && len(record) != len(records[0]) {
			return nil, fmt.Errorf("line %d: the record has %d cells; the first has %d", start, len(record), len(records[0]))
		}
		records = append(records, record)
	}
	return records, nil
}

// csvScanner goes through the records of a table.
type csvScanner struct {
	text []byte
	at   int
	line int
}

// record reads a record and the end of its line. A line with nothing in it is
// blank, and no record.
func (s *csvScanner) record() (record []string, blank bool, err error) {
	start := s.at
	for {
		cell, err := s.cell()
		if err != nil {
			return nil, false, err
		}
		record = append(record, cell)
		switch {
		case s.at == len(s.text):
			return record, s.at == start, nil
		case s.text[s.at] == ',':
			s.at++
			if s.at == len(s.text) {
				return append(record, ""), false, nil
			}
			continue
		}
		blank = s.at == start
		s.endLine()
		return record, blank, nil
	}
}

// endLine goes behind the end of a line: LF, or CR and LF.
func (s *csvScanner) endLine() {
	if s.text[s.at] == '\r' {
		s.at++
	}
	s.at++
	s.line++
}

func (s *csvScanner) atLineEnd() bool {
	return s.text[s.at] == '\n' || s.text[s.at] == '\r' && s.at+1 < len(s.text) && s.text[s.at+1] == '\n'
}

func (s *csvScanner) cell() (string, error) {
	if s.at < len(s.text) && s.text[s.at] == '"' {
		return s.quoted()
	}
	start := s.at
	for ; s.at < len(s.text) && s.text[s.at] != ',' && !s.atLineEnd(); s.at++ {
		if s.text[s.at] == '"' {
			return "", fmt.Errorf(`line %d: a " stands within a cell that does not begin with one; put the cell in quotes, and double those in it`, s.line)
		}
	}
	return string(s.text[start:s.at]), nil
}

// quoted reads a cell between quotes, in which doubled ones stand for one.
func (s *csvScanner) quoted() (string, error) {
	start := s.line
	var cell []byte
	for s.at++; s.at < len(s.text); s.at++ {
		c := s.text[s.at]
		if c != '"' {
			if cell = append(cell, c); c == '\n' {
				s.line++
			}
			continue
		}
		if s.at++; s.at < len(s.text) && s.text[s.at] == '"' {
			cell = append(cell, '"')
			continue
		}
		if s.at < len(s.text) && s.text[s.at] != ',' && !s.atLineEnd() {
			return "", fmt.Errorf(`line %d: something follows the closing " of a cell; a " in a cell is doubled`, s.line)
		}
		return string(cell), nil
	}
	return "", fmt.Errorf(`line %d: a cell begins with " and does not end`, start)
}

// appendCSV appends a record of RFC 4180.
func appendCSV(b []byte, record []string) []byte {
	for i, cell := range record {
		if i > 0 {
			b = append(b, ',')
		}
		if cell == "" && len(record) > 1 || cell != "" && !strings.ContainsAny(cell, "\",\r\n") && cell[0] != ' ' && cell[0] != '\t' {
			b = append(b, cell...)
			continue
		}
		b = append(append(append(b, '"'), strings.ReplaceAll(cell, `"`, `""`)...), '"')
	}
	return append(b, '\r', '\n')
}

// table reads CSV (RFC 4180) whose first record names the columns. An empty
// cell is left to the database, or is an empty text where that must be.
func (r *resource) table(text []byte) ([]object, error) {
	records, err := readCSV(bytes.TrimPrefix(text, []byte("\ufeff")))
	if err != nil {
		return nil, NewProblem(http.StatusBadRequest, "the body is not CSV: %v", err)
	}
	if len(records) == 0 {
		return nil, NewProblem(http.StatusBadRequest, "the body is empty; its first line should name columns, such as %s", strings.Join(r.columnNames(), ","))
	}
	if name, twice := doubled(records[0]); twice {
		return nil, NewProblem(http.StatusUnprocessableEntity, "the column %q stands twice in the first line", name)
	}
	var list []object
	for _, record := range records[1:] {
		var o object
		for i, cell := range record {
			name := records[0][i]
			column, ok := r.findSent(name)
			if cell != "" || ok && r.info.Columns[column].Type == gate.TypeText && r.info.Columns[column].Required() {
				o = append(o, jsonMember{name: name, text: &cell})
			} else if !ok {
				o = append(o, jsonMember{name: name, raw: []byte("null")})
			}
		}
		list = append(list, o)
	}
	return list, nil
}

// doubled is the first name that stands twice in a list.
func doubled(names []string) (string, bool) {
	seen := make(map[string]bool, len(names))
	for _, name := range names {
		if seen[name] {
			return name, true
		}
		seen[name] = true
	}
	return "", false
}
