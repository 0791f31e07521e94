#!/usr/bin/env bash
# `bastide-sql`, which is a workspace of its own: formatting, lints and documentation with warnings denied, its tests, and its answers against those of another
# SQL engine, which comes from the registry of packages of Python; so does the object storage that parts of a catalog are read from. The main program is asked for what it knows: it is built before (`cargo test`).
set -euo pipefail
cd "$(dirname "$0")/.."
manifest=(--manifest-path sql/Cargo.toml)
cargo fmt "${manifest[@]}" --check
cargo clippy "${manifest[@]}" --all-targets --locked -- -D warnings
RUSTDOCFLAGS="-D warnings" cargo doc "${manifest[@]}" --no-deps --locked --document-private-items
python="$PWD/target/tools/engine"
if ! "$python/bin/python" -c "import duckdb, moto.server" 2> /dev/null; then
    python3 -m venv "$python" 2> /dev/null || { apt-get install -y -q python3-venv > /dev/null && python3 -m venv "$python"; }
    "$python/bin/python" -m pip install --quiet --disable-pip-version-check duckdb "moto[server,s3]"
fi
BASTIDE_PYTHON="$python/bin/python" BASTIDE_SYSTEMS=1 cargo test "${manifest[@]}" --locked
"$python/bin/python" sql/tests/other_engine.py target/debug/bastide sql/target/debug/bastide-sql docs/sql.md
