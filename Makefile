# A thin layer over CMake: `make demo` and `make check` work on a fresh system.
BUILD ?= build
PREFIX ?= /usr/local

all: build

packages:
	@sh tools/packages.sh

configure: packages
	@cmake -S . -B $(BUILD) -DCMAKE_INSTALL_PREFIX=$(PREFIX) >/dev/null

build: configure
	@cmake --build $(BUILD) --parallel

demo: build
	@$(BUILD)/bin/tondo demo

check: build
	@cd $(BUILD) && ctest --output-on-failure --parallel 2

# Real programs, compared byte for byte with their native run; takes minutes.
matrix: build
	@sh tests/matrix/run.sh $(BUILD)/bin/tondo

# The rules for undefined bits on many random instruction sequences, and on many calls of the
# library's functions; takes minutes.
shadow-bits: build
	@sh tests/shadow/many.sh $(BUILD)/bin/tondo $(BUILD)/bin/shadow-bits-program \
		$(BUILD)/bin/shadow-texts-program $(SEEDS)

# Damaged sessions, rule files and ledgers, ROUNDS of them.
ROUNDS ?= 1000
fuzz: build
	@/usr/bin/python3 tests/fuzz/run.py $(CURDIR)/$(BUILD)/bin/tondo $(CURDIR)/$(BUILD)/bin/scribble $(ROUNDS)

# Random loops over members that were never set, compiled in ten ways: no finding may come.
loops: build
	@/usr/bin/python3 tests/fuzz/loops.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Structures with members of several origins, moved about and compiled in eight ways.
origins: build
	@/usr/bin/python3 tests/fuzz/origins.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Arrays of such structures, copied, turned about and sorted round after round.
copies: build
	@/usr/bin/python3 tests/fuzz/copies.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Values used at a line each, mostly by the library: exactly those never set may be told.
uses: build
	@/usr/bin/python3 tests/fuzz/uses.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Bit fields beside others: exactly those never set may be told.
fields: build
	@/usr/bin/python3 tests/fuzz/fields.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Local variables that are set on some ways only, and used where something says so: all is quiet.
unset: build
	@/usr/bin/python3 tests/fuzz/unset.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Structures passed by value: exactly the members never set may be told.
passing: build
	@/usr/bin/python3 tests/fuzz/passing.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Structures in frames, passed about: exactly the members never set may be told.
frames: build
	@/usr/bin/python3 tests/fuzz/frames.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Slots of the stack that are used again and again: unset locals are told by their own name.
slots: build
	@/usr/bin/python3 tests/fuzz/slots.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Inlined functions and blocks that share places of the frame: what was set is quiet.
scopes: build
	@/usr/bin/python3 tests/fuzz/scopes.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Branches on random expressions, against native runs with many choices of undefined bits.
expressions: build
	@/usr/bin/python3 tests/fuzz/expressions.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Random functions with branches: what varies with undefined bits must be undefined, or told.
choices: build
	@/usr/bin/python3 tests/fuzz/choices.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)
places: build # the same in arrays, structures, vectors
	@/usr/bin/python3 tests/fuzz/places.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)
registers: build # in registers over calls
	@/usr/bin/python3 tests/fuzz/registers.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)
floats: build # of floating-point numbers
	@/usr/bin/python3 tests/fuzz/floats.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)
classes: build # of C++
	@/usr/bin/python3 tests/fuzz/classes.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Random accesses, right ones and wrong ones: exactly the wrong ones may be told.
mistakes: build
	@/usr/bin/python3 tests/fuzz/mistakes.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# C++ objects, containers and threads, some misused: exactly those may be told.
objects: build
	@/usr/bin/python3 tests/fuzz/objects.py $(CURDIR)/$(BUILD)/bin/tondo $(SEEDS)

# Some 330 lines of C, one program each, what they do with values that were never set.
snippets: build
	@/usr/bin/python3 tests/snippets/run.py $(CURDIR)/$(BUILD)/bin/tondo

# Slow-down against native, side by side; takes minutes.
bench: build
	@sh bench/run.sh $(BUILD)/bin/tondo

install: build
	@DESTDIR=$(DESTDIR) cmake --install $(BUILD)

clean:
	rm -rf $(BUILD)

.PHONY: all packages configure build demo check matrix shadow-bits fuzz loops origins unset uses fields passing copies frames slots scopes expressions choices places registers floats classes mistakes objects snippets bench install clean
