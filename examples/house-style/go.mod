// Keeps the Go files that are expected out of the module around them.
module house-style

go 1.26
