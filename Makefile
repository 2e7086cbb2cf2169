# Patient Lantern. `make demo` and `make test` set up what they need.
SHELL := /bin/bash
VERSION ?= 0.1.0
GO ?= go
LDFLAGS := -s -w -X patientlantern.example/lantern/cli.Version=$(VERSION) -X main.Version=$(VERSION)
export CGO_ENABLED := 0
ifndef STARTED
export STARTED := $(shell date +%s)
endif
# Tests and linters go by the same flag as what is shipped: what is compiled for one serves the other.
export GOFLAGS := $(GOFLAGS) -trimpath
# The console is built while Go compiles and Debian's packages are installed.
MAKEFLAGS += --jobs=3

.PHONY: shots build demo test check lint race vuln bench fuzz console types need clean lessons soak

build: bin/lantern bin/lantern-agent

GO_FILES := $(shell find . -name '*.go' -not -path './console/node_modules/*' 2>/dev/null) go.mod go.sum $(shell find store/migrations demo/policy -type f 2>/dev/null)

bin/lantern: $(GO_FILES) console/dist/index.html
	$(GO) build -ldflags '$(LDFLAGS)' -o $@ ./cmd/lantern

# What does not run while a host is surveyed, or reads few files there, is compiled for size: the agent stays below 12 MB.
SMALL = github.com/cloudflare/circl/... github.com/spf13/... github.com/go-jose/... patientlantern.example/lantern/agent \
	patientlantern.example/lantern/core/drift patientlantern.example/lantern/core/change \
	patientlantern.example/lantern/core/verdict patientlantern.example/lantern/core/trace \
	patientlantern.example/lantern/core/origin patientlantern.example/lantern/core/cause \
	patientlantern.example/lantern/core/pkgdb patientlantern.example/lantern/core/family \
	patientlantern.example/lantern/fetch patientlantern.example/lantern/cli/view \
	patientlantern.example/lantern/core/diag patientlantern.example/lantern/core/credential \
	patientlantern.example/lantern/cli/read patientlantern.example/lantern/core/text/lines \
	patientlantern.example/lantern/core/preview patientlantern.example/lantern/core/choice \
	patientlantern.example/lantern/core/upstream patientlantern.example/lantern/core/index \
	patientlantern.example/lantern/core/family/zypp patientlantern.example/lantern/core/family/flatpak github.com/ProtonMail/... \
	patientlantern.example/lantern/core/family/arch patientlantern.example/lantern/core/family/rpm crypto/tls crypto/x509 net \
	net/http net/textproto mime/... log/slog encoding/asn1 math/big vendor/golang.org/x/net/... vendor/golang.org/x/text/... \
	text/template/... image/... archive/tar os/exec os/user encoding/csv encoding/xml flag github.com/fsnotify/... \
	golang.org/x/crypto/... patientlantern.example/lantern/core/text/toml patientlantern.example/lantern/core/reason \
	patientlantern.example/lantern/core/between patientlantern.example/lantern/core/saved patientlantern.example/lantern/api \
	compress/... crypto/ecdsa crypto/ecdh crypto/elliptic crypto/internal/fips140/mlkem crypto/internal/fips140/drbg \
	crypto/internal/fips140/aes/... crypto/hpke crypto/dsa debug/... github.com/hashicorp/... \
	patientlantern.example/lantern/core/subscription patientlantern.example/lantern/core/rollout \
	patientlantern.example/lantern/core/trust patientlantern.example/lantern/core/sqlitefile \
	patientlantern.example/lantern/core/unpack regexp/... golang.org/x/text/... time os \
	patientlantern.example/lantern/core/survey fmt patientlantern.example/lantern/core/source crypto/internal/fips140/nistec/... \
	crypto/internal/fips140/sha3 crypto/internal/fips140/ecdsa crypto/internal/fips140/rsa \
	crypto/internal/fips140/edwards25519/... crypto/internal/fips140/tls12 crypto/internal/fips140/tls13 crypto/rsa \
	vendor/golang.org/x/crypto/... syscall internal/poll reflect golang.org/x/sys/... net/url encoding/pem encoding/hex context path/filepath \
	patientlantern.example/lantern/cmd/lantern-agent patientlantern.example/lantern/internal/onlyone crypto/cipher crypto/ed25519 \
	crypto/internal/fips140/mldsa crypto/internal/fips140/hkdf crypto/internal/fips140/hmac crypto/internal/fips140/ecdh \
	crypto/internal/fips140/ed25519 crypto/internal/fips140/sha512 crypto/internal/fips140/sha256 bufio io/fs encoding/json sync \
	encoding/base64 patientlantern.example/lantern/core/text/splice patientlantern.example/lantern/core/version patientlantern.example/lantern/core/keyring strings \
	github.com/pierrec/lz4/... github.com/google/renameio/... patientlantern.example/lantern/core/series golang.org/x/term strconv \
	patientlantern.example/lantern/core/text/pattern patientlantern.example/lantern/core/text/ini log/... crypto/des crypto/rc4
bin/lantern-agent: $(GO_FILES)
	$(GO) build -tags nethttpomithttp2 $(SMALL:%=-gcflags=%=-l) -ldflags '$(LDFLAGS) -funcalign=16' -o $@ ./cmd/lantern-agent # it speaks to one service

CONSOLE_FILES := $(shell find console/src console/index.html console/vite.config.ts console/tsconfig.json -type f -not -name '*.test.ts' 2>/dev/null)

console: console/dist/index.html

console/node_modules/.installed: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	touch $@

console/dist/index.html: console/node_modules/.installed $(CONSOLE_FILES)
	cd console && npm run build
	$(GO) run ./internal/packed console/dist

# The console's types follow from the OpenAPI document, and that from the Go types.
types: console/node_modules/.installed
	$(GO) run ./cmd/lantern openapi > console/openapi.json
	$(GO) run ./cmd/lantern schema survey > docs/survey.schema.json
	$(GO) run ./cmd/lantern schema policy > docs/policy.schema.json
	$(GO) run ./cmd/lantern policy codes --format markdown > docs/diagnostics.md
	$(GO) run ./internal/papers > docs/commands.md
	cd console && npm run types

demo: need build
	bin/lantern demo

test: need build
	scripts/test

# What can be checked in a minute, without root, a browser or package managers.
check: console
	scripts/check

lint: console
	scripts/lint

# What many goroutines share, under the race detector.
race: need build
	CGO_ENABLED=1 $(GO) test -race -gcflags=modernc.org/sqlite/lib=-race=false $(TESTFLAGS) ./service/... ./agent ./store

# Known vulnerabilities in what is built in. It asks https://vuln.go.dev.
vuln:
	$(GO) run golang.org/x/vuln/cmd/govulncheck@v1.1.4 ./...

bench: build
	$(GO) run ./bench

# Many hands at work on the demo at once, and whether all settles in the end.
FOR ?= 2m
SEED ?= $(shell date +%s)
soak: need build
	$(GO) run ./internal/soak -seed $(SEED) -for $(FOR)

FUZZTIME ?= 60s
fuzz:
	scripts/fuzz $(FUZZTIME)

# What the demo and the tests use of Debian's packages.
need:
	scripts/need

clean:
	rm -rf bin console/dist/assets console/dist/index.html

# The pictures of the README, from the demo.
shots: need build
	$(GO) run ./internal/shots

# What commands answer on the demo, as help pages show it.
lessons:
	LANTERN_LESSONS=write $(GO) test ./cli -run 'TestScripts/^lessons$$' -count=1
	$(MAKE) types
