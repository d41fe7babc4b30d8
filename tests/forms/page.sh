#!/bin/sh
# The HTML report in a headless Chromium: its script runs, finds its parts and filters;
# nothing is asked from outside. page.sh TONDO PROGRAM; 77 where there is no Chromium.
command -v chromium >/dev/null 2>&1 || exit 77
folder=$(mktemp -d /tmp/tondo-page-XXXXXX)
trap 'rm -rf "$folder"' EXIT
cd "$folder" || exit 1
export XDG_STATE_HOME="$folder/state" HOME="$folder"
"$1" run -q --findings-status 0 -r html:report.html "$2" >/dev/null || exit 1
look() {
    timeout 60 chromium --headless=new --no-sandbox --disable-gpu --user-data-dir="$folder/profile" \
        --enable-logging=stderr --virtual-time-budget=3000 --window-size="$1" --dump-dom \
        "file://$folder/$2" 2>log
}
failed=0
want() {
    grep -q -e "$1" "$2" || { echo "no $1 in $2" >&2; failed=1; }
}
look 1280,800 report.html >page
count=$(grep -c '<article' report.html)
want "$count of $count shown" page
want 'class="js"' page
want 'id="heapfigure"' page # drawn by the package, with scripts
want '<figure[^>]*class="drawn"' page
want 'class="dygraph-axis-label' page
grep -i -e 'CONSOLE.*error' -e 'refused to' log >&2 && failed=1
# the same with something typed into the search, by a script put behind the page's own
sed 's|</body>|<script>var f=document.querySelector("form.filter");f.elements.q.value="still open";f.dispatchEvent(new Event("input"))</script></body>|' \
    report.html >typed.html
look 400,800 typed.html >page
want "1 of $count shown" page
want '<article[^>]*hidden' page
exit $failed
