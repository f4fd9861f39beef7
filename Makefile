# A short front for CMake. "make help" lists what there is.
BUILD ?= build
JOBS ?= $(shell nproc 2>/dev/null || echo 2)
# Most tests wait more than they work.
TEST_JOBS = $(shell expr $(JOBS) \* 2)
CONFIGURE = cmake -S . -B
WERROR = $(if $(CI),-DIND_WERROR=ON,)

.PHONY: all help deps build demo test test-plain test-page prove bench against sanitize races fuzz lint lint-quick rooms reproducible format screenshots install clean deb test-package soak

all: build

help:
	@echo "make            build into $(BUILD)/"
	@echo "make deps       install what is missing to build"
	@echo "make soak       all transports, reloads and rotations for SECONDS=600: memory and descriptors stay flat"
	@echo "make deb        the Debian package, looked at by lintian"
	@echo "make test-package   the package in a clean Debian, as root"
	@echo "make demo       build, then show the whole thing on made-up data"
	@echo "make test       build and run all tests (under three minutes)"
	@echo "make test-plain   the same tests, of a build without vector instructions"
	@echo "make test-page  the page of a report in headless Chromium"
	@echo "make prove      route, explain, rehearse and search against one another; a thousand changes in archives found; MESSAGES=100000 CONDITIONS=300"
	@echo "make sanitize   the tests under AddressSanitizer and UBSan"
	@echo "make races      the tests of the built program under ThreadSanitizer"
	@echo "make fuzz       fuzz every reader of foreign bytes, SECONDS=30 each"
	@echo "make lint       clang-tidy, cppcheck, format, rooms"
	@echo "make lint-quick   what of it takes no time: format, rooms, warnings of clang"
	@echo "make rooms      draw docs/architecture.md's rooms anew from src/ROOMS"
	@echo "make reproducible   two builds in two folders are the same bytes"
	@echo "make bench      measure, and write docs/benchmarks.md"
	@echo "make against OTHER=FOLDER   time this build against another, such as that of the commit before"
	@echo "make screenshots  docs/screenshots/ from the demo data"
	@echo "make install    into PREFIX (default /usr/local)"

deps:
	@packaging/deps.sh build

build: deps
	@$(CONFIGURE) $(BUILD) $(WERROR) >/dev/null
	@cmake --build $(BUILD) -j $(JOBS)

demo: build
	@$(BUILD)/indagator demo

test:
	@packaging/deps.sh test
	@$(CONFIGURE) $(BUILD) -DIND_TESTS=ON $(WERROR) >/dev/null
	@cmake --build $(BUILD) -j $(JOBS)
	@packaging/test.sh $(BUILD) -j $(TEST_JOBS)

test-plain:
	@packaging/deps.sh test
	@$(CONFIGURE) $(BUILD)-plain -DIND_TESTS=ON -DIND_VECTORS=OFF $(WERROR) >/dev/null
	@cmake --build $(BUILD)-plain -j $(JOBS)
	@packaging/test.sh $(BUILD)-plain -j $(TEST_JOBS)

test-page:
	@packaging/deps.sh page
	@$(CONFIGURE) $(BUILD) $(WERROR) >/dev/null
	@cmake --build $(BUILD) -j $(JOBS) --target indagator
	@tests/page/test.py $(BUILD)/indagator

prove:
	@packaging/deps.sh test
	@$(CONFIGURE) $(BUILD) -DIND_TESTS=ON $(WERROR) >/dev/null
	@cmake --build $(BUILD) -j $(JOBS)
	@IND_ALL=1 $(BUILD)/tests/cli_hostile_test
	@IND_ALL=1 $(BUILD)/tests/cli_search_trials_test
	@IND_ALL=1 $(BUILD)/tests/cli_search_forms_test
	@IND_ALL=1 $(BUILD)/tests/cli_relay_trials_test
	@IND_ALL=1 $(BUILD)/tests/unit_store_proof_test
	@IND_ALL=1 $(BUILD)/tests/unit_store_catalog_test
	@IND_ALL=1 $(BUILD)/tests/unit_store_full_disk_test
	@IND_SCENARIO=long_ $(BUILD)/tests/scenarios_scenario_test
	@IND_MESSAGES=$(or $(MESSAGES),100000) IND_CONDITIONS=$(or $(CONDITIONS),300) $(BUILD)/tests/cli_proof_test

sanitize:
	@packaging/deps.sh test
	@$(CONFIGURE) $(BUILD)-sanitize -DIND_TESTS=ON -DIND_SANITIZE=address,undefined >/dev/null
	@cmake --build $(BUILD)-sanitize -j $(JOBS)
	@packaging/test.sh $(BUILD)-sanitize -j $(JOBS)

races:
	@packaging/deps.sh test
	@$(CONFIGURE) $(BUILD)-races -DIND_TESTS=ON -DIND_SANITIZE=thread >/dev/null
	@cmake --build $(BUILD)-races -j $(JOBS)
	@packaging/test.sh $(BUILD)-races -R 'cli_'

fuzz:
	@packaging/deps.sh lint
	@CC=clang $(CONFIGURE) $(BUILD)-fuzz -DIND_FUZZ=ON >/dev/null
	@cmake --build $(BUILD)-fuzz -j $(JOBS) --target fuzzers
	@tests/fuzz/run.sh $(BUILD)-fuzz $(or $(SECONDS),30)

lint:
	@packaging/deps.sh lint
	@CC=clang $(CONFIGURE) $(BUILD)-lint -DIND_TESTS=ON -DIND_WERROR=ON -DCMAKE_BUILD_TYPE=Debug >/dev/null
	@cmake --build $(BUILD)-lint -j $(JOBS)
	@packaging/lint.sh $(BUILD)-lint

lint-quick:
	@packaging/deps.sh lint-quick
	@CC=clang $(CONFIGURE) $(BUILD)-lint -DIND_TESTS=ON -DIND_WERROR=ON -DCMAKE_BUILD_TYPE=Debug >/dev/null
	@cmake --build $(BUILD)-lint -j $(JOBS)
	@packaging/lint.sh --quick $(BUILD)-lint

rooms:
	@packaging/rooms.py draw

reproducible: deps
	@packaging/reproducible.sh

bench:
	@packaging/deps.sh bench
	@$(CONFIGURE) $(BUILD) -DIND_BENCH=ON >/dev/null
	@cmake --build $(BUILD) -j $(JOBS)
	@bench/run.sh $(BUILD) docs/benchmarks.md

# SECONDS=600 where nothing is said.
soak: build
	@packaging/deps.sh test bench
	@bench/soak.sh $(BUILD) $(or $(SECONDS),600)

against:
	@packaging/deps.sh bench
	@$(CONFIGURE) $(BUILD) -DIND_BENCH=ON >/dev/null
	@cmake --build $(BUILD) -j $(JOBS)
	@bench/against.py $(BUILD) $(OTHER)

deb: deps
	@packaging/deps.sh package
	@packaging/deb.sh $(BUILD)-deb $(JOBS)

# Installs, starts, upgrades and purges the package in a clean Debian; as root, with the packages of Debian in reach.
test-package: deb
	@packaging/test_package.sh $(BUILD)-deb

screenshots: build
	@packaging/deps.sh screenshots
	@docs/screenshots/make.sh $(BUILD)

format:
	@find src tests bench -name '*.[ch]' -print0 | xargs -0 clang-format -i

install: deps
	@$(CONFIGURE) $(BUILD) $(WERROR) -DCMAKE_INSTALL_PREFIX=$(or $(PREFIX),/usr/local) >/dev/null
	@cmake --build $(BUILD) -j $(JOBS)
	@cmake --install $(BUILD)

clean:
	@rm -rf $(BUILD) $(BUILD)-sanitize $(BUILD)-races $(BUILD)-lint $(BUILD)-fuzz $(BUILD)-plain
