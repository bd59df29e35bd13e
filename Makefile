# make demo     builds the program and does the whole job on the sample data; needs only Go
# make test     installs what the tests need where it is missing, and runs them
# make lint     vet, formatting, staticcheck
# make opinion  random small jobs, each done by the program and by plain code, for five minutes; FOR=1h takes an hour, FOR=2000 does so many
# make bench    how long measuring takes beside decoding the same tiles, and the aims of docs/speed.md
# make release  archives for each system, .deb, .rpm and a container image in dist/, the same bytes from the same commit
# make build    the static program in bin/

VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
FOR ?= 5m
export CGO_ENABLED = 0

# Products and sums are kept apart on processors that could fuse them, so that results have the same digits on all.
APART = $(if $(filter-out amd64,$(shell go env GOARCH)),-gcflags=all=-d=fmahash=n)

.PHONY: build demo test lint opinion bench release

build:
	go build -trimpath $(APART) -ldflags '-s -w -X main.version=$(VERSION)' -o bin/verdex ./cmd/verdex

demo: build
	./bin/verdex demo --force verdex-demo

test:
	.ci/tools
	go test -timeout 40m ./...
	GODEBUG=cpu.avx2=off go test ./core/tally ./core/raster/geotiff/unpack
	CGO_ENABLED=1 go test -race -timeout 10m ./core/job

lint:
	go vet ./...
	@test -z "$$(gofmt -l .)" || { echo "gofmt would change:"; gofmt -l .; exit 1; }
	go tool staticcheck ./...

opinion:
	VERDEX_SECOND_OPINION=$(FOR) go test ./internal/reference -run TestSecondOpinion -count 1 -v -timeout 0

# Without libdeflate, the floor of the aims is the standard library's inflate.
bench:
	.ci/tools
	@[ -f /usr/include/libdeflate.h ] || apt-get install -y -q libdeflate-dev >/dev/null 2>&1 || echo "libdeflate cannot be installed here"
	go test ./bench -run '^$$' -bench . -benchtime 9x -timeout 60m

release:
	go run ./internal/release -out dist
