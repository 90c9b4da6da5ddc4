# Two targets are for newcomers: `make demo` and `make test`. Both install what
# they need from Debian's packages, Go's modules and npm.
SHELL := /bin/bash
.DEFAULT_GOAL := help
.PHONY: help demo test build bench generate lint lint-go lint-console go-test test-cli test-store test-host test-pages judge trials chaos fuzz shots clean

PACKAGES := gcc libc6-dev nftables iptables ipset iproute2 conntrack openssh-client openssh-server mariadb-server chromium prometheus
TOOLS    := gcc nft iptables-legacy-restore ipset ip conntrack ssh sshd mariadbd chromium promtool
SUDO     := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
GO_ALL   := ./api ./client ./cmd/... ./console ./core/... ./demo/... ./examples ./internal/... # not ./..., which finds Go in node_modules
# which wait more than they compute: they begin first, beside what computes
WAITING  := ./demo ./internal/testbed ./internal/chaos
# where much happens at once, and takes its time: tested apart, with -race but for the command line
APART    := /internal/(service|store|host|cli)$$
# lint vets all of it
GO_TEST  := go test -count=1 -vet=off
GO_FILES := $(shell git ls-files -co --exclude-standard '*.go' '*.sql' go.mod go.sum)
WEB      := $(shell git ls-files -co --exclude-standard console ':!console/console.go')

help: ## what can be made
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 12

demo: var/packages bin/yfence bin/yfence-sim bin/yfence-demo ## Saltmarsh Harbour with real rules, the service and its console
	@PATH=$$PATH:/usr/sbin:/sbin exec bin/yfence-demo $(DEMO)

test: var/packages lint go-test ## every test

build: bin/yfence ## the program, with the console in it

var/packages: Makefile
	@mkdir -p var
	@missing=; for t in $(TOOLS); do command -v $$t >/dev/null || PATH=$$PATH:/usr/sbin command -v $$t >/dev/null || missing="$$missing $$t"; done; \
	if [ -n "$$missing" ]; then \
		echo "installing $(PACKAGES) (missing:$$missing)"; \
		$(SUDO) apt-get update -q && DEBIAN_FRONTEND=noninteractive $(SUDO) apt-get install -qy --no-install-recommends $(PACKAGES); \
	fi
	@touch $@

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(WEB)
	cd console && npm run build

bin/yfence: console/dist/index.html $(GO_FILES)
	go build -o $@ ./cmd/yfence

bin/yfence-sim: $(GO_FILES)
	go build -o $@ ./cmd/yfence-sim

bin/yfence-demo: $(GO_FILES)
	go build -o $@ ./demo

generate: ## golden files and the console's client, from the Go types
	go test ./internal/service -run TestOpenAPI -update
	go test ./core/fence -run TestThe -update
	go test ./core/check -run TestTheDocumentation -update
	go test ./core/words -run TestTheGlossary -update
	go test ./core/record -run TestTheDocumentation -update
	go test ./core/approve -run TestTheDocumentation -update
	go test ./api -run "TestSchemas|TestTheConsolesStates|TestEventsPage|TestProblemsPage" -update
	go test ./internal/service -run "TestTheLimits|TestTheGuide|TestWhoMay" -update
	go test ./internal/cli -run TestConfigSchema -update
	cd console && npm run generate

# Go's lints need no console: they run while its packages come.
lint:
	@unformatted=$$(gofmt -l api client cmd console/*.go core demo examples internal); [ -z "$$unformatted" ] || { echo "gofmt is due: $$unformatted"; exit 1; }
	$(MAKE) --no-print-directory -j2 -O lint-go lint-console

lint-go:
	go vet $(GO_ALL)
	go tool staticcheck -checks all $(GO_ALL)

lint-console: console/node_modules/.package-lock.json
	cd console && npx tsc --noEmit && npm run lint

# The tests start MariaDB, make namespaces and run Chromium themselves. They
# need the built console, so the program is built first. What is long mostly
# waits, so more of its tests run at once than there are cores; -race would see
# little of the command line, whose tests are processes of their own.
go-test test-cli test-store test-host test-pages: export PATH := $(PATH):/usr/sbin:/sbin
go-test: console/dist/index.html
	$(GO_TEST) -p 3 -timeout 15m $(WAITING) $$(go list $(GO_ALL) | grep -vE '$(APART)')
	CGO_ENABLED=1 $(GO_TEST) -race -parallel 6 -timeout 15m -skip '^TestLimits$$|InABrowser' ./internal/service
	$(MAKE) --no-print-directory test-host
	$(MAKE) --no-print-directory -j2 -O test-cli test-store
	$(MAKE) --no-print-directory test-pages

test-cli:
	$(GO_TEST) -parallel 3 -timeout 15m ./internal/cli

test-store:
	CGO_ENABLED=1 $(GO_TEST) -race -parallel 4 -timeout 15m ./internal/store

# By themselves: a test that holds a host's lock for 10 s, since others take the machine, is taken for one that hangs.
test-host:
	CGO_ENABLED=1 $(GO_TEST) -race -parallel 4 -timeout 15m ./internal/host

# Limits are tried first, alone: -race and neighbours cost what they bound.
test-pages:
	$(GO_TEST) -parallel 6 -timeout 15m -run '^TestLimits$$|InABrowser' ./internal/service

trials: ## more random policies than every run of the tests has: make trials N=10
	TRIALS=$(or $(N),10) go test -count=1 -timeout 0 ./core/...

judge: var/packages ## the kernel and a second opinion as judges: make judge N=100000 SEED=7
	PATH=$$PATH:/usr/sbin:/sbin go test -count=1 -timeout 0 -v -run "TestKernelAgrees|TestIngressInTheKernel|TestFoundInTheKernel|TestPoliciesHoldInTheKernel|TestIptablesInTheKernel" ./internal/testbed -verdicts $(or $(N),20000) -seed $(or $(SEED),1)
	TRIALS=$$(( $(or $(N),20000) / 600 + 1 )) go test -count=1 -timeout 0 -v -run TestSecondOpinion ./core/compile
	TRIALS=$$(( $(or $(N),20000) / 2600 + 1 )) go test -count=1 -timeout 0 -run TestProofsBySecondOpinion ./core/check -samples 1000

chaos: var/packages ## everything at once while parts are killed: make chaos ROUNDS=200 SEED=7, or KILLS=200 of services
	PATH=$$PATH:/usr/sbin:/sbin go test -count=1 -timeout 0 -v ./internal/chaos -rounds $(or $(ROUNDS),50) -kills $(or $(KILLS),0) -seed $(or $(SEED),1)

bench: ## benchmarks
	go test -run '^$$' -bench . -benchmem ./core/...
	PATH=$$PATH:/usr/sbin:/sbin go test -run '^$$' -bench RulesInTheKernel -benchtime 8x ./internal/testbed
	PATH=$$PATH:/usr/sbin:/sbin go test -run '^$$' -bench Tap -benchtime 8x ./internal/host/tap
	PATH=$$PATH:/usr/sbin:/sbin go test -run '^$$' -bench 'FrontDoor|Fleet|Traffic|Console' -benchtime 3x ./internal/cli ./internal/service

fuzz: ## each fuzz test for a while: make fuzz T=1m
	@for f in $$(grep -rlE "^func Fuzz" --include=*_test.go api core internal); do d=./$$(dirname $$f); \
	for t in $$(grep -oE '^func Fuzz[A-Za-z]+' $$f | sed 's/func //'); do echo "$$d $$t"; go test $$d -run '^$$' -fuzz "^$$t\$$" -fuzzminimizetime 100x -fuzztime $(or $(T),30s) || exit 1; done; done

shots: bin/yfence ## the pictures of docs/screenshots, from the running demo
	go run ./demo/shots
	@for t in Xvfb xterm import; do command -v $$t >/dev/null || { $(SUDO) apt-get install -qy --no-install-recommends xvfb xterm imagemagick fonts-dejavu-core; break; }; done
	demo/shots/terminal.sh docs/screenshots

clean: ## what was built; the demo's data too
	rm -rf bin var console/node_modules console/dist/assets console/dist/index.html console/dist/fence.svg
