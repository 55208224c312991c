// Package gate is the runtime under generated code: typed columns, conditions
// and relations over one database, without reflection on the way of a row.
//
// A generated package describes each table once, in a Def: its columns, and
// where their values lie in the entity. From that description everything else
// follows. A Table reads and writes whole rows; a Query is a reading that grows
// by Where, With, OrderBy and Limit; columns make conditions that only fit
// queries of their own entity; ToOne, ToMany and ManyToMany load related rows
// with one statement for all parents, and turn conditions on the related rows
// into conditions on the parent. SQL is for statements that are written by hand.
//
// The types of rows are a thin shell. What works behind it knows rows as any
// and tables as Info, so that a program with hundreds of tables has the code
// once.
//
// What differs between databases is said by an Engine value, which the
// packages beside this one provide together with a DB: postgres, mysql and
// sqlite. Values travel only as bound parameters. Errors that a caller acts on
// are ErrNotFound, ErrMany, ErrStale, ErrUnavailable, ErrTimeout and *ConstraintError; all
// others wrap the driver's.
package gate
