# make demo and make test do all of their own set-up on a Debian machine with Go.

BIN     := bin/wetland
SERVERS := $(CURDIR)/.testing
export CGO_ENABLED := 0

.PHONY: build helpers release demo check test torture bench screenshots clean

build: helpers
	go build -buildvcs=auto -trimpath -o $(BIN) .

# The programs that are put on the machines of sites, compiled into Wetland.
helpers:
	scripts/build-helpers.sh

# Archives for all systems, with checksums, in bin/release. The same sources give the same bytes.
release: helpers
	scripts/release.sh bin/release

# One helper is enough here.
demo:
	scripts/build-helpers.sh $$(go env GOARCH)
	go build -buildvcs=auto -trimpath -o $(BIN) .
	$(BIN) demo

# Form, vet, and a linter (its version is in go.mod).
check:
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$unformatted" ] || { echo "gofmt: $$unformatted"; exit 1; }
	go vet ./...
	go tool staticcheck ./...

# Real servers come from Debian's packages, without any service being started;
# elsewhere the tests that need them skip, and say so. Nothing is taken from the
# cache: it does not see that e2e drives the built program.
test:
	scripts/setup-test.sh $(SERVERS)
	scripts/build-helpers.sh $$(go env GOARCH)
	WETLAND_TEST_SERVERS=$(SERVERS) go test -count=1 -parallel 4 -timeout 40m ./...

torture:
	scripts/setup-test.sh $(SERVERS)
	WETLAND_TORTURE=1 WETLAND_TEST_SERVERS=$(SERVERS) go test -timeout 6h -count=1 -v ./...
	WETLAND_TEST_OVER=ssh WETLAND_TEST_SERVERS=$(SERVERS) go test -timeout 6h -count=1 -v ./e2e

bench:
	scripts/setup-test.sh $(SERVERS)
	WETLAND_TEST_SERVERS=$(SERVERS) go test -run '^$$' -bench . -benchtime 1x -timeout 60m ./core/... ./e2e

screenshots: build
	scripts/screenshots.sh $(BIN) docs/screenshots

clean:
	rm -rf bin .testing
