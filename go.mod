module github.com/verdex-land/verdex

go 1.26.0

require (
	github.com/go-json-experiment/json v1.27.2
	github.com/goccy/go-yaml v1.19.2
	github.com/klauspost/compress v1.20.3
	github.com/mattn/go-runewidth v0.0.30
	github.com/peterstace/simplefeatures v0.50.0
	github.com/rogpeppe/go-internal v1.16.0
	github.com/stretchr/testify v1.12.1
	github.com/urfave/cli/v3 v3.14.0
	github.com/vbauerster/mpb/v8 v8.16.2
	golang.org/x/image v0.47.0
	golang.org/x/sys v0.49.0
	golang.org/x/term v0.47.0
)

require (
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/VividCortex/ewma v1.2.0 // indirect
	github.com/acarl005/stripansi v0.0.0-20180116102854-5a71ef0e047d // indirect
	github.com/clipperhouse/uax29/v2 v2.7.0 // indirect
	github.com/vbauerster/cupwriter v0.0.5 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.41.0 // indirect
	golang.org/x/sync v0.23.0 // indirect
	golang.org/x/tools v0.51.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
