# Orenda. Two commands are all the set-up: make demo, make test.

VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
LDFLAGS := -s -w -X orenda/internal/cli.Version=$(VERSION)
# Packages that take minutes under the race detector, many of them to link the
# database: `make test` runs them without it and `make race` with it. The longest go first.
SLOW    := $(addprefix orenda/internal/,e2e call cli app truth journal/disk journal/postgres journal/postgres/pgserver service spans) orenda/cmd/orenda
RACED   := $(filter-out $(SLOW),$(shell go list ./... 2>/dev/null))

.PHONY: build demo test test-core test-whole race truth endure platforms outside release tools check bench growth shots fuzz clean

build: bin/orenda

bin/orenda: $(shell find cmd internal -type f ! -name '*_test.go' ! -path '*/testdata/*') go.mod
	CGO_ENABLED=0 go build -trimpath -ldflags '$(LDFLAGS)' -o $@ ./cmd/orenda

demo: build
	./bin/orenda demo

# What the tests need besides Go: installed as root, else named.
tools:
	@./scripts/tools.sh

check:
	@test -z "$$(gofmt -l cmd internal)" || { echo "gofmt wants:"; gofmt -l cmd internal; exit 1; }
	go vet ./...
	go tool staticcheck ./...
	go tool revive -config revive.toml -set_exit_status ./...
	@./scripts/globals.sh

# The core and its tests compile for every platform that is released.
platforms:
	@./scripts/platforms.sh

# Its parts run beside each other: the last mostly waits for screens and servers.
test: tools build
	@$(MAKE) --no-print-directory -j3 check test-core test-whole

test-core:
	go test -race $(RACED)

test-whole: build
	ORENDA=$(CURDIR)/bin/orenda go test $(SLOW)

# The race detector over the command line and the whole program as well. What runs
# in the terminal is then itself built with it.
race: tools
	CGO_ENABLED=1 go build -race -trimpath -o bin/orenda-race ./cmd/orenda
	ORENDA=$(CURDIR)/bin/orenda-race ORENDA_RACED=1 ORENDA_KEYS=1m GORACE=halt_on_error=1 \
		go test -race -timeout 40m $(SLOW)

# Ten minutes of kills, hostile peers and mutated input, with a table of tries, failures,
# losses and memory; then ten of random keys in every view, with the race detector.
endure: tools build
	ORENDA=$(CURDIR)/bin/orenda ORENDA_ENDURE=10m go test -count 1 -timeout 20m -v -run TestEndurance ./internal/e2e
	CGO_ENABLED=1 go build -race -trimpath -o bin/orenda-race ./cmd/orenda
	ORENDA=$(CURDIR)/bin/orenda-race ORENDA_KEYS=10m go test -count 1 -timeout 20m -v -run TestRandomKeys ./internal/e2e

# Plays the matrix of failing and healthy exchanges, and writes its figures down.
truth:
	UPDATE=1 go test -count 1 -v -run TestTheTableOfTruth ./internal/truth
	UPDATE=1 go test -count 1 -run TestEveryFinding ./internal/cli

# What needs another language, a database server or a browser, or is too large to keep here.
outside: tools
	@./scripts/outside.sh

# The program for every platform, with checksums: the same bytes from the same commit.
release:
	@./scripts/release.sh '$(LDFLAGS)'

# How cost grows with size: docs/performance.md and its drawing.
growth: build
	ORENDA=$(CURDIR)/bin/orenda ORENDA_GROWTH=$(CURDIR)/docs go test -count 1 -timeout 60m -run HowCostGrows -v ./internal/e2e

bench: build
	@./scripts/bench.sh

shots: tools build
	@./scripts/shots.sh

# A minute of each fuzz test, and a table of all that was run.
fuzz:
	@./scripts/fuzz.sh 60s

clean:
	rm -rf bin dist
