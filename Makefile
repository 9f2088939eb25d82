# Everything one does with this project. Each target works alone on a fresh
# machine with Go and make.

export CGO_ENABLED := 0
GO ?= go
bin := bin/erbario
sources := $(shell find cmd internal examples -type f -not -name '*_test.go') go.mod go.sum

.PHONY: build demo test race lint bench nightly screenshots clean

build: $(bin)

$(bin): $(sources)
	$(GO) build -trimpath -o $@ ./cmd/erbario

# The whole cycle on the example project, in a folder that is made anew.
demo: build
	rm -rf bin/herbarium
	$(bin) demo bin/herbarium

test: race
	$(GO) test ./...

# Where threads meet: the runner under several writers.
race:
	CGO_ENABLED=1 $(GO) test -race ./internal/runner/... ./internal/lang/...

lint:
	@test -z "$$(gofmt -l cmd internal examples)" || { echo "gofmt would change:"; gofmt -l cmd internal examples; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

bench: build
	$(GO) run ./internal/bench $(bin)

# Long campaigns: many more cases of the properties, and the fuzzers.
nightly:
	ERBARIO_PAIRS=20000 $(GO) test ./internal/suite -run TestPairs -timeout 12h
	$(GO) test ./internal/lang -run XXX -fuzz FuzzParse -fuzztime 30m
	$(GO) test ./internal/lang -run XXX -fuzz FuzzFormat -fuzztime 30m

screenshots: build
	./docs/screenshots/make $(bin)

clean:
	rm -rf bin
