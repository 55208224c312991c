// The functions without a body in grammar.go are elsewhere.
