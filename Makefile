# Mill Gate. `make demo` builds everything and serves it; `make test` runs all tests.
GO      ?= go
BIN     := bin/millgate
WEBSRC  := $(shell find web/src web/index.html web/package.json web/package-lock.json web/vite.config.ts -type f 2>/dev/null)
GOSRC   := $(shell find . -name '*.go' -not -path './web/*')

.PHONY: build demo test check bench browser-cases screenshots stats generate format clean chromium soak race release

build: $(BIN)

$(BIN): $(GOSRC) go.mod go.sum server/dist/index.html $(wildcard examples/fernhollow/*)
	$(GO) build -trimpath -o $(BIN) ./cmd/millgate

web/node_modules/.installed: web/package-lock.json
	cd web && npm ci --no-audit --no-fund
	touch $@

server/dist/index.html: web/node_modules/.installed $(WEBSRC)
	cd web && npm run --silent build

demo: build
	$(BIN) demo $(DEMO)

api/tools/node_modules/.installed: api/tools/package-lock.json
	cd api/tools && npm ci --no-audit --no-fund
	touch $@

# The contract's types: Go by oapi-codegen, TypeScript by openapi-typescript.
generate: api/tools/node_modules/.installed
	$(GO) tool oapi-codegen -config api/oapi-codegen.yaml api/openapi.yaml
	cd api/tools && npx --no-install openapi-typescript ../openapi.yaml -o ../../web/src/api/contract.gen.ts >/dev/null

format:
	gofmt -w $(shell $(GO) list -f '{{.Dir}}' ./... )
	cd web && npx --no-install prettier --write --log-level warn src

# Formatting, vet, staticcheck, our own lint, types, and that generated code is current.
check: web/node_modules/.installed api/tools/node_modules/.installed server/dist/index.html
	@out="$$(gofmt -l $$($(GO) list -f '{{.Dir}}' ./...))"; if [ -n "$$out" ]; then echo "not formatted:"; echo "$$out"; exit 1; fi
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	cd scripts/lint && $(GO) build -o ../../bin/lint .
	bin/lint ./...
	cd web && npm run --silent typecheck && npm run --silent lint
	@sh scripts/generated.sh

chromium:
	@sh scripts/chromium.sh

test: web/node_modules/.installed server/dist/index.html chromium
	@GO="$(GO)" sh scripts/test.sh

# What runs beside something else, with the race detector, without what takes long.
race:
	$(GO) test -race -short -count 1 -timeout 10m ./wire ./store ./core/check/... ./app/...

# What is long, in parts: make soak PART=mutation, fuzz, race, limiters, liars or detection.
soak: server/dist/index.html chromium
	@GO="$(GO)" PART="$(PART)" bash scripts/soak.sh

bench: server/dist/index.html chromium
	$(GO) test -run '^$$' -bench . -benchmem ./core/... ./app/...
	$(GO) test -run '^$$' -bench . -benchtime 5x ./e2e

# What Chromium makes of all exchanges between pages and services, recorded with its version.
browser-cases: server/dist/index.html chromium
	MILLGATE_BROWSER_CASES=write $(GO) test ./e2e -run '^TestTheBrowserAgrees$$' -count 1 -timeout 10m -v

screenshots: build chromium
	MILLGATE_SCREENSHOTS=1 $(GO) test ./e2e -run TestScreenshots -count 1 -v

# Archives of the program for linux on amd64 and arm64 with their checksums, in release/.
release: server/dist/index.html
	@GO="$(GO)" VERSION="$(VERSION)" sh scripts/release.sh

stats:
	@sh scripts/stats.sh

clean:
	rm -rf bin release server/dist/assets server/dist/index.html web/node_modules api/tools/node_modules
