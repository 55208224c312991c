package engine

import "regexp"

// Rank is what a statement means for the record of what is done.
type Rank uint8

// The ranks of statements.
const (
	Work    Rank = iota // changes the schema or rows, and can be taken back in a transaction
	Settles             // what only the session knows, and is said again when a script goes on
	Begins              // a transaction
	Ends                // a transaction, and keeps what it did
	Drops               // a transaction, or a part of it
	Final               // work that cannot be taken back, or be done within a transaction
)

// Ranked are the statements of a rank.
type Ranked struct {
	Rank Rank
	Form *regexp.Regexp
}

// The statements that all engines have for transactions.
var (
	BeginForm = regexp.MustCompile(`(?i)^(begin|start\s+transaction)\b`)
	DropForm  = regexp.MustCompile(`(?i)^(rollback|abort|savepoint|release)\b`)
)
