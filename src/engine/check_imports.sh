#!/bin/sh
# The engine may import the decoder's functions and nothing else: a libc function
# in it would run on the guest's thread with the wrong thread pointer.
extra=$(nm -D --undefined-only "$1" | awk '$2 !~ /^Zydis/ { print $2 }')
if [ -n "$extra" ]; then
    echo "the engine gained undefined symbols: $extra" >&2
    exit 1
fi
