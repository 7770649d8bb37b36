# Candid Harbor. `make demo` and `make test` install what they need on a Debian machine.
export CGO_ENABLED = 0
WEB  = internal/httpapi/web/index.html
SRC  = $(shell find console/src console/index.html console/vite.config.ts -type f 2>/dev/null)

RELEASE := $(shell git log -1 --format='%cs %h' --abbrev=8 2>/dev/null)
.PHONY: demo dev build test test-kill test-long test-attack fuzz check bench stats screenshots schema tools clean

build: $(WEB)
	go build -trimpath -ldflags "-X 'candidharbor/internal/release.stamp=$(RELEASE)'" -o bin/candid ./cmd/candid

demo: build
	bin/candid demo

# A site with one volume, and the console before it that reloads as its source changes.
dev: build
	@mkdir -p .dev/share/letters && echo dear > .dev/share/letters/first.txt
	@bin/candid serve --data .dev/site --name dev --root $(CURDIR)/.dev/share \
	    --listen 127.0.0.1:7310 --peer-listen 127.0.0.1:7311 & \
	  site=$$!; trap "kill $$site; wait $$site" EXIT INT TERM; \
	  cd console && npx vite

console/node_modules: console/package-lock.json
	@command -v npm >/dev/null || { apt-get update -qq && apt-get install -y -qq nodejs npm; }
	cd console && npm install --loglevel=error
	@touch $@

$(WEB): console/node_modules $(SRC)
	cd console && npx tsc --noEmit && npx vite build --logLevel warn
	@touch internal/httpapi/web/.keep

# Chromium for the console's tests; tar, diff, setfacl, zstd and unzip for independent
# comparisons; cadaver, Samba and its client to read snapshots as others do; NBD clients that nobody here wrote, a
# database and an SSH service, of which nothing is started: what would start the last is masked.
TOOLS = chromium setfacl zstd unzip cadaver smbclient smbd strace mkfs.ext4 nbdcopy qemu-io fio /usr/bin/nbdsh \
	psql /usr/sbin/sshd
tools: export DEBIAN_FRONTEND = noninteractive
tools:
	@for tool in $(TOOLS); do command -v $$tool >/dev/null || missing=1; done; test -z "$$missing" || \
	  { apt-get update -qq && apt-get install -y -qq chromium acl attr zstd curl unzip strace e2fsprogs && \
	    { test -e /usr/sbin/sshd || for unit in ssh.service ssh.socket; do \
	      ln -s /dev/null /etc/systemd/system/$$unit 2>/dev/null || true; done; } && \
	    apt-get install -y -qq --no-install-recommends cadaver samba samba-vfs-modules smbclient \
	      libnbd-bin python3-libnbd qemu-utils fio nbdkit openssh-server && \
	    mkdir -p /etc/postgresql-common && (set -C; echo create_main_cluster = false > \
	      /etc/postgresql-common/createcluster.conf) 2>/dev/null; \
	    apt-get install -y -qq --no-install-recommends postgresql; }

test: build tools
	cd console && npx vitest run
	go test -timeout 40m ./...
	@if command -v gcc >/dev/null; then \
	  CGO_ENABLED=1 go test -race -timeout 10m ./internal/run ./internal/limit ./internal/service && \
	  CGO_ENABLED=1 GOMAXPROCS=6 go test -race -timeout 10m -run TestSideBySide ./internal/store; fi

# Kills either site 200 times at random points.
test-kill: build
	CANDID_KILL_ROUNDS=200 go test -count=1 -timeout 60m -run TestKill -v ./e2e

# Storms, faults and flips at length, and races that the detector sees: about an hour.
test-long: build tools
	CGO_ENABLED=1 go test -race -count=1 -timeout 40m ./internal/site ./internal/transfer
	CGO_ENABLED=1 GOMAXPROCS=6 go test -race -count=20 -timeout 40m -run TestSideBySide ./internal/store
	CANDID_LONG=20 go test -count=1 -timeout 80m ./internal/store \
	  -run 'TestSideBySide|TestFlipsInEveryFile|TestFileOperationsFail|TestMediaFails|TestStoreModel'
	CANDID_MODEL_ROUNDS=200 go test -count=1 -timeout 30m -run 'TestModelOf' ./internal/site
	CANDID_MOVES=600 CANDID_MANY=50 CANDID_DRILLS=50 go test -count=1 -timeout 30m -v \
	  -run 'TestMovesOfThreeSites|TestFailoverOfMany|TestDrill|TestReadyMeans' ./internal/site
	CANDID_MOVE_ROUNDS=200 go test -count=1 -timeout 40m -run 'TestMoves$$' -v ./e2e
	CANDID_KILL_ROUNDS=200 CANDID_DISK_KILL_ROUNDS=500 CANDID_DATABASE_ROUNDS=50 \
	  go test -count=1 -timeout 60m -run 'TestKill|TestStorm|TestPowerCut|TestDiskKills|TestDatabaseOnADisk' ./e2e

# Attacks at length, and every fuzz target for half an hour.
test-attack: build tools
	CANDID_ATTACK_ROUNDS=200 go test -count=1 -timeout 60m ./e2e/attack

fuzz:
	@for pkg in $$(grep -rl '^func Fuzz' --include=*_test.go . | xargs -n1 dirname | sort -u); do \
	  for f in $$(grep -ho '^func Fuzz[A-Za-z]*' $$pkg/*_test.go | sed 's/func //'); do \
	    echo "$$pkg $$f"; \
	    go test -run '^$$' -fuzz "^$$f$$" -fuzztime $${FUZZTIME:-30m} -fuzzminimizetime 100x $$pkg || exit 1; \
	  done; done

check: build
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...
	GOOS=darwin go build -o /dev/null ./cmd/candid && GOOS=windows go build -o /dev/null ./cmd/candid  # the client alone
	go test -count=1 -run 'TestLayers|TestLint' .
	cd console && npx tsc --noEmit && npx oxlint --deny-warnings src && npx prettier --check --log-level warn src
	@go run ./internal/httpapi/openapi > bin/openapi.json && cd console && \
	  npx openapi-typescript ../bin/openapi.json -o ../bin/schema.ts >/dev/null 2>&1 && \
	  diff -q ../bin/schema.ts src/api/schema.ts || \
	  { echo "console/src/api/schema.ts is out of date: make schema"; exit 1; }

schema:
	@mkdir -p bin
	go run ./internal/httpapi/openapi > bin/openapi.json
	cd console && npx openapi-typescript ../bin/openapi.json -o src/api/schema.ts

bench: build tools
	go run ./e2e/bench
	go test -run '^$$' -bench . -benchtime 2x ./core/retention ./core/chunker ./core/preview ./core/space ./core/names
	go test -run '^$$' -bench 'Idle|Alarms|Foresee' -benchtime 3x ./internal/site
	go test -run '^$$' -bench 'InstantOfEight|ReadFromOrigin|WritesWhile|Harvest' -benchtime 20x ./internal/volume/disk

stats:
	@git ls-files '*.go' '*.ts' '*.tsx' '*.css' '*.sql' Makefile | grep -v 'schema.ts$$' | \
	  xargs awk 'NF {if (FILENAME ~ /_test\.go$$|\.test\.ts$$|^e2e\//) t++; else c++} \
	  END {printf "code %d lines, tests %d lines, tests are %.1f%% of all\n", c, t, 100*t/(c+t)}'

# Pictures of the pages, from a demo of their own.
screenshots: build tools
	@sh e2e/shots/take.sh

clean:
	rm -rf bin console/node_modules internal/httpapi/web/assets internal/httpapi/web/index.html
