# make demo   build Hovix and let it move the demo site
# make test   install what the tests need, start private servers, test, stop them
GO      ?= go
VERSION ?= 0.1.0
FUZZTIME ?= 1m
LDFLAGS  = -s -w -X hovix/internal/cli.version=$(VERSION)
BUILD    = CGO_ENABLED=0 $(GO) build -trimpath -ldflags '$(LDFLAGS)'
TARGETS  = linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 windows/arm64

.PHONY: demo test corpus trip build bench lint dist man fuzz clean

demo: build
	@bin/hovix demo

build:
	@mkdir -p bin
	@echo "Building bin/hovix (the first build compiles its libraries and takes a minute or two) ..."
	@$(BUILD) -o bin/hovix ./cmd/hovix

test:
	@scripts/test.sh

# Schemas that nobody here wrote: all of them, where make test takes a few. It takes hours.
corpus:
	@HOVIX_CORPUS=1 scripts/test.sh -run '^TestCorpus' ./cmd/hovix

# The journey of a real application, which takes minutes to install: make trip ttrss.
TRIP = $(word 2,$(MAKECMDGOALS))
ifeq ($(firstword $(MAKECMDGOALS)),trip)
$(TRIP):
	@:
endif
trip: build
	@scripts/trip.sh $(TRIP)

lint:
	@test -z "$$(gofmt -l cmd internal)" || { echo "not formatted:"; gofmt -l cmd internal; exit 1; }
	$(GO) vet ./...
	$(GO) run honnef.co/go/tools/cmd/staticcheck@v0.8.2 ./...

# Speed of the parts; scripts/bench.sh measures whole commands.
bench:
	$(GO) test -run '^$$' -bench . ./internal/archive ./internal/rewrite/... ./internal/database/sqltext ./internal/crawl ./internal/redirects

fuzz:
	@for t in archive:FuzzScan rewrite:FuzzValue rewrite/serialized:FuzzRewrite rewrite/serialized:FuzzRepair dump:FuzzRewrite \
	  database/sqltext:FuzzInsert database/sqltext:FuzzSplit database/sqltree:FuzzParse database/mariadb:FuzzServer database/postgres:FuzzServer database/sqlite:FuzzServer site/phpconf:FuzzParse \
	  manifest:FuzzParse rowlog:FuzzLog restore:FuzzJournal site:FuzzSiteFile cli/ui:FuzzNeutral \
	  redirects:FuzzTable redirects:FuzzLog webpath:FuzzNormal crawl:FuzzSitemap page:FuzzParse; do \
	  echo "$$t"; $(GO) test -run '^$$' -fuzz "^$${t#*:}\$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 10x ./internal/$${t%:*} || exit 1; \
	done

# Release archives: the program, its manual pages, README and LICENSE, and their checksums.
dist: build
	@rm -rf dist && mkdir -p dist
	@for t in $(TARGETS); do \
	  os=$${t%/*} arch=$${t#*/} ext=; [ $$os = windows ] && ext=.exe; \
	  name=hovix-$(VERSION)-$$os-$$arch; mkdir -p dist/$$name; \
	  GOOS=$$os GOARCH=$$arch $(BUILD) -o dist/$$name/hovix$$ext ./cmd/hovix || exit 1; \
	  cp README.md LICENSE CHANGELOG.md dist/$$name/ && bin/hovix man dist/$$name/man || exit 1; \
	  tar -C dist --sort=name --owner=0 --group=0 --numeric-owner --mtime=2026-01-01 -czf dist/$$name.tar.gz $$name && rm -r dist/$$name || exit 1; \
	  echo "dist/$$name.tar.gz"; \
	done
	@cd dist && sha256sum *.tar.gz > SHA256SUMS && echo "dist/SHA256SUMS"

man: build
	bin/hovix man dist/man

clean:
	rm -rf bin dist
