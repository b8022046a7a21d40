# Two commands do everything on a fresh Debian machine with Go and Node:
#   make demo    set-up, then the service with demo data
#   make test    set-up, then every test
.PHONY: demo test setup console build generate lint bench soak screenshots clean

GO ?= go

demo: console
	@scripts/setup postgres
	@$(MAKE) --no-print-directory build
	@bin/trellis demo $(DEMO)

test: console
	@scripts/setup postgres chromium curl race
	@$(MAKE) --no-print-directory lint
	@cd web && npm run --silent test
	$(GO) test -race -parallel 4 -timeout 15m ./internal/...
	$(GO) test $(E2E) -parallel 4 -timeout 15m ./soak/... ./test/...

build:
	@echo "building the service"
	@$(GO) build -trimpath -ldflags "-X youngtrellis/internal/cli.Version=$$(git describe --always --dirty 2>/dev/null || echo unknown)" -o bin/trellis ./cmd/trellis

# The console is built again only when something of it changed.
console:
	@scripts/console

lint:
	@echo "checking the code: go vet, staticcheck, TypeScript, ESLint"
	@test -z "$$(gofmt -l api bench cmd connectors demo internal soak test web/*.go 2>/dev/null)" || (gofmt -l api bench cmd connectors demo internal soak test web/*.go; echo "run gofmt -w on these"; exit 1)
	@$(GO) vet ./...
	@$(GO) tool staticcheck ./...
	@cd web && npm run --silent check

generate:
	@cd api && $(GO) generate ./...
	@cd web && npm run --silent types
	@$(GO) generate ./internal/core/words ./internal/core/expr

bench: console
	@scripts/setup postgres chromium jq
	@$(MAKE) --no-print-directory build
	@$(GO) build -trimpath -o bin/bench ./bench
	@bin/bench $(BENCH)

soak: console
	@scripts/setup postgres
	@$(MAKE) --no-print-directory build
	@$(GO) run ./soak $(SOAK)

screenshots: console
	@scripts/setup postgres chromium
	@$(GO) run ./docs/screenshots

clean:
	rm -rf bin web/dist/assets web/dist/index.html web/node_modules
