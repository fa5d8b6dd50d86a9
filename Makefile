# Deft Heron. `make demo` and `make test` are all that a newcomer needs.
GO       ?= go
NPM      ?= npm
CACHE    := $(CURDIR)/.cache
SOURCES  := $(shell find console/src console/index.html console/package-lock.json console/vite.config.ts console/openapi.json 2>/dev/null -type f)

# Without an encoding that is never spoken, of a library beneath the service: 8 MiB
# less are resident.
export GOFLAGS += -tags=nomsgpack,sqlite_fts5

.PHONY: all build demo test test-program test-packages test-raced bench bench-growth soak package container test-system lint tools prerequisites openapi pictures clean

all: build

build: console/dist/index.html
	$(GO) build -o bin/heron ./cmd/heron

# The console, built from its locked dependencies.
console/dist/index.html: $(SOURCES) console/node_modules/.package-lock.json
	cd console && $(NPM) run build

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && $(NPM) ci --no-audit --no-fund --prefer-offline --fetch-timeout=60000 --fetch-retries=5

demo: build
	./bin/heron demo $(if $(EXIT),--exit)

# What runs with the race detector: packages whose goroutines share memory, and, in soak, those of
# the service and a few tests that drive the program from outside, for which SQLite and much else
# is compiled once more. The models of core take fewer steps then: those who change them run them
# whole. The time limits are for slow machines.
RACED := -E '^deftheron/core/(bandwidth|compare|files|gate|history|listing|plan|sealed|speed|spill|store/storetest|transfer|tree|view)$$'
SMOKE := '^(TestCommands|TestPauseResumeRetry|TestTwoWayJob|TestArrivals)$$'

# What counts requests that are gathered within milliseconds runs before the others: on a machine
# that they keep busy, fewer are gathered.
APART := '^(TestRequestsAFile|TestRequestsInLargeFolder)$$'

# Installs what the tests need, and runs all but what takes long.
test: prerequisites $(CACHE)/bin/versitygw $(CACHE)/bin/nats-server build
	$(GO) test -timeout 30m -run $(APART) ./provider/declared
	$(MAKE) --no-print-directory -j 4 -O lint test-program test-packages test-raced

test-program:
	$(GO) test -timeout 30m -parallel 6 ./e2e

test-packages:
	$(GO) test -timeout 30m -p 3 -parallel 4 -skip $(APART) $$($(GO) list ./... | grep -v '^deftheron/e2e$$' | grep -v $(RACED))

test-raced:
	$(GO) test -timeout 30m -p 2 -race -short $$($(GO) list ./... | grep $(RACED))

# The packages of the commit that is checked out, in dist/.
package: build $(CACHE)/bin/nfpm
	sh packaging/package.sh

$(CACHE)/bin/nfpm: packaging/tools/go.mod packaging/tools/go.sum
	@mkdir -p $(CACHE)/bin
	@echo "Building the packager; the first time this takes about a minute."
	cd packaging/tools && $(GO) build -o $@ github.com/goreleaser/nfpm/v2/cmd/nfpm

# A container of the static program, where an engine builds it.
container: build
	sh packaging/static.sh
	engine=$$(command -v podman || command -v docker || command -v buildah) || { echo "There is no podman, docker or buildah here."; exit 1; }; \
		$$engine build -t heron -f packaging/Containerfile .

# Installs, upgrades and removes the package in roots of its own.
test-system: package
	sh packaging/test-system.sh

bench: prerequisites tools $(CACHE)/bin/versitygw build
	$(GO) test -count=1 -timeout 180m -run '^TestBench' -v ./bench -args -bench
	$(GO) test -count=1 -timeout 30m -run '^TestBench' -v ./e2e -args -bench

# How the time of a file grows with their number, for each kind of run. It takes hours; with
# places=folder,alder it measures those kinds of places alone, with runs=copy,mirror those runs, and
# with sizes=10000,1000000 trees of so many files.
bench-growth: prerequisites tools $(CACHE)/bin/versitygw build
	$(GO) test -count=1 -timeout 420m -run '^TestGrowth' -v ./bench -args -growth $(if $(places),-places $(places)) $(if $(runs),-runs $(runs)) \
		$(if $(sizes),-sizes $(sizes))

soak: prerequisites tools $(CACHE)/bin/versitygw build
	$(GO) test -count=1 -timeout 60m -run '^TestSoak' -v ./bench -args -soak
	$(GO) test -count=1 -timeout 30m -race -run $(SMOKE) ./e2e
	$(GO) test -count=1 -timeout 30m -race ./service/access ./service/annotations ./service/runner
	$(GO) test -count=1 -timeout 30m -run '^TestSealedConforms$$' ./provider -args -everywhere
	$(GO) test -count=1 -timeout 30m -run '^(TestSealedEverywhere|TestFaults|TestAnyToAny|TestHistoryFaults|TestGatewayModel|TestDriveModel)$$' ./e2e -args -everywhere
	$(GO) test -count=1 -timeout 120m -run '^(TestSiteKills|TestCrewKills|TestWorkersOnBadNetworks)$$' ./e2e -args -everywhere
	$(GO) test -count=1 -timeout 30m -race -run '^(TestModel|TestAppendSize)$$' ./core/sealed -args -sealed-lasting 15m -sealed-files 100000

# .golangci.yml says what is checked.
lint: $(CACHE)/bin/golangci-lint build
	test -z "$$(gofmt -l $$(git ls-files '*.go'))"
	$(CACHE)/bin/golangci-lint run ./...
	cd console && $(NPM) run check

tools: $(CACHE)/bin/versitygw $(CACHE)/bin/golangci-lint $(CACHE)/bin/nats-server

# The message server for tests, of the version that the service embeds.
$(CACHE)/bin/nats-server: go.mod
	@mkdir -p $(CACHE)/bin
	$(GO) build -o $@ github.com/nats-io/nats-server/v2

# The S3-compatible server for tests, from a module of its own.
$(CACHE)/bin/versitygw: tools/go.mod tools/go.sum
	@mkdir -p $(CACHE)/bin
	@echo "Building the object store for tests; the first time this takes about three minutes."
	cd tools && $(GO) build -o $@ github.com/versity/versitygw/cmd/versitygw

$(CACHE)/bin/golangci-lint: tools/go.mod tools/go.sum
	@mkdir -p $(CACHE)/bin
	@echo "Building the linter; the first time this takes about three minutes."
	cd tools && $(GO) build -o $@ github.com/golangci/golangci-lint/v2/cmd/golangci-lint

prerequisites:
	@sh tools/prerequisites.sh

# The API's document, from which the console's calls are typed.
openapi:
	$(GO) run ./service/api/document > console/openapi.json
	cd console && $(NPM) run types

clean:
	rm -rf bin console/dist/assets console/dist/index.html

# Draws docs/screenshots again, of the demo's data.
pictures: prerequisites tools build
	$(GO) test -count=1 -run TestPictures ./e2e -args -pictures
