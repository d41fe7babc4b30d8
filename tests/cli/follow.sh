#!/bin/sh
# Programs of the user's below programs of the system: each way of starting one.
# follow.sh TONDO
tondo=$1
folder=$(mktemp -d /tmp/tondo-follow-XXXXXX)
trap 'rm -rf "$folder"' EXIT
cd "$folder" || exit 1
export XDG_STATE_HOME="$folder/state"
passed=0 failed=0

cat >late.c <<'C'
#include <stdlib.h>
#include <unistd.h>
int main(int argc, char **argv) {
    char *p = malloc(7);
    p[7 + (argc > 90)] = 1;
    free(p);
    if (argc > 2)
        execvp(argv[1], argv + 1);
    return 0;
}
C
gcc -g -o late late.c || exit 1
printf '#!/bin/sh\n./late\n' >script
chmod +x script
printf 'all:\n\t@./late; ./late\n' >makefile

# finds N COMMAND...: N processes made the one mistake
finds() {
    wanted=$1
    shift
    "$tondo" run -q --findings-status 0 -r json:report.json "$@" >out 2>err
    found=$(tr -d ' \n' <report.json | grep -o '"kind":"out-of-bounds-write","cwe":787,"count":[0-9]*' |
        sed 's/.*://' | head -1)
    if [ "${found:-0}" = "$wanted" ] && [ ! -s err ]; then
        passed=$((passed + 1))
    else
        failed=$((failed + 1))
        echo "$*: ${found:-0} found, not $wanted" >&2
        head -3 err >&2
    fi
}

finds 1 ./late
finds 2 ./late ./late x
finds 1 sh -c './late; true'
finds 1 sh -c 'sh -c "sh -c ./late; true"; true'
finds 1 ./script
finds 1 env -i ./late
finds 1 env ./script
finds 1 timeout 20 ./late
finds 2 make -s
finds 3 sh -c 'echo 1 2 3 | xargs -n1 ./late; true'
finds 1 sh -c 'find . -name late -exec {} ";"'
finds 3 perl -e 'system("./late"); system("./late; true"); print `./late`;'
finds 2 ./late ./late sh
finds 1 bash -c '( ./late ) & wait'
if busybox true 2>/dev/null && ! ldd "$(command -v busybox)" >/dev/null 2>&1; then
    finds 2 env busybox sh -c './late; busybox sh -c "./late; true"; true'
    printf '#!%s sh\n./late x\n' "$(command -v busybox)" >boxed
    chmod +x boxed
    finds 1 sh -c './boxed y; true'
    finds 1 ./boxed
fi
printf '#!./late\n' >'own script'
chmod +x 'own script'
finds 1 sh -c '"./own script"; true'
finds 0 --follow none sh -c './late; true'

# what the programs in between see
"$tondo" run -q sh -c 'env; true' | grep -e TONDO -e LD_PRELOAD >seen
LD_PRELOAD=libc.so.6 "$tondo" run -q sh -c 'env; true' 2>/dev/null | grep LD_PRELOAD >kept
[ ! -s seen ] && passed=$((passed + 1)) || { failed=$((failed + 1)); cat seen >&2; }
[ "$(cat kept)" = LD_PRELOAD=libc.so.6 ] && passed=$((passed + 1)) ||
    { failed=$((failed + 1)); echo "the program's own LD_PRELOAD: $(cat kept)" >&2; }

echo "$passed passed, $failed failed"
[ "$failed" = 0 ]
