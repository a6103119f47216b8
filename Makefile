# The two commands of the README, and what they are made of.

# Where scripts/setup unpacks PostgreSQL's programs, if they are not installed.
export YELLOWFIELD_POSTGRESQL ?= /var/cache/yellowfield-tests/postgresql

# Built without cgo, so that the program is one static file; -buildvcs puts the
# version into it.
build = CGO_ENABLED=0 go build -trimpath -buildvcs=auto -ldflags=-s -o

.PHONY: demo quick test check test-all test-fresh test-kills test-servers build package release bench bench-quick screenshots clean

demo: build
	@scripts/setup demo
	@build/yellowfield demo

# What needs no server and no setting up, in half a minute.
quick:
	@scripts/test quick

test:
	@scripts/setup test
	@scripts/test

# What has to pass besides: staticcheck, other systems, the race detector.
check:
	@scripts/setup check
	@scripts/test ci

# All that there is, for hours; docs/tested.md has the last result.
test-all:
	@scripts/setup check
	@scripts/test all
	@$(MAKE) --no-print-directory test-kills test-servers

# Both commands of the README on a bare system; needs root.
test-fresh:
	@scripts/fresh-machine

# Commands killed at every place, and KILLS times at any moment, on each product, while
# applications write; with HOURS=8 it goes on for that long, or until it finds something.
KILLS = 200
HOURS = 0
test-kills:
	@scripts/setup test
	@YELLOWFIELD_KILLS=$(KILLS) YELLOWFIELD_HOURS=$(HOURS) go test ./cmd/yellowfield -count=1 -timeout 0 -run '^(TestKilled|TestMoveKilled)$$' -v | grep -vE '^(===|\s*$$)'

# Every scene on every server, newer releases too, as a table.
test-servers:
	@scripts/setup servers
	@scripts/test-servers

build:
	@mkdir -p build
	@$(build) build/yellowfield ./cmd/yellowfield
	@go run ./internal/manual build/manual

# A Debian package, with man pages, completions and timers that are off.
package:
	@scripts/package

# Checks, builds and packs the commit at hand: make release VERSION=1.2.3.
release:
	@scripts/release "$(VERSION)"

screenshots: build
	@scripts/setup demo
	@scripts/setup screenshots
	@scripts/screenshots
	@scripts/mistakes

# SIZE is a factor on the dumps, RUNS how often each is imported by both.
SIZE = 1
RUNS = 3
DBMS = mariadb,mysql,postgresql
bench:
	@scripts/setup test
	@go run -C bench . -size $(SIZE) -runs $(RUNS) -dbms $(DBMS) -report ../docs/performance.md

# Imports of small dumps, in five minutes; it writes no report.
bench-quick:
	@scripts/setup test
	@go run -C bench . -size 0.05 -runs 1 -dbms $(DBMS) -settings usual -apps "" -exports=false

clean:
	rm -rf build
