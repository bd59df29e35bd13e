# make demo   builds the program and does the whole job on the sample data; needs only Go
# make test   installs what the tests need where it is missing, and runs them
# make lint   vet, formatting, staticcheck
# make bench  how long measuring takes beside decoding the same tiles
# make build  the static program in bin/

VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
export CGO_ENABLED = 0

.PHONY: build demo test lint bench

build:
	go build -trimpath -ldflags '-s -w -X main.version=$(VERSION)' -o bin/verdex ./cmd/verdex

demo: build
	./bin/verdex demo --force verdex-demo

test:
	.ci/tools
	go test ./...

lint:
	go vet ./...
	@test -z "$$(gofmt -l .)" || { echo "gofmt would change:"; gofmt -l .; exit 1; }
	go tool staticcheck ./...

bench:
	go test ./bench -run '^$$' -bench . -benchtime 9x -timeout 30m
