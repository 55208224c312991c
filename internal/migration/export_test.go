package migration

// Unsafe says why a client would take a text for something else than one statement.
var Unsafe = unsafe

// FirstLine is the beginning of a statement.
var FirstLine = firstLine

// Without are the texts of a list that another one lacks.
var Without = without

// Acts reports whether a character has no place in a script.
var Acts = acts

// Made makes a schema in an empty database and reads it back.
var Made = made
