#!/usr/bin/env bash
# The tests of imports against real systems: a directory, a database, a file share, a spreadsheet. What they need is installed where it is missing (Debian and its kin, as
# root); the servers are started and ended by the tests, on loopback, on ports of their own, in temporary folders.
set -euo pipefail
cd "$(dirname "$0")/.."
needed=(python3:python3 slapd:slapd ldapsearch:ldap-utils setfacl:acl setpriv:util-linux psql:postgresql)
missing=()
for pair in "${needed[@]}"; do
    command -v "${pair%%:*}" > /dev/null || [ -x "/usr/sbin/${pair%%:*}" ] || missing+=("${pair##*:}")
done
if ! compgen -G "/usr/lib/postgresql/*/bin/initdb" > /dev/null && ! command -v initdb > /dev/null; then
    missing+=(postgresql)
fi
if [ ${#missing[@]} -gt 0 ]; then
    # Nothing is to run because of it: a server that is installed for the tests is started by them alone.
    export DEBIAN_FRONTEND=noninteractive RUNLEVEL=1
    apt-get -q update > /dev/null && apt-get install -y -q --no-install-recommends "${missing[@]}" > /dev/null
fi
# Workbooks are written and filled in by another program than ours; objects are kept and signatures checked by one, too.
python="$PWD/target/tools/python"
if ! "$python/bin/python" -c "import openpyxl, odf, moto.server" 2> /dev/null; then
    python3 -m venv "$python" 2> /dev/null || { apt-get install -y -q python3-venv > /dev/null && python3 -m venv "$python"; }
    "$python/bin/python" -m pip install --quiet --disable-pip-version-check openpyxl odfpy "moto[server,s3]"
fi
export BASTIDE_PYTHON="$python/bin/python"
# With the whole workspace, so that nothing is compiled a second time.
BASTIDE_SYSTEMS=1 cargo test --locked --workspace --test directory --test database --test tree --test workbooks --test storage
