# make demo   sets everything up and plays the whole job once on sample data
# make test   sets everything up, checks everything and passes the tests
# make bench  prints speeds as ratios; half an hour and more
# make endure kills and cuts capture 300 times and takeovers 200 times at random, and proves 100 random copies; over an hour
# make fuzz   tries inputs on every decoder for an hour
# make attacks prints what becomes of each attack that the tests carry out
# make mutants puts faults into the code and tells which the tests do not notice; many hours
# make build  builds bin/velvet with the console in it, and its bill of materials
# make vulnerabilities looks the dependencies up in the databases of Go and npm; it needs the internet
# make lint   formatting, vet, staticcheck, types, generated files

SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
.DEFAULT_GOAL := build

console_sources := $(shell find console/src console/index.html console/vite.config.ts console/package.json 2>/dev/null)
console_code := 'src/**/*.{ts,tsx}' '!src/schema.ts'
go_sources := $(shell find . -name node_modules -prune -o \( -name '*.go' -o -name '*.sql' \) -print)

.PHONY: attacks build demo test bench endure fuzz lint mutants vulnerabilities prepare prepare-tests generate clean
build: bin/velvet bin/velvet.cdx.json

prepare:
	@./prepare.sh

prepare-tests:
	@./prepare.sh tests

console/node_modules/.stamp: console/package.json console/package-lock.json
	@echo "The console's packages are installed (about half a minute, once)."
	@cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console/dist/index.html: console/node_modules/.stamp $(console_sources)
	@echo "The console is built."
	@cd console && npm run --silent build

bin/velvet: console/dist/index.html $(go_sources) go.mod
	@echo "velvet is compiled (a minute or two the first time: its modules are fetched)."
	@go build -trimpath -ldflags "-X main.version=$$(git describe --always --dirty 2>/dev/null || echo development)" -o $@ ./cmd/velvet

# Fails if a dependency's licence is none of those that are allowed.
bin/velvet.cdx.json: bin/velvet console/package-lock.json
	@go run ./cmd/sbom bin/velvet console/package-lock.json "$$(go env GOMODCACHE)" > $@.new && mv $@.new $@

vulnerabilities: bin/velvet console/node_modules/.stamp
	go run golang.org/x/vuln/cmd/govulncheck@v1.1.4 -mode binary bin/velvet
	cd console && npm audit

# ONCE=1 ends the demo after the job.
demo: prepare bin/velvet
	@./bin/velvet demo $(if $(ONCE),--once)

# The API's description and the types made from it are committed; lint fails when they are stale.
generate: console/node_modules/.stamp
	@mkdir -p console/dist && touch console/dist/index.html
	go run ./cmd/openapi > docs/openapi.yaml
	cd console && npx --no-install openapi-typescript ../docs/openapi.yaml -o src/schema.ts >/dev/null
	go run ./cmd/drawings docs/drawings/*.txt

lint: console/dist/index.html
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "not formatted:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...
	cd console && npx --no-install tsc --noEmit && npx --no-install prettier --check --log-level warn $(console_code)
	@go run ./cmd/openapi | cmp -s - docs/openapi.yaml || { echo "docs/openapi.yaml is stale: run make generate"; exit 1; }
	@cd console && npx --no-install openapi-typescript ../docs/openapi.yaml -o /tmp/velvet-schema.$$$$.ts >/dev/null && \
		{ cmp -s /tmp/velvet-schema.$$$$.ts src/schema.ts || { echo "console/src/schema.ts is stale: run make generate"; exit 1; }; }; rm -f /tmp/velvet-schema.$$$$.ts

test: prepare-tests bin/velvet bin/velvet.cdx.json lint
	cd console && npm test --silent
	@table=$$(mktemp); trap "rm -f $$table" EXIT; \
		VELVET_VERSIONS_TABLE=$$table go test -json -parallel 4 -timeout 45m ./... | go run ./testbed/slowest; \
		cat $$table

bench: prepare-tests bin/velvet
	go test -run '^$$' -bench . -benchtime 1x -timeout 120m ./bench ./engine/backup

# For how many seconds: make fuzz FOR=3600
fuzz:
	FOR=$(or $(FOR),3600) ./fuzz.sh

# What becomes of each attack, with this program and, where BEFORE=PATH names one, with an earlier one.
attack_tests := TestHostile|TestCallsOfStrangers|TestPagesOfAnotherScheme|TestLostKey|TestEncryptedStore|TestStoreInABucket|TestTakenBack|TestClonedCatalogue|TestKeysChangedTwice|TestForged|TestTicketsEnd|TestStolenPasswords|TestAFlippedBitIsFound|TestEveryVersion|TestCondensingTriedAgain
attacks: prepare-tests bin/velvet
	@dir=$$(mktemp -d); trap "rm -rf $$dir" EXIT; touch $$dir/before; \
		if [ -n "$(BEFORE)" ]; then VELVET_PROGRAM=$(BEFORE) VELVET_ATTACKS_TABLE=$$dir/before go test -count=1 -timeout 45m -run '$(attack_tests)' ./cmd/velvet > $$dir/log 2>&1 || true; fi; \
		VELVET_ATTACKS_TABLE=$$dir/now go test -count=1 -timeout 45m -run '$(attack_tests)' ./cmd/velvet ./engine/store/vault; \
		awk -F'\t' 'NR == FNR { before[$$1] = $$2; next } { printf "%-110s %-12s %s\n", $$1, ($$1 in before) ? before[$$1] : "-", $$2 }' $$dir/before $$dir/now

# Of some packages only: make mutants OF=core/keep; on every fourth line only: SHARE=4. Fetches the tool through
# the Go proxy.
mutated := $(wildcard core/*) engine/store/vault engine/changes engine/restore engine/backup engine/capture
mutants: prepare-tests bin/velvet
	go run ./testbed/mutants -share $(or $(SHARE),1) $(or $(OF),$(mutated))

# The same seed does the same again: make endure SEED=12 ROUNDS=300
endure: prepare-tests bin/velvet
	VELVET_ENDURE_ROUNDS=$(or $(ROUNDS),300) VELVET_ENDURE_SEED=$(or $(SEED),$(shell date +%s)) go test -count=1 -v -timeout 120m -run TestCaptureEndures ./cmd/velvet
	VELVET_COPIES=100 go test -count=1 -v -timeout 60m -run TestRandomRightCopies ./engine/prove
	VELVET_TAKEOVER_KILLS=200 go test -count=1 -v -timeout 120m -run TestTakeoverOnAHostIsKilled ./cmd/velvet
	VELVET_EVERY_VERSION=1 go test -count=1 -v -timeout 30m -run 'TestTakeoverOnAHost$$' ./cmd/velvet
	VELVET_PARTIALS=100 go test -count=1 -v -timeout 120m -run TestPartialCopies ./cmd/velvet
	VELVET_RESCUES=300 go test -count=1 -v -timeout 120m -run TestRandomRescues ./cmd/velvet

clean:
	rm -rf bin console/dist console/node_modules
