# Everything one does with this project. Each target works alone on a fresh
# machine with Go and make.

export CGO_ENABLED := 0
GO ?= go
bin := bin/erbario
# The commit and its day are for --version; without git they are left out.
flags := -s -w -X erbario/internal/cli.Commit=$(shell git rev-parse --short=8 HEAD 2>/dev/null) -X erbario/internal/cli.Date=$(shell git log -1 --format=%cs 2>/dev/null)
sources := $(shell find cmd internal examples -type f -not -name '*_test.go') go.mod go.sum

.PHONY: build demo test race lint bench nightly screenshots clean

build: $(bin)

$(bin): $(sources)
	$(GO) build -trimpath -ldflags "$(flags)" -o $@ ./cmd/erbario

# The whole cycle on the example project, in a folder that is made anew.
demo: build
	rm -rf bin/herbarium
	$(bin) demo bin/herbarium

test: tools race
	$(GO) test -timeout 30m ./...

# What the tests and figures use beside Go: SQLite's own client, PostgreSQL's server,
# client and pooler, MariaDB's server and client, a C compiler for the race detector, the compilers of the
# languages in which types are written, and Graphviz. As root on Debian they are installed where missing.
.PHONY: tools
tools: tools/node/node_modules/.installed
	@set -e; for need in python3:python3 mypy:mypy php:php-cli javac:default-jdk-headless rustc:rustc dot:graphviz; do \
		command -v $${need%:*} >/dev/null || $(call install,$${need#*:}); \
	done; php -m | grep -q pdo_sqlite || $(call install,php-sqlite3)
	@for need in sqlite3 gcc; do \
		command -v $$need >/dev/null && continue; \
		[ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null || { echo "install $$need first"; exit 1; }; \
		apt-get update -qq && apt-get install -y -qq $$need libc6-dev >/dev/null; \
	done
	@[ -n "$$ERBARIO_TEST_POSTGRES" ] || command -v initdb >/dev/null || ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || { \
		[ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null || { echo "install PostgreSQL first, or set ERBARIO_TEST_POSTGRES to the URL of a server whose user may create databases"; exit 1; }; \
		apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq postgresql >/dev/null; \
	}
	@[ -n "$$ERBARIO_TEST_MARIADB" ] || command -v mariadbd >/dev/null || [ -x /usr/sbin/mariadbd ] || { \
		[ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null || { echo "install MariaDB first, or set ERBARIO_TEST_MARIADB to the URL of a server whose user may create databases"; exit 1; }; \
		apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq mariadb-server >/dev/null; \
	}
	@command -v pgbouncer >/dev/null || [ -x /usr/sbin/pgbouncer ] || { \
		[ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null || { echo "install pgbouncer first"; exit 1; }; \
		apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq pgbouncer >/dev/null; \
	}

# Packages of npm, for tests alone.
tools/%/node_modules/.installed: tools/%/package.json
	@command -v npm >/dev/null || $(call install,nodejs npm)
	@npm --prefix tools/$* install --no-package-lock --no-audit --no-fund --loglevel error >/dev/null && touch $@

# install PACKAGES: of Debian, as root.
install = { [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null || { echo "install $(1) first"; exit 1; }; \
	apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq $(1) >/dev/null; }

# Where threads meet: the runner under several writers, reading models and a
# database at once, and making rows while others are loaded.
race: tools
	CGO_ENABLED=1 $(GO) test -race ./internal/runner/... -run 'SeveralAtOnce|Cancelled'
	CGO_ENABLED=1 $(GO) test -race ./internal/engine/mariadb -run 'Stopped|Waits|Lease|Kept'
	CGO_ENABLED=1 $(GO) test -race ./internal/editor -run 'Diagnostics|Rename|Settings|WithoutURL|Rows'
	CGO_ENABLED=1 $(GO) test -race ./internal/cli -run 'TestScripts/(cycle|status|redraft|seeds)'

lint:
	@test -z "$$(gofmt -l cmd internal examples)" || { echo "gofmt would change:"; gofmt -l cmd internal examples; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	$(GO) run ./internal/house

bench: build tools
	$(GO) run ./internal/bench $(bin)

# The extension for Visual Studio Code, with its client in it: editors/vscode/dist/erbario.vsix.
.PHONY: vscode
vscode: tools/vscode/node_modules/.installed
	mkdir -p editors/vscode/dist
	cp editors/erbario.tmLanguage.json editors/vscode/dist/
	cd editors/vscode && NODE_PATH=../../tools/vscode/node_modules ../../tools/vscode/node_modules/.bin/esbuild extension.js \
		--bundle --platform=node --target=node18 --external:vscode --minify --log-level=warning --outfile=dist/extension.js
	cd editors/vscode && ../../tools/vscode/node_modules/.bin/vsce package --no-dependencies --allow-missing-repository \
		--out dist/erbario.vsix >/dev/null

# What is too heavy for every run: types in Kotlin and C#, by their compilers; pages in a browser; the
# language server in Neovim, and in the extension for Visual Studio Code.
.PHONY: matrix
matrix: build tools vscode tools/browser/node_modules/.installed
	@set -e; for need in kotlinc:kotlin mcs:mono-mcs chromium:chromium nvim:neovim; do \
		command -v $${need%:*} >/dev/null || $(call install,$${need#*:}); \
	done
	ERBARIO_COMPILERS=1 $(GO) test ./internal/apptypes -run TestCompiled
	ERBARIO_BROWSER=1 $(GO) test ./internal/diagram ./internal/editor -run 'TestBrowser|TestColours|TestKeys'
	node editors/vscode/testdata/stub.cjs editors/vscode/dist/extension.js $(bin) editors/vscode/testdata/p/models/sheet.erbario
	ERBARIO_NEOVIM=1 $(GO) test ./internal/editor -run TestNeovim

# Long campaigns: many more cases of the properties, and the fuzzers.
nightly:
	ERBARIO_TEST_ENGINES=sqlite ERBARIO_PAIRS=20000 $(GO) test ./internal/suite -run TestPairs -timeout 12h
	ERBARIO_TEST_ENGINES=postgres ERBARIO_PAIRS=3000 $(GO) test ./internal/suite -run TestPairs -timeout 12h
	ERBARIO_TEST_ENGINES=sqlite ERBARIO_SEEDS=50000 $(GO) test ./internal/suite -run TestSeeds -timeout 12h
	ERBARIO_TEST_ENGINES=postgres ERBARIO_SEEDS=3000 $(GO) test ./internal/suite -run TestSeeds -timeout 12h
	ERBARIO_TEST_ENGINES=mariadb ERBARIO_PAIRS=1500 $(GO) test ./internal/suite -run TestPairs -timeout 12h
	ERBARIO_TEST_ENGINES=mariadb ERBARIO_SEEDS=1000 $(GO) test ./internal/suite -run TestSeeds -timeout 12h
	ERBARIO_TEST_ENGINES=mariadb ERBARIO_ROWS=1000 $(GO) test ./internal/suite -run TestReferenceRows -timeout 12h
	ERBARIO_TEST_ENGINES=mariadb ERBARIO_STOPS=5000 $(GO) test ./internal/suite -run TestStopped -timeout 12h
	ERBARIO_WHOLE=1 $(GO) test ./internal/cli -run 'TestChanges|TestEvolutions|TestQuestions' -timeout 12h
	ERBARIO_BESIDE=1000 $(GO) test ./internal/suite -run TestBeside -timeout 12h
	ERBARIO_REDRAFTS=1000 $(GO) test ./internal/suite -run TestRedrafts -timeout 12h
	ERBARIO_EDITS=100000 $(GO) test ./internal/editor -run TestSoak -timeout 12h
	ERBARIO_ADOPTIONS=10000 ERBARIO_TEST_ENGINES=sqlite $(GO) test ./internal/suite -run TestAdoptRandom -timeout 12h
	ERBARIO_ADOPTIONS=3000 ERBARIO_TEST_ENGINES=mariadb $(GO) test ./internal/suite -run TestAdoptRandom -timeout 12h
	ERBARIO_ADOPTIONS=3000 ERBARIO_TEST_ENGINES=postgres $(GO) test ./internal/suite -run TestAdoptRandom -timeout 12h
	ERBARIO_DRIFTS=3000 ERBARIO_TEST_ENGINES=sqlite $(GO) test ./internal/suite -run TestDrift -timeout 12h
	ERBARIO_DRIFTS=600 ERBARIO_TEST_ENGINES=mariadb $(GO) test ./internal/suite -run TestDrift -timeout 12h
	ERBARIO_DRIFTS=600 ERBARIO_TEST_ENGINES=postgres $(GO) test ./internal/suite -run TestDrift -timeout 12h
	ERBARIO_OBJECTS=5000 ERBARIO_TEST_ENGINES=sqlite $(GO) test ./internal/suite -run TestObjects -timeout 12h
	ERBARIO_OBJECTS=1000 ERBARIO_TEST_ENGINES=mariadb $(GO) test ./internal/suite -run TestObjects -timeout 12h
	ERBARIO_OBJECTS=1000 ERBARIO_TEST_ENGINES=postgres $(GO) test ./internal/suite -run TestObjects -timeout 12h
	ERBARIO_NAMES=2000 $(GO) test ./internal/suite -run TestNames -timeout 12h
	ERBARIO_PLANTED=1 $(GO) test ./internal/suite -run TestPlanted -timeout 12h
	ERBARIO_UNREACHED=2000 $(GO) test ./internal/suite -run TestUnreached -timeout 12h
	ERBARIO_STAGED=2000 $(GO) test ./internal/suite -run TestStagedPairs -timeout 12h
	ERBARIO_KILLS=1000 $(GO) test ./internal/runner -run 'Server|Twenty' -timeout 12h
	ERBARIO_TEST_ENGINES=sqlite ERBARIO_ROWS=5000 $(GO) test ./internal/suite -run TestReferenceRows -timeout 12h
	ERBARIO_TEST_ENGINES=postgres ERBARIO_ROWS=2000 $(GO) test ./internal/suite -run TestReferenceRows -timeout 12h
	ERBARIO_WALKS=50 ERBARIO_STEPS=500 $(GO) test ./internal/cli -run TestWalks -timeout 12h
	$(GO) test ./internal/deleted -rapid.checks=50000 -timeout 12h
	$(GO) test ./internal/lang -run XXX -fuzz FuzzParse -fuzzminimizetime 20x -fuzztime 30m
	$(GO) test ./internal/lang -run XXX -fuzz FuzzFormat -fuzzminimizetime 20x -fuzztime 30m
	$(GO) test ./internal/engine/sqlite -run XXX -fuzz FuzzTable -fuzzminimizetime 20x -fuzztime 30m

screenshots: build
	./docs/screenshots/make $(bin)

clean:
	rm -rf bin
