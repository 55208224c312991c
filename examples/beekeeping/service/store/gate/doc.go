// Package gate is the runtime under generated code: typed columns, conditions
// and relations over one database, without reflection on the way of a row.
//
// A generated package describes each table once, in a Def: its columns and,
// for each column, where its value lies in the entity. From that description
// everything else follows. A Table reads and writes whole rows; a Query is a
// reading that grows by Where, With, OrderBy and Limit; a Column makes
// conditions that only fit queries of its own entity; ToOne, ToMany and
// ManyToMany load related rows with one statement for all parents, and turn
// conditions on the related rows into conditions on the parent.
//
// What differs between databases is said by an Engine value, which the
// packages beside this one provide together with a DB: postgres, mysql and
// sqlite. Values travel only as bound parameters. Errors that a caller acts
// on are ErrNotFound and *ConstraintError; all others wrap the driver's.
package gate
