# Everything that is needed beyond Go, Node and make is fetched by the targets themselves.

VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo development)
GOFILES := $(shell find . -name '*.go' -not -path './console/node_modules/*') go.mod go.sum
CONSOLE := $(shell find console -type f -not -path '*/node_modules/*' -not -path 'console/dist/*')
DESK    := $(shell find demo/desk -type f -not -path 'demo/desk/dist/*') service/face/pages/scripts/client.d.ts
ASSETS  := $(shell find service store demo -type f -not -name '*.go' -not -path 'demo/desk/*')

.PHONY: build demo test race faults bench fuzz mutate docs screenshots release clean

build: bin/ostiarius

bin/ostiarius: $(GOFILES) $(ASSETS) console/dist/index.html demo/desk/dist/index.html
	go build -ldflags "-X ostiarius/cli.Version=$(VERSION)" -o $@ ./cmd/ostiarius

console/node_modules/.installed: console/package.json console/package-lock.json
	cd console && npm install --no-audit --no-fund --loglevel=error
	touch $@

# What the console knows of the API is made of its description, and that of the operations that package client declares.
console/src/schema.ts: service/face/api/openapi.yaml console/node_modules/.installed
	cd console && npm run --silent schema

.PHONY: description
description:
	go test ./client/describe -run Description -update

console/dist/index.html: $(CONSOLE) console/src/schema.ts console/node_modules/.installed
	cd console && npm run --silent build -- --logLevel warn

# The application of the demo, with the packages of the console.
demo/desk/dist/index.html: $(DESK) console/node_modules/.installed
	ln -sfn ../../console/node_modules demo/desk/node_modules
	rm -rf demo/desk/dist/assets
	cd demo/desk && node_modules/.bin/tsc --noEmit && node_modules/.bin/vite build --logLevel error

# The address and directory can be changed: make demo DEMO="--listen localhost:9000"
demo: bin/ostiarius
	bin/ostiarius demo $(DEMO)

# What the tests run beside our own programs, each with its package: a browser; clients and a writer of htpasswd files; web servers, behind, in
# front and beside; a mail server, which runs only within them; a checker of units. The race detector wants a C compiler, too.
NEEDS = /usr/bin/chromium-headless-shell=chromium-headless-shell /usr/bin/htpasswd=apache2-utils /usr/bin/curl=curl \
	/usr/bin/wget=wget /usr/bin/aria2c=aria2 /usr/bin/git=git /usr/bin/hypercorn=python3-hypercorn /usr/sbin/nginx=nginx-light \
	/usr/sbin/lighttpd=lighttpd /usr/bin/php=php-cli /usr/bin/caddy=caddy /usr/sbin/haproxy=haproxy /usr/sbin/apache2=apache2 \
	/usr/lib/python3/dist-packages/cryptography=python3-cryptography \
	/usr/sbin/smtpd=opensmtpd /usr/bin/systemd-analyze=systemd /usr/bin/script=bsdutils $(MORE)
INSTALL := DEBIAN_FRONTEND=noninteractive apt-get install -y -qq
.PHONY: needs
needs:
	@missing=$$(for need in $(NEEDS); do [ -e "$${need%=*}" ] || echo "$${need#*=}"; done); \
	[ -z "$$missing" ] || { apt-get update -qq && $(INSTALL) $$missing >/dev/null; }

# The race detector makes everything slower, by up to ten times. The long sums of core know no concurrency; it watches them where the
# service uses them. The end-to-end tests are clients of a service that runs by itself; make race watches that.
UNWATCHED := e2e e2e/faults core/connect core/document core/htpasswd core/openid core/pass core/place core/policy core/policy/edit \
	core/policy/read core/prove core/purchase core/replay core/site
# What takes longest begins first. SQLite is a translation of the C program, in which the race detector would watch each access to memory. All
# around it is watched. (No package can be left out that has instances of generic types in common with others: they would be those of all.)
# A program under the detector waits a second before it ends, for races of what still runs then; a fiftieth of that does.
WATCHED := -race -gcflags=modernc.org/sqlite/lib="-race=false -d=checkptr=0" -gcflags=modernc.org/libc=-d=checkptr=0
ATEXIT := atexit_sleep_ms=20
test: bin/ostiarius needs
	gofmt -l $(filter %.go,$(GOFILES)) | (! grep .)
	go vet ./...
	go tool staticcheck ./...
	cd console && npm run --silent lint
	go test -vet=off -shuffle=on -timeout 25m -parallel 4 $(UNWATCHED:%=./%)
	GORACE=$(ATEXIT) go test -vet=off $(WATCHED) -shuffle=on -timeout 20m -parallel 4 $(filter-out $(UNWATCHED:%=ostiarius/%),$(shell go list ./...))

# The real service under the race detector, without a browser. It is slower than the tests expect; so what
# fails without a race is tried once more.
RACE = GORACE="halt_on_error=1 $(ATEXIT) log_path=$(CURDIR)/bin/race" E2E_BINARY=$(CURDIR)/bin/ostiarius-race go test -vet=off -count=1 -timeout 20m -parallel 8 ./e2e
race: bin/ostiarius needs
	go build $(WATCHED) -o bin/ostiarius-race ./cmd/ostiarius
	rm -f bin/race.*
	$(RACE) || { ! ls bin/race.* 2>/dev/null && $(RACE); }
	! cat bin/race.* 2>/dev/null | grep .

# Ten minutes in which one thing after the other goes wrong. See docs/reliability.md.
faults: bin/ostiarius
	FAULTS=10m go test -count=1 -timeout 20m -v -run TestWhateverGoesWrong ./e2e/faults

bench: MORE := /usr/bin/wrk=wrk
bench: bin/ostiarius needs
	go test -run '^$$' -bench . -benchmem ./core/... ./service/... ./embed ./patrol

fuzz: bin/ostiarius needs
	ORACLE=long go test -count=1 ./core/policy/... ./core/prove ./service/rule/inforce
	ORACLE=long go test -count=1 -run TestRoutesAreRefreshed ./e2e
	for target in core/account:FuzzSplitEmail core/account:FuzzKey core/exact:FuzzUnmarshal core/event:FuzzRead \
		core/signature:FuzzCheck core/message:FuzzLetter core/message:FuzzRecipients core/pass:FuzzReadList \
		core/pass:FuzzReadSpans core/place:FuzzCanonical core/place:FuzzRelate core/policy/read:FuzzParse core/policy/edit:FuzzEdit \
		core/policy:FuzzParseVisitor core/policy/read:FuzzParseExpectations core/prove:FuzzCompare core/prove:FuzzCheck \
		service/rule/source:FuzzServedIsJudged service/rule/source:FuzzHandOn service/rule/source:FuzzAddress service/base/guard:FuzzForwarded \
		core/connect:FuzzParseContent core/fields:FuzzKindOf core/passkey:FuzzRegister core/passkey:FuzzAssert \
		core/openid:FuzzIDToken cli:FuzzSafe core/basic:FuzzRead core/htpasswd:FuzzRead core/roster:FuzzRead \
		core/site:FuzzReadLogLine service:FuzzReadHead service:FuzzQuestion service/face/pages:FuzzFieldsOf service/face/pages:FuzzAsked \
		core/fastcgi:FuzzRead core/replay:FuzzRead patrol:FuzzDocument; do \
		go test -run '^$$' -fuzz "$${target#*:}\$$" -fuzztime 30s -fuzzminimizetime 200x ./$${target%:*} || exit 1; done

# Breaks a package in one place after the other, and lists what none of its own tests notices: make mutate PKG=core/throttle
mutate:
	go run ./e2e/mutate $(if $(SAMPLE),-sample $(SAMPLE)) $(PKG)

# Writes the reference pages that are made from the code.
docs:
	go run ./docs/reference > docs/commands.md

# Takes the pictures in docs/screenshots anew, from the demo.
screenshots: MORE := /usr/bin/xterm=xterm /usr/bin/import=imagemagick /usr/bin/Xvfb=xvfb /usr/share/fonts/truetype/dejavu=fonts-dejavu-core
screenshots: bin/ostiarius needs
	go run ./e2e/shots docs/screenshots
	e2e/shots/terminal.sh docs/screenshots

# Programs that need no library of the system, with their checksums, and completions for shells.
release: console/dist/index.html demo/desk/dist/index.html
	rm -rf bin/release && mkdir -p bin/release
	for arch in amd64 arm64; do \
		CGO_ENABLED=0 GOOS=linux GOARCH=$$arch go build -trimpath -ldflags "-s -w -X ostiarius/cli.Version=$(VERSION)" -o bin/release/ostiarius-linux-$$arch ./cmd/ostiarius || exit 1; done
	for shell in bash zsh fish; do go run ./cmd/ostiarius completion $$shell > bin/release/ostiarius.$$shell || exit 1; done
	cp deploy/ostiarius.service deploy/ostiarius.socket bin/release/
	cd bin/release && sha256sum * > SHA256SUMS

clean:
	rm -rf bin console/src/schema.ts console/dist/assets console/dist/index.html demo/desk/dist/assets demo/desk/dist/index.html
