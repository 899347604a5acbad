# Gate Check: what one can do here. `make help` lists it.
SHELL := /bin/bash
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PORT ?= 8765
# the probe forks for every page it reads: a process of the tests is large, and copying its table of pages takes longer than the reading
LARGE_PAGES := GLIBC_TUNABLES=glibc.malloc.hugetlb=1
# where Python is told to keep nothing compiled, every start of the program and of each practice machine compiles all of it again: twice as long
export PYTHONDONTWRITEBYTECODE :=

.PHONY: help install demo serve test check wide lab lab-all lint types shots stick bench fuzz load rehearsal clean browser emulator wheel deb

help: ## list what can be done
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 12

install: $(VENV)/.runs web/dist/index.html ## install what the program needs, build the front end
	@$(BIN)/python -m compileall -q src/gatecheck

demo: install ## start with a made-up repair counter and print the address
	$(BIN)/gatecheck demo --port $(PORT)

serve: install ## start with your own data
	$(BIN)/gatecheck serve --port $(PORT)

test: install $(VENV)/.tests browser ## install what tests need (Chromium included), run everything
	cd web && npm run -s test
	$(LARGE_PAGES) $(BIN)/python -m pytest -n 3 --dist loadfile --no-loadscope-reorder $(ARGS)

check: $(VENV)/.tests ## the inner loop: lint, and the tests that belong to what was changed since the last commit
	@$(MAKE) -s lint
	$(BIN)/python -m pytest -q -n 2 --dist load $$($(BIN)/python tests/changed.py) $(ARGS)

wide: install $(VENV)/.tests browser ## what `make test` tries, at more sizes, seeds and kinds
	$(LARGE_PAGES) $(BIN)/python -m pytest -m wide -n 3 --dist loadfile --no-loadscope-reorder $(ARGS)

lab: install $(VENV)/.tests emulator ## the probe inside emulated machines: real kernel, UEFI and legacy firmware (about 11 minutes)
	$(BIN)/python -m pytest -m lab -n 2 --dist load tests/lab $(ARGS)

OUT ?= gatecheck-stick.img
stick: install ## build the bench's own live stick as an image, OUT=FILE (gatecheck-stick.img); needs Debian
	@PATH=$$PATH:/usr/sbin:/sbin; command -v syslinux mkfs.fat mcopy cpio zstd depmod >/dev/null || { echo "Installing Debian's packages for building"; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends syslinux dosfstools mtools cpio zstd kmod >/dev/null; }
	$(BIN)/gatecheck stick $(OUT)

lab-all: install $(VENV)/.tests emulator ## the same with every machine of the lab, and volumes against Debian's own tools
	$(BIN)/python -m pytest -m "lab or lab_all" -n 2 --dist load tests/lab $(ARGS)

lint: $(VENV)/.tests web/src/api/schema.d.ts ## ruff, mypy, TypeScript, ESLint, generated types up to date
	$(BIN)/ruff check src tests bench docs
	$(BIN)/ruff format --check -q src tests bench docs
	$(BIN)/mypy
	cd web && npx tsc --noEmit && npx eslint src
	$(BIN)/python -m gatecheck.server.openapi | diff -q - web/openapi.json
	cd web && npx openapi-typescript openapi.json -o /tmp/gatecheck-schema.d.ts >/dev/null && diff -q /tmp/gatecheck-schema.d.ts src/api/schema.d.ts

types: web/src/api/schema.d.ts ## generate the front end's types from the API

shots: install $(VENV)/.tests browser ## take the screenshots in docs/screenshots anew
	$(BIN)/python docs/take_screenshots.py

bench: install $(VENV)/.tests $(VENV)/.bench browser ## measure speed against baselines in the same run
	$(BIN)/python bench/engine.py
	$(BIN)/python bench/network.py
	$(BIN)/python bench/optimal.py
	$(BIN)/python bench/screen.py

fuzz: install $(VENV)/.tests ## fuzz every reader and every route for SECONDS (600), and HISTORIES (2000) of the link; what was found is kept in tests/corpus
	$(BIN)/python bench/fuzz.py --seconds $(or $(SECONDS),600) --histories $(or $(HISTORIES),2000)

load: install $(VENV)/.tests ## fifty browsers with event streams and sixty posters for SECONDS (60)
	$(BIN)/python bench/load.py --seconds $(or $(SECONDS),60)

rehearsal: install ## rehearse every world anew: docs/rehearsal.md and its plots
	$(BIN)/gatecheck rehearse --machines 240 --seed 4099 --report docs

WHEELS ?= dist
wheel: install ## build WHEELS/gatecheck-*.whl (dist) with the front end, fonts and tables inside; it installs without Node
	@mkdir -p $(WHEELS) && rm -f $(WHEELS)/gatecheck-*.whl && build=$$(mktemp -d) && trap 'rm -rf $$build' EXIT && \
	cp -r src pyproject.toml README.md LICENSE requirements.txt $$build && cp -r web/dist $$build/src/gatecheck/front && \
	$(BIN)/python -m pip wheel -q --disable-pip-version-check --no-deps --no-build-isolation -w $(WHEELS) $$build

deb: wheel ## build WHEELS/gatecheck_*.deb (dist) from the same wheel: it installs without a registry, and starts as a service
	@rm -f $(WHEELS)/gatecheck_*.deb && $(BIN)/python packaging/build_deb.py $(WHEELS)/gatecheck-*.whl $(WHEELS)

clean: ## remove everything that was built or installed
	rm -rf $(VENV) web/node_modules web/dist
	find . -name __pycache__ -not -path "./.venv/*" -prune -exec rm -rf {} +

$(VENV)/.runs: requirements.txt pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install -q --disable-pip-version-check -r requirements.txt
	$(BIN)/python -m pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e .
	touch $@

$(VENV)/.tests: $(VENV)/.runs requirements-dev.txt
	$(BIN)/python -m pip install -q --disable-pip-version-check -r requirements-dev.txt
	touch $@

$(VENV)/.bench: $(VENV)/.runs requirements-bench.txt
	$(BIN)/python -m pip install -q --disable-pip-version-check -r requirements-bench.txt
	touch $@

web/node_modules/.stamp: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	touch $@

web/src/api/schema.d.ts: $(VENV)/.runs web/node_modules/.stamp $(shell find src/gatecheck/server -name '*.py')
	$(BIN)/python -m gatecheck.server.openapi > web/openapi.json
	cd web && npm run -s types >/dev/null
	touch $@

web/dist/index.html: $(VENV)/.runs web/node_modules/.stamp web/src/api/schema.d.ts $(shell find web/src -type f 2>/dev/null) web/index.html web/vite.config.ts
	cd web && npm run -s build
	$(BIN)/python -m gatecheck.server.papers.fonts web/node_modules web/dist/fonts
	touch $@

.PHONY: browser
emulator:
	@command -v qemu-system-x86_64 debootstrap zstd cpio busybox depmod mkfs.fat mcopy pvcreate mdadm sgdisk syslinux grub-mkimage mkfs.ntfs mkfs.exfat mkfs.ext4 as >/dev/null && test -d /usr/share/OVMF || { echo "Installing Debian's packages for the lab"; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends \
	  qemu-system-x86 ovmf debootstrap busybox-static cpio zstd kmod dosfstools mtools lvm2 mdadm gdisk syslinux syslinux-common grub-common grub-efi-amd64-bin grub-pc-bin grub-efi-amd64-signed shim-unsigned systemd-boot-efi ntfs-3g exfatprogs e2fsprogs binutils >/dev/null || echo "They could not be installed: the lab will be skipped"; }

browser:
	@command -v chromium >/dev/null || { echo "Installing Debian's chromium package for the browser tests"; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium >/dev/null; }
	@PATH=$$PATH:/usr/sbin:/sbin; (for t in mkfs.btrfs mkfs.xfs mkfs.f2fs xorriso genisoimage mkudffs; do command -v $$t >/dev/null || exit 1; done) || { apt-get update -qq && DEBIAN_FRONTEND=noninteractive \
	  apt-get install -y -qq --no-install-recommends btrfs-progs xfsprogs f2fs-tools xorriso genisoimage udftools >/dev/null || echo "Debian's tools for volumes are not here: tests that need them will be skipped"; }
