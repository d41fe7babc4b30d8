#!/bin/sh
# The command line as scripts use it: exit statuses, report forms, errors, rules.
# run.sh TONDO
tondo=$1
folder=$(mktemp -d /tmp/tondo-cli-XXXXXX)
trap 'rm -rf "$folder"' EXIT
cd "$folder" || exit 1
export XDG_STATE_HOME="$folder/state"
passed=0 failed=0

# is WHAT WANTED GOT
is() {
    if [ "$2" = "$3" ]; then
        passed=$((passed + 1))
    else
        failed=$((failed + 1))
        echo "$1: \"$3\", not \"$2\"" >&2
    fi
}
# has WHAT TEXT FILE
has() {
    if grep -qF -e "$2" "$3"; then
        passed=$((passed + 1))
    else
        failed=$((failed + 1))
        echo "$1: no \"$2\" in:" >&2
        head -5 "$3" >&2
    fi
}

cat >flawed.c <<'C'
#include <stdlib.h>
#include <string.h>
#include <stdio.h>
static void *kept;
int main(int argc, char **argv) {
    char *p = malloc(10);
    p[10] = 1;
    kept = malloc(33);
    free(p);
    if (argc > 1 && strcmp(argv[1], "abort") == 0)
        abort();
    puts("done");
    return argc > 1 ? atoi(argv[1]) : 0;
}
C
cat >clean.c <<'C'
#include <stdio.h>
#include <stdlib.h>
int main(int argc, char **argv) {
    int c;
    while ((c = getchar()) != EOF)
        putchar(c);
    fprintf(stderr, "own error\n");
    return argc > 1 ? atoi(argv[1]) : 0;
}
C
cc -g -O0 -w -o flawed flawed.c && cc -g -w -o clean clean.c || exit 1

"$tondo" run ./flawed 5 >out 2>err
is "status with findings" 100 $?
is "the program's own output" done "$(cat out)"
has "the first line" "tondo: 1 memory mistake in flawed (exit status 5" err
has "the place" "flawed.c:7:11" err
"$tondo" run --findings-status 7 ./flawed >out 2>err
is "--findings-status 7" 7 $?
"$tondo" run --findings-status 0 ./flawed 5 >out 2>err
is "--findings-status 0" 5 $?
"$tondo" run ./flawed abort >out 2>err
is "status of a killed program" 134 $?
has "report of a killed program" "died of signal 6" err
"$tondo" run --findings-status 9 ./flawed abort >out 2>err
is "findings status wins when given" 9 $?
echo "a pipe works" | "$tondo" run -q ./clean 3 >out 2>err
is "a clean program's status" 3 $?
is "its output" "a pipe works" "$(cat out)"
is "quiet" "own error" "$(cat err)"
echo | "$tondo" run ./clean 2>err >out
has "nothing found" "tondo: nothing found in clean" err

"$tondo" run -q -r line ./flawed 2>err >out
is "line form" "$folder/flawed.c:7:11: out-of-bounds-write: write of 1 byte right after the end of a block of 10 bytes" "$(cat err)"
"$tondo" run -q -r json:report.json -o saved.json -o saved.json.zst ./flawed 2>err >out
is "stderr stays empty" "" "$(cat err)"
has "json" '"kind": "out-of-bounds-write"' report.json
has "json summary" '"findings": 1' report.json
has "session" '"schema":1' saved.json
"$tondo" show -r line saved.json.zst >shown 2>&1
is "show of a compressed session" 0 $?
has "shown" "flawed.c:7:11: out-of-bounds-write" shown
"$tondo" show >shown 2>&1
has "show of the last run" "1 memory mistake in flawed" shown
"$tondo" show --by kind >shown 2>&1
has "grouping" "out-of-bounds-write" shown
"$tondo" show --reachable >shown 2>&1
has "reachable when asked" "Leak (reachable)" shown
"$tondo" run --reachable -r line ./flawed 2>err >out
has "--reachable" "leak: 33 bytes in 1 block never freed: still pointed to at exit" err

cat >killed.c <<'C'
#include <signal.h>
#include <stdlib.h>
#include <unistd.h>
char *volatile kept;
int main(void) {
    kept = malloc(123);
    kept = malloc(7);
    kill(getpid(), SIGKILL);
    return 0;
}
C
cc -g -w -o killed killed.c
"$tondo" run -r line ./killed 2>err >out
is "status after SIGKILL" 137 $?
has "leaks after SIGKILL" "killed.c:6:12: leak: 123 bytes in 1 block lost" err

printf '#include <unistd.h>\nint main(void) { for (;;) pause(); }\n' >waits.c
cc -o waits waits.c
"$tondo" run ./waits 2>err >out &
host=$!
sleep 1
kill -TERM $host
wait $host
is "status after SIGTERM to tondo" 143 $?
has "report after SIGTERM" "died of signal 15" err

"$tondo" run ./absent 2>err
is "missing program" 127 $?
has "missing program" "no such program" err
echo text >text; chmod +x text
"$tondo" run ./text 2>err
is "not a program" 126 $?
cp clean denied; chmod -x denied
"$tondo" run ./denied 2>err
is "no permission" 126 $?
"$tondo" run ./ 2>err
is "a folder" 126 $?
printf '\177ELF\001\001\001' >small; head -c 200 /dev/zero >>small; chmod +x small
"$tondo" run ./small 2>err
is "32-bit" 126 $?
has "32-bit" "32-bit program" err
"$tondo" run -r sarff ./clean 2>err
is "unknown form" 2 $?
"$tondo" run 2>err
is "no program" 2 $?
"$tondo" frobnicate 2>err
is "unknown command" 2 $?
"$tondo" run -r text:/nowhere/report ./flawed 2>err >out
is "unwritable report" 125 $?
has "unwritable report" "cannot be written to /nowhere/report" err
has "findings still shown" "Out-of-bounds write" err
is "one line for one error" 1 "$("$tondo" run ./absent 2>&1 | wc -l)"

cat >known.rules <<'R'
suppress "one too far" {
  kind   = {out-of-bounds-write}
  stack  = "main"
  reason = "kept for the test"
}
R
"$tondo" run -s known.rules ./flawed 4 2>err >out
is "suppressed" 4 $?
has "counted by rule" 'Suppressed: 1 finding, by "one too far" (1)' err
"$tondo" rules check known.rules >out 2>&1
is "rules check" 0 $?
"$tondo" rules check known.rules --against saved.json >out 2>&1
has "rules check --against" '"one too far" matched 1' out
cp known.rules .tondo.rules; mkdir sub; cd sub
"$tondo" run ../flawed 4 2>../err >../out
is "project rules found in a parent" 4 $?
cd ..; rm .tondo.rules
printf 'suppress "x" {\n  knid = {leak}\n}\n' >broken.rules
"$tondo" run -s broken.rules ./flawed 2>err >out
is "broken rules" 2 $?
has "broken rules: file and line" "broken.rules:2:" err
is "broken rules stop the run" "" "$(cat out)"
cat >collector.c <<'C'
int scan(void) {
    volatile int slots[64];
    int n = 0;
    for (int i = 0; i < 64; i++)
        if (slots[i] > 4096)
            n++;
    return n;
}
C
printf 'int scan(void);\nint main(void) { return scan() > 64; }\n' >collects.c
gcc -w -shared -fPIC -o libgc.so.1 collector.c && gcc -w -o collects collects.c ./libgc.so.1
"$tondo" run ./collects 2>err
is "a collector's scan is known" 0 $?
has "known, and counted" 'by "conservative collector (Boehm)"' err
"$tondo" run --no-known ./collects 2>err
is "without known rules" 100 $?
# a program of the user's that is called like a known one is no such program
cat >order.c <<'C'
#include <stdlib.h>
int main(void) { int *p = malloc(8); volatile int big = 0; if (p[1] > 3) big = 1; free(p); return big * 0; }
C
gcc -g -w -o sort order.c && "$tondo" run -q ./sort >out 2>err
is "another program of a known one's name" 100 $?
"$tondo" rules known >out
"$tondo" rules check out >err 2>&1
is "known rules are well-formed" 0 $?
"$tondo" rules new saved.json >new.rules 2>err
"$tondo" run -s new.rules ./flawed 6 2>err >out
is "written rules match" 6 $?
"$tondo" run --help >out 2>&1
has "help calls the command by its name" "Usage: tondo run [options]" out
"$tondo" doctor >out 2>&1
has "doctor" "fine     engine" out
"$tondo" diff saved.json saved.json >out 2>&1
is "diff of equals" 0 $?
"$tondo" run -o clean.json ./clean </dev/null >out 2>err
"$tondo" diff clean.json saved.json >out 2>&1
is "diff with something new" 100 $?
has "diff" "1 new, 0 gone" out

# choosing, explaining, comparing
"$tondo" run -q ./flawed 2>/dev/null >out
"$tondo" run -q ./flawed 2>/dev/null >out
"$tondo" diff >out 2>&1
is "diff of the last two" 0 $?
has "diff: heaps" "peak bytes" out
"$tondo" show --kind leak -r line saved.json >out
is "only leaks" "$("$tondo" show -r line saved.json | grep -c ": leak: ")" "$(grep -c . out)"
is "the first only" 1 "$("$tondo" show --top 1 -r line saved.json | grep -c .)"
is "the first group only, of all findings" 1 "$("$tondo" show --reachable --top 1 --by kind saved.json | grep -c "1 further group$")"
"$tondo" show --function nowhere -r line saved.json >out
is "no such function" 0 "$(grep -c . out)"
"$tondo" show --kind leek saved.json >out 2>&1
is "no such kind" 2 $?
"$tondo" show --tree --reachable saved.json >out
has "tree" "main" out
"$tondo" explain 1 saved.json >out
has "explain a finding" "What happened" out
"$tondo" explain use-after-free >out
has "explain a kind" "CWE-416" out
"$tondo" explain 4711 saved.json >out 2>&1
is "no such finding" 2 $?
"$tondo" run --baseline saved.json ./flawed 2>err >out
is "baseline" 1 "$(grep -c 'nothing found' err)"
"$tondo" run --baseline absent.json ./flawed 2>err >out
is "no baseline" 2 $?
"$tondo" run -r sarif:out.sarif -r junit:out.xml -r html:out.html ./flawed 2>err >out
has "sarif" '"version": "2.1.0"' out.sarif
has "junit" "<testsuites" out.xml
has "html" "</html>" out.html
mkdir -p conf/tondo; cp known.rules conf/tondo/rules
XDG_CONFIG_HOME=$PWD/conf "$tondo" run ./flawed 4 2>err >out
is "the user's rules" 4 $?

cat >shapes.cc <<'C'
template <class T> __attribute__((noinline)) T *lose(int n) { return new T[n]; }
int main() { lose<int>(3); lose<long>(4); return 0; }
C
g++ -g -w -o shapes shapes.cc && "$tondo" run -q ./shapes >out 2>&1
is "template instances are one site" 1 "$("$tondo" show --by site | grep -c 'lose')"

echo "$passed passed, $failed failed"
[ "$failed" = 0 ]
