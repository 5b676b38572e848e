# The habitual words; CMake does the work (see CMakePresets.json).
.PHONY: demo demo-many test check bench soak fuzz attack format lint docs install setup clean \
        check-format test-core test-run test-options test-bare test-machine test-machine-short \
        test-boards test-boards-short packages test-cross test-dev test-threads test-memory

PREFIX ?= /usr/local

demo:
	@scripts/install-packages demo
	@cmake --preset release >/dev/null
	@cmake --build --preset release -- --quiet
	@build/release/bin/tawny demo --keep hollin-demo

# Three simulated boards, a broker and a gatherer.
demo-many:
	@scripts/install-packages many
	@cmake --preset release >/dev/null
	@cmake --build --preset release -- --quiet
	@scripts/demo-many

test-run: setup check-format test-core test-options test-cross test-dev test-threads test-memory

test: test-run lint

# What can go wrong without a card, a thread or a network: in seconds.
check:
	@cmake --preset bench >/dev/null
	@cmake --build --preset bench --target tests_quick -- --quiet
	@ctest --test-dir build/bench -L quick -j 2 --output-on-failure

setup:
	@scripts/install-packages

check-format:
	scripts/check-format

# The core alone, freestanding: nothing but <string.h> and the freestanding headers.
test-core:
	cmake --preset core >/dev/null
	cmake --build --preset core

# Each option of the build off, alone and all together: it compiles.
test-options:
	scripts/test-options

# Demo, installation and programs outside of the tree, on a Debian with only git and make: as root.
test-bare:
	@scripts/install-packages bare
	scripts/test-bare

# On a real kernel with its virtual camera, under systemd: in an emulator; as root.
test-machine:
	@scripts/install-packages machine
	scripts/test-machine

# A camera, the service and one power cut: minutes.
test-machine-short:
	@scripts/install-packages machine
	scripts/test-machine short

# The whole product for the boards' processors, and its tests by emulation; as root.
test-boards:
	@scripts/install-packages boards
	scripts/test-boards

# Of arm64 core, settings, media, port, and a demo: minutes.
test-boards-short:
	@scripts/install-packages boards
	scripts/test-boards short

# Debian's packages, held to its rules, twice the same: for this machine and the boards; as root.
packages:
	@scripts/install-packages machine
	scripts/make-packages twice
	scripts/make-packages amd64 arm64 armhf
	scripts/test-bare packages
	lintian --tag-display-limit 0 --fail-on error,warning build/packages/amd64/*.changes

# The core under emulation of other machines: 64-bit ARM, and a microcontroller.
test-cross:
	@scripts/install-packages cross
	scripts/test-cross

# All tests, with address and undefined-behaviour sanitizers.
test-dev:
	cmake --preset dev >/dev/null
	cmake --build --preset dev
	ctest --preset dev -j 6

# What has threads, with the thread sanitizer: these tests alone are built.
THREADED = station_station station_lost station_reload station_second station_sensors station_apply \
  station_feed station_queue media_packets port_push port_mic deliver_hooks deliver_destinations \
  deliver_broker deliver_look deliver_said gather_totell many_many page_came page_page page_past page_stored station_daily_reel
empty :=
space := $(empty) $(empty)
test-threads:
	cmake --preset threads -DTAWNY_DRAWING=OFF >/dev/null
	cmake --build --preset threads --target $(addprefix test_,$(THREADED)) test_station_faults tawny_cli \
	  tawny-codecs tawny-transfer tawny-broker tawny-web tawny-zip tawny-finding example_topics
	ctest --preset threads -j 4 -R "^($(subst $(space),|,$(strip $(THREADED))))$$"
	TAWNY_TEST_ONLY="test_taken*" ctest --preset threads -R station_faults # all of it: minutes

# Short runs of the tool under valgrind.
test-memory:
	cmake --preset release >/dev/null
	cmake --build --preset release
	scripts/check-memory build/release

lint:
	scripts/lint

bench: setup
	@cmake --preset bench >/dev/null
	@cmake --build --preset bench -- --quiet
	@build/bench/bench/kernels && build/bench/bench/catalogue && \
	  build/bench/bench/keeping && build/bench/bench/path; path=$$?; \
	  build/bench/bench/cameras 600; cameras=$$?; \
	  build/bench/bench/sending; sending=$$?; build/bench/bench/gather; gather=$$?; build/bench/bench/many; many=$$?; build/bench/bench/rhythm; rhythm=$$?; build/bench/bench/page; page=$$?; \
	  TAWNY=$(CURDIR)/build/bench/bin/tawny node bench/page.mjs; view=$$?; \
  build/bench/bench/accuracy && exit $$((path | cameras | sending | gather | many | rhythm | page | view))

# Thirty days of three cameras on the virtual clock, 500 sightings sent while all that can
# fail does, and a minute of eight cameras that are never left alone, with the thread
# sanitizer: minutes.
soak: setup
	@cmake --preset bench >/dev/null
	@cmake --build --preset bench -- --quiet
	TAWNY_DAYS=30 build/bench/tests/test_station_month
	TAWNY_SIGHTINGS=500 build/bench/tests/test_system_delivery
	TAWNY_SECONDS=3600 build/bench/tests/test_media_sound
	cmake --preset threads -DTAWNY_DRAWING=OFF >/dev/null
	cmake --build --preset threads -- --quiet
	TAWNY_SECONDS=60 build/threads/tests/test_station_reload
	cmake --preset dev >/dev/null
	cmake --build --preset dev -- --quiet
	TAWNY_FAILS=all build/dev/tests/test_system_fails
	@scripts/install-packages machine
	scripts/test-machine cuts=100
	@scripts/install-packages boards
	TAWNY_BOARDS=all scripts/test-boards arm64 armhf s390x

# Each target for so many runs, or seconds; new inputs that reach new code are kept in
# build/.
FUZZ_RUNS ?= 20000000
FUZZ_SECONDS ?= 900
FUZZED = brightness drafts edits footage heads names nearby orders replies settings socket told
fuzz: setup
	cmake --preset fuzz >/dev/null
	cmake --build --preset fuzz
	for t in $(FUZZED); do mkdir -p build/fuzz/found/$$t && \
	  build/fuzz/bin/fuzz_$$t -runs=$(FUZZ_RUNS) -max_total_time=$(FUZZ_SECONDS) -max_len=14000 \
	  -print_final_stats=1 \
	  build/fuzz/found/$$t tests/corpus/$$t || exit 1; done

# What an attacker tries, against stations on loopback, with address sanitizers.
attack: setup
	cmake --preset dev >/dev/null
	cmake --build --preset dev -- --quiet
	ctest --preset dev -R ^attack_

format:
	git ls-files -z '*.c' '*.h' | xargs -0 clang-format -i

docs:
	@cmake --preset release >/dev/null
	@cmake --build --preset release -- --quiet
	build/release/bin/tawny settings --reference > docs/settings.md
	scripts/make-pages build/release/bin/tawny

install:
	@scripts/install-packages demo
	cmake --preset release -DCMAKE_INSTALL_PREFIX=$(PREFIX)
	cmake --build --preset release
	cmake --install build/release

clean:
	rm -rf build hollin-demo
