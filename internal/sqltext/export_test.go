package sqltext

// UpHalf is the part of a script that does not undo it.
var UpHalf = upHalf

// Decode is a text in whatever encoding it was saved.
var Decode = decode
