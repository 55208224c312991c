module beekeeping

go 1.26.0

require github.com/ncruces/go-sqlite3 v0.37.0

require (
	github.com/ncruces/go-sqlite3-wasm/v6 v6.5.35401 // indirect
	github.com/ncruces/julianday v1.0.0 // indirect
	golang.org/x/sys v0.49.0 // indirect
)
