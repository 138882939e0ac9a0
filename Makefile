# Two commands do everything: `make demo` and `make test`. The rest is for those who change something; `make help` lists it.
GO      ?= go
BUILD   := build
BIN     := $(BUILD)/hylostat
TOOLS   := $(abspath $(BUILD)/tools)
STATIC  := CGO_ENABLED=0 $(GO) build -trimpath -ldflags "-s -w"
NPM     := npm --prefix console --loglevel=error
SOURCES := $(shell find cmd internal -name '*.go' -o -name '*.yaml' -o -name '*.sql' | grep -v '/web/dist/')
PAGES   := $(shell find console/src -type f -not -path '*/testing/*' -not -name '*.test.*' 2>/dev/null) console/index.html console/vite.config.ts console/package-lock.json
CONSOLE := internal/api/web/dist/index.html
MUTATE  := $(BUILD)/mutate/console
N       ?= 40
SEED    ?= $(shell date +%s)
SHARED  := ../shared/tools/own-words
DEMO    ?=

export GOFLAGS := -buildvcs=false

.PHONY: help build demo test test-go test-console test-browser check generate package portable checkers vm-test bench judge watch fuzz mutate screenshots tools chromium referees clean

help: ## what there is to make
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

build: $(BIN) ## the program with its console, build/hylostat

$(BIN): $(CONSOLE) $(SOURCES) go.mod go.sum
	@mkdir -p $(BUILD)
	$(STATIC) -o $@ ./cmd/hylostat

console/node_modules/.ready: console/package-lock.json
	$(NPM) ci --no-audit --no-fund
	@touch $@

$(CONSOLE): console/node_modules/.ready $(PAGES)
	$(NPM) run build
	@touch $@

demo: build ## the made-up shop; prints its address, Ctrl-C ends it
	$(BIN) demo $(DEMO)

test: test-go test-console test-browser ## everything but the virtual machine

test-go: build checkers referees
	$(GO) test ./cmd/... ./internal/... ./test/service/... ./test/process/... ./test/crash/... ./test/attack/...

test-console: console/node_modules/.ready
	$(NPM) test

test-browser: build chromium
	$(GO) test -count=1 ./test/browser/...

checkers:
	@PATH=$$PATH:/sbin:/usr/sbin && command -v mkfs.ext4 >/dev/null && command -v zsh >/dev/null && command -v fish >/dev/null || { \
	  echo "installing Debian's e2fsprogs, zsh and fish"; \
	  root=; [ "$$(id -u)" = 0 ] || root=sudo; \
	  $$root apt-get update -qq && DEBIAN_FRONTEND=noninteractive $$root apt-get install -y -qq --no-install-recommends e2fsprogs zsh fish >/dev/null; }

referees: ## the servers that what goes to others is tried against
	@sh test/referees.sh

chromium:
	@command -v chromium >/dev/null || command -v chromium-browser >/dev/null || { echo "installing Debian's chromium"; \
	  root=; [ "$$(id -u)" = 0 ] || root=sudo; \
	  $$root apt-get update -qq && DEBIAN_FRONTEND=noninteractive $$root apt-get install -y -qq --no-install-recommends chromium >/dev/null; }

tools: $(TOOLS)/.ready
$(TOOLS)/.ready: tools/go.mod tools/go.sum
	@mkdir -p $(TOOLS)
	cd tools && GOBIN=$(TOOLS) $(GO) install tool
	@touch $@

generate: tools console/node_modules/.ready ## models, server, client and types from the contract, docs/signals.md from the registry, the schema of watch files
	$(TOOLS)/oapi-codegen -config internal/contract/models.yaml internal/contract/openapi.yaml
	$(TOOLS)/oapi-codegen -config internal/contract/server.yaml internal/contract/openapi.yaml
	$(TOOLS)/oapi-codegen -config internal/contract/client.yaml internal/contract/openapi.yaml
	$(NPM) run types
	$(GO) run ./internal/core/signal/signaldoc > docs/signals.md
	$(GO) run ./internal/watchfile/schemadoc > docs/reference/watch.schema.json

check: tools build console/node_modules/.ready ## format, lint with the arrows of the house, types, generated code, words
	@test -z "$$($(TOOLS)/gofumpt -l cmd internal test)" || { echo "not formatted:"; $(TOOLS)/gofumpt -l cmd internal test; exit 1; }
	$(GO) vet ./... && $(GO) vet -tags vm ./test/vm/...
	$(TOOLS)/golangci-lint run --timeout 10m ./...
	$(NPM) run check
	@$(MAKE) --no-print-directory generate >/dev/null
	@git diff --exit-code --stat -- '*.gen.go' '*.gen.ts' docs/signals.md docs/reference/watch.schema.json || { echo "what is generated differs: commit what make generate made"; exit 1; }
	@if [ -x $(SHARED) ]; then $(SHARED) .; fi

PACKAGE := $(BUILD)/package
VERSION := $(shell sed -n 's/^const Version = "\(.*\)"/\1/p' internal/app/app.go)
DATED   := $(shell git log -1 --format=%ct 2>/dev/null || echo 0)

package: build ## what is installed, for amd64 and arm64: Debian packages, tarballs, bills of materials, sums, in build/package
	@rm -rf $(PACKAGE) && mkdir -p $(PACKAGE)
	cd packaging && $(GO) build -o ../$(BUILD)/packaging .
	GOARCH=arm64 $(STATIC) -o $(BUILD)/arm64/hylostat ./cmd/hylostat
	$(BUILD)/packaging -root . -out $(PACKAGE) -version $(VERSION) -at $(DATED) -runs $(BIN) -arch amd64 -program $(BIN)
	$(BUILD)/packaging -root . -out $(PACKAGE) -version $(VERSION) -at $(DATED) -runs $(BIN) -arch arm64 -program $(BUILD)/arm64/hylostat
	$(BUILD)/packaging -root . -out $(PACKAGE) -sums

portable: build ## the program for other machines: built for Windows and macOS, and run for arm64
	GO="$(GO)" sh test/portable.sh

vm-test: package ## the same program on a real kernel in QEMU
	@mkdir -p $(BUILD)/vm
	$(STATIC) -o $(BUILD)/vm/hylostat-conform ./test/vm/conform
	sh test/vm/prepare.sh
	$(GO) test -tags vm -count=1 -timeout 40m -v ./test/vm

bench: build chromium ## the figures of build/bench.json, in two hours; PARTS="page told" measures only those
	$(GO) run ./test/bench $(PARTS)

judge: ## 5,000 made-up lives: how the default policy does beside three simple ways to judge
	$(GO) run ./test/judge

watch: ## 10,000 drive-years under watch: how much the default policy tells, of which drives
	$(GO) run ./test/judge -watch 96h -lives 4200

FUZZTIME ?= 5m
fuzz: ## every decoder, FUZZTIME each
	GO="$(GO)" sh test/fuzz.sh $(FUZZTIME)

mutate: build ## N random changes in AREA that tests should notice: AREA=./internal/core/surface (ONLY=sweep.go), or AREA=console with FILES=src/data/live.ts
	@test -n "$(AREA)" || { echo "no area given, as in: make mutate AREA=./internal/core/surface N=40"; exit 2; }
ifneq (,$(filter console%,$(AREA)))
	@rm -rf $(MUTATE) && mkdir -p $(MUTATE) && ln -sfn $(abspath internal) $(BUILD)/mutate/internal
	@cp -r console/src console/*.json console/*.ts console/index.html $(MUTATE)/
	@npm --prefix $(MUTATE) --loglevel=error install --no-audit --no-fund --no-save $$(cat test/mutate/stryker.version)
	cd $(MUTATE) && npx stryker run $(abspath test/mutate/stryker.json) $(if $(FILES),-m "$(FILES)")
else
	$(GO) run ./test/mutate -n $(N) -seed $(SEED) -only "$(ONLY)" $(AREA)
endif

screenshots: build chromium ## docs/screenshots from the demo's data
	sh test/shots/take.sh

clean: ## what was built here
	rm -rf $(BUILD) console/node_modules internal/api/web/dist/assets internal/api/web/dist/index.html
