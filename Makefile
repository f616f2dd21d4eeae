# Dim Lantern. `make demo` opens the screens on Gullhaven; `make test` runs every test.
# `make race` looks for races, `make long` runs what takes hours.
GO      ?= go
BIN     := dimlantern
# What the tests work with, each with its package in Debian.
TOOLS   := tmux:tmux logger:bsdutils openssl:openssl zstdcat:zstd setpriv:util-linux journalctl:systemd \
           systemd-analyze:systemd rsyslogd:rsyslog systemd-journal-remote:systemd-journal-remote \
           lmnsd_gtls.so:rsyslog-gnutls nats-server:nats-server pdftotext:poppler-utils cc:build-essential \
           nginx:nginx-light redis-server:redis-server rsync:rsync ip:iproute2
# And what the kits are held against in `make programs`.
PROGRAMS := apache2:apache2 htpasswd:apache2-utils haproxy:haproxy squid:squid initdb:postgresql \
           psql:postgresql-client mariadbd:mariadb-server postfix:postfix dovecot:dovecot-imapd named:bind9 \
           dig:dnsutils unbound:unbound dnsmasq:dnsmasq dhcpd:isc-dhcp-server smbd:samba \
           smbclient:smbclient upsd:nut-server upsmon:nut-client borg:borgbackup cron:cron curl:curl \
           javac:default-jdk-headless sshd:openssh-server ssh:openssh-client sshpass:sshpass sudo:sudo
# Packages with goroutines.
RACE    := ./service ./hosts ./intake/... ./api ./folder ./snapshot ./query ./workbench ./notify/... ./export \
           ./report ./store ./screens/... ./draw ./core/trial ./core/match ./demo ./cmd/...
# Tests that take minutes under the detector, and run in `make race`.
UNRACED := 'TestRestartGoesOnExactly|TestGauntlet|TestDatabase|TestHundredMegabytes|TestFollowerEqualsModel|TestThroughACluster'

export CGO_ENABLED = 0
# Of what is built with other flags nothing is of use again: all that is compiled here has the same ones.
GOFLAGS ?= -trimpath
export GOFLAGS

.PHONY: man build demo test lint race race-short long bench bench-hosts shots fmt clean tools programs programs-keep kits-page

build:
	$(GO) build -o $(BIN) ./cmd/dimlantern

# The manual, out of the same texts as the help.
man: build
	./$(BIN) man man/man1

demo: build
	./$(BIN) demo

# What the tests need and this machine lacks is installed when we may, else named. No service of it is started,
# neither now nor when the machine begins anew: the tests start what they need themselves.
tools:
	@missing=; for t in $(TOOLS) $(MORE); do p=$${t%%:*}; \
	  command -v $$p >/dev/null || \
	    ls /usr/sbin/$$p /usr/lib/systemd/$$p /usr/lib/*/rsyslog/$$p /usr/lib/postgresql/*/bin/$$p \
	    /usr/lib/nut/$$p 2>/dev/null | grep -q . || missing="$$missing $${t#*:}"; done; \
	if [ -n "$$missing" ]; then \
	  if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then \
	    echo "installing$$missing"; \
	    [ -e /usr/sbin/policy-rc.d ] || { printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d; \
	    chmod +x /usr/sbin/policy-rc.d; own=1; }; \
	    apt-get update -qq && \
	    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	    [ -z "$$own" ] || rm -f /usr/sbin/policy-rc.d; \
	    ! command -v systemctl >/dev/null || dpkg -L $$missing 2>/dev/null | grep '/system/[^/]*\.service$$' | \
	    xargs -rn1 basename | xargs -r systemctl disable -q 2>/dev/null || true; \
	  else echo "some tests are left out without: apt-get install$$missing"; command -v tmux >/dev/null || exit 1; fi; fi

# What nobody calls, and what looks wrong.
lint:
	$(GO) tool staticcheck ./...
	@dead=$$($(GO) tool deadcode -test ./...); if [ -n "$$dead" ]; then echo "nobody calls: $$dead"; exit 1; fi

test: tools build lint
	$(GO) vet ./...
	GOOS=windows $(GO) vet ./...
	GOARCH=arm64 $(GO) vet ./core/...
	@bad=$$(gofmt -l .); if [ -n "$$bad" ]; then echo "not gofmt'ed: $$bad"; exit 1; fi
	$(GO) test -timeout 12m ./...
	$(GO) test ./core/engine -run Equal -rapid.checks=2000
	$(GO) test -tags purego ./core/...
	@seed=$$(date +%s); echo "gauntlets with seed $$seed"; \
	    $(GO) test ./intake ./service -run 'TestGauntlet' -rapid.checks=300 -rapid.seed=$$seed
	./$(BIN) test demo/settings
	./$(BIN) check demo/settings >/dev/null
	./$(BIN) fmt --check demo/settings kits/*/*.lantern
	./$(BIN) kits test

# The race detector needs cgo, for this alone.
race: tools
	CGO_ENABLED=1 $(GO) test -race -timeout 90m $(RACE)

race-short: tools
	CGO_ENABLED=1 $(GO) test -race -short -timeout 12m -skip $(UNRACED) $(RACE)

# The kits against the programs that they are for: installed, started, used, broken and mended. At its end it
# says which alert came after how many seconds, and which cleared.
programs:
	$(MAKE) tools MORE="$(PROGRAMS)"
	DIMLANTERN_KEEP=$(DIMLANTERN_KEEP) DIMLANTERN_PROGRAMS=all $(GO) test -timeout 60m ./test/programs -count=1 -v

# The same, and what the programs wrote is kept, so that the kits are tried on it by every `make test`.
programs-keep:
	$(MAKE) programs DIMLANTERN_KEEP=$(CURDIR)/kits/testdata
	$(GO) test ./kits -update

# The page about the kits, made from them.
kits-page:
	$(GO) run ./kits/page > docs/kits.md

# Hours' worth of random cases, fuzzing and kills.
long: tools build
	DIMLANTERN_KILLS=130 $(GO) test -timeout 90m ./test -run Kill -v
	DIMLANTERN_KILLS=200 $(GO) test -timeout 90m ./test -run TestDeliveries -v
	DIMLANTERN_PAST=168h $(GO) test -timeout 60m ./test -run Gullhaven -v
	$(GO) test -timeout 60m ./core/engine -rapid.checks=200000
	$(GO) test -timeout 60m ./intake -rapid.checks=10000
	@seed=$$(date +%s); echo "gauntlets with seed $$seed"; \
	  $(GO) test -timeout 90m ./intake -run 'TestGauntlet$$' -rapid.checks=50000 -rapid.seed=$$seed && \
	  DIMLANTERN_LONG=1 $(GO) test -timeout 90m ./service -run TestGauntletOutside -rapid.checks=1000 -rapid.seed=$$seed
	$(MAKE) programs
	$(MAKE) race
	$(GO) test -timeout 60m ./core/match ./core/ask -rapid.checks=50000
	$(GO) test -timeout 60m ./intake/reread -rapid.checks=20000
	$(GO) test -timeout 60m ./core/measure ./core/lang -rapid.checks=20000
	$(GO) test -timeout 60m ./report -rapid.checks=1000
	DIMLANTERN_LONG=1 $(GO) test -timeout 60m ./service -run AsOneMachine -rapid.checks=3000
	$(GO) test -timeout 60m ./core/steps ./core/layout -run 'Glance|Wide|Equal|Lean' -rapid.checks=50000
	@# As processors without wide instructions do it, where there is an emulator.
	if command -v qemu-aarch64-static >/dev/null; \
	    then GOARCH=arm64 $(GO) test -exec qemu-aarch64-static ./core/...; \
	    else echo "without qemu-aarch64-static (apt-get install qemu-user-static) nothing is run for arm64"; fi
	$(GO) test ./core/lang -run XXX -fuzz FuzzParse -fuzztime 5m -fuzzminimizetime 20x
	$(GO) test ./core/author -run XXX -fuzz FuzzQuestion -fuzztime 5m -fuzzminimizetime 20x
	$(GO) test ./core/steps -run XXX -fuzz FuzzSteps -fuzztime 5m -fuzzminimizetime 20x
	$(GO) test ./core/layout -run XXX -fuzz FuzzSyslog -fuzztime 5m -fuzzminimizetime 20x
	$(GO) test ./core/layout -run XXX -fuzz FuzzFormats -fuzztime 5m -fuzzminimizetime 20x
	for f in FuzzJSON FuzzLogfmt FuzzColumns FuzzW3C FuzzDetect; \
	    do $(GO) test ./core/layout -run XXX -fuzz "^$$f$$" -fuzztime 5m -fuzzminimizetime 20x || exit 1; done
	for f in FuzzFrames FuzzMatcher FuzzEval; \
	    do $(GO) test ./core/match -run XXX -fuzz "^$$f$$" -fuzztime 5m -fuzzminimizetime 20x || exit 1; done
	$(GO) test ./intake/listen -run XXX -fuzz FuzzFrames -fuzztime 5m -fuzzminimizetime 20x
	$(GO) test ./intake/journal -run XXX -fuzz FuzzExport -fuzztime 5m -fuzzminimizetime 20x
	$(GO) test ./intake/channel -run XXX -fuzz FuzzHost -fuzztime 5m -fuzzminimizetime 20x
	$(GO) test ./intake/channel -run XXX -fuzz FuzzEvents -fuzztime 5m -fuzzminimizetime 20x
	$(GO) test ./intake/spool -run XXX -fuzz FuzzSegment -fuzztime 5m -fuzzminimizetime 20x

bench: build
	@command -v rg mawk jq >/dev/null || { [ "$$(id -u)" = 0 ] && apt-get update -qq && \
	    apt-get install -y -qq ripgrep mawk jq >/dev/null; } || \
	    echo "without rg, mawk and jq (apt-get install ripgrep mawk jq) the bench compares with what there is only"
	$(GO) run ./test/bench

# The sizes that many machines have to hold, with simulated hosts over loopback.
bench-hosts: build
	$(GO) run ./test/bench -only-hosts -dead 10m

shots: build
	./test/shots

fmt:
	gofmt -w .
	./$(BIN) fmt --write demo/settings

clean:
	rm -rf $(BIN) bench-data
