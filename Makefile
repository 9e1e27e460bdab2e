# make demo and make test do all the set-up on a machine with Go, Node and make.
SHELL := /bin/bash
ARGS ?=
APT := $(if $(filter 0,$(shell id -u)),,sudo )apt-get
CONSOLE := $(shell find console/src console/public -type f) console/index.html console/vite.config.ts console/package.json

# One static binary, without a C compiler.
BUILD := CGO_ENABLED=0 go build -trimpath -ldflags '-s -w'

# The race detector needs a C compiler. SQLite is C that was translated into Go: to
# watch it takes a minute and finds nothing of ours.
ifneq ($(shell command -v $${CC:-cc}),)
RACE := -race -gcflags=modernc.org/sqlite/lib=-race=false -gcflags=modernc.org/libc=-race=false
endif

.PHONY: build arm64 demo test quick lint types bench abuse fuzz screenshots accuracy judging clean chromium sshd

build: console/dist/index.html
	$(BUILD) -o bin/nightjar ./cmd/nightjar

arm64: console/dist/index.html
	GOOS=linux GOARCH=arm64 $(BUILD) -o bin/nightjar-arm64 ./cmd/nightjar

console/node_modules/.installed: console/package-lock.json
	cd console && npm ci --ignore-scripts --no-audit --no-fund --loglevel=error
	touch $@

console/dist/index.html: console/node_modules/.installed $(CONSOLE)
	cd console && npm run --silent build -- --logLevel warn

# Functions of the console for the tests to call.
console/testing/pure.js: console/node_modules/.installed console/vite.testing.config.ts $(CONSOLE)
	cd console && npm run --silent testing -- --logLevel warn

demo: build
	./bin/nightjar demo $(ARGS)

chromium:
	@command -v chromium >/dev/null || { $(APT) update -q && $(APT) install -yq --no-install-recommends chromium; }

# Repositories over SSH are tested where an SSH server can be installed.
sshd:
	@test -x /usr/sbin/sshd || { $(APT) update -q && $(APT) install -yq --no-install-recommends git openssh-server; } || true

test: build console/testing/pure.js chromium sshd
	$(if $(RACE),,@echo "no C compiler: the tests run without the race detector")
	go test $(RACE) $$(go list ./... | grep -v -e ^nightjar/test -e ^nightjar/core/forecast -e ^nightjar/core/release/simulate)
	go test ./core/forecast ./core/release/simulate # a million requests for each formula, a thousand releases of a kind
	go test -count=1 -parallel 2 -timeout 20m ./test/... # builds the binary itself, which the test cache does not see

# For between: what is quick. The rest of the tests takes minutes.
quick: lint
	go test $$(go list ./... | grep -v -e ^nightjar/test -e ^nightjar/core/forecast -e ^nightjar/core/release/simulate)

lint: console/node_modules/.installed
	@unformatted=$$(gofmt -l . | grep -v node_modules); if [ -n "$$unformatted" ]; then echo "gofmt these: $$unformatted"; exit 1; fi
	go vet ./...
	go tool staticcheck ./...
	@go run ./api/gen | diff -q - api/openapi.json >/dev/null || { echo "api/openapi.json is out of date: make types"; exit 1; }
	@cd console && npx openapi-typescript ../api/openapi.json 2>/dev/null | diff -q - src/api/schema.d.ts >/dev/null || { echo "console/src/api/schema.d.ts is out of date: make types"; exit 1; }
	cd console && npm run --silent lint

# The API's document and the console's types, from the handlers' own types.
types: console/node_modules/.installed
	go run ./api/gen > api/openapi.json
	cd console && npm run --silent types

bench: build
	@command -v wrk >/dev/null || { $(APT) update -q && $(APT) install -yq --no-install-recommends wrk; }
	go test -run '^$$' -bench . -benchmem ./core/... ./proxy/... ./control
	go run ./test/bench $(ARGS)

# What outsiders and crashes do to a mesh of separate processes, and what the others notice.
abuse: build
	go run ./test/abuse $(ARGS)

FUZZTIME ?= 60s
fuzz:
	go test -run '^$$' -fuzz FuzzCheck -fuzztime $(FUZZTIME) -fuzzminimizetime 1s ./core/rules
	go test -run '^$$' -fuzz FuzzFormat -fuzztime $(FUZZTIME) -fuzzminimizetime 1s ./core/rules
	go test -run '^$$' -fuzz FuzzRequest -fuzztime $(FUZZTIME) -fuzzminimizetime 1s ./proxy/http1
	go test -run '^$$' -fuzz FuzzFrames -fuzztime $(FUZZTIME) -fuzzminimizetime 1s ./proxy/h2
	go test -run '^$$' -fuzz FuzzMatch -fuzztime $(FUZZTIME) -fuzzminimizetime 1s ./core/engine
	go test -run '^$$' -fuzz FuzzWay -fuzztime $(FUZZTIME) -fuzzminimizetime 1s ./proxy/forward

screenshots: build chromium
	@for p in Xvfb xterm import; do command -v $$p >/dev/null || { $(APT) update -q && $(APT) install -yq --no-install-recommends xvfb xterm imagemagick x11-apps fonts-dejavu-core; break; }; done
	go run ./test/screenshots $(ARGS)

clean:
	rm -rf bin console/testing console/node_modules console/dist/assets console/dist/index.html

# A thousand simulated releases of each kind: the table of docs/releases.md.
judging:
	go run ./test/judging $(ARGS)

# Holds forecasts against trials of the sample mesh: docs/forecast-accuracy.md.
accuracy: build
	go run ./test/accuracy $(ARGS)
