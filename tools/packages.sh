#!/bin/sh
# Installs what building and testing need and what is missing; asks for root
# only then.
set -e
wanted="gcc g++ clang make cmake pkg-config binutils libzydis-dev libzycore-dev libdw-dev libelf-dev
python3 python3-jsonschema libsimdjson-dev
libiberty-dev libjansson-dev libconfuse-dev libpopt-dev libzstd-dev uthash-dev
libjs-dygraphs"
missing=""
for package in $wanted; do
    status=$(dpkg-query -W -f '${Status}' "$package" 2>/dev/null || true)
    [ "$status" = "install ok installed" ] || missing="$missing $package"
done
[ -n "$missing" ] || exit 0
echo "installing:$missing"
as_root=""
if [ "$(id -u)" != 0 ]; then
    as_root=sudo
fi
$as_root apt-get update -qq
DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends $missing >/dev/null
