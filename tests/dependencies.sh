#!/usr/bin/env bash
# What the two programs are built from, held against deny.toml: licences, sources, versions; and known holes, where a list of them is at hand. The checker is
# installed where it is missing; where it cannot be, that is said, and nothing is checked.
set -euo pipefail
cd "$(dirname "$0")/.."
tools="$PWD/target/tools"
export PATH="$PATH:$tools/bin"
if ! command -v cargo-deny > /dev/null && ! timeout 1200 cargo install --quiet --locked --root "$tools" cargo-deny; then
    echo "the checker of dependencies cannot be installed here: they are not checked" >&2
    exit 0
fi
cargo deny --locked check --hide-inclusion-graph licenses bans sources
cargo deny --manifest-path sql/Cargo.toml --config deny.toml --locked check --hide-inclusion-graph licenses bans sources
if compgen -G "${CARGO_HOME:-$HOME/.cargo}/advisory-db*/*" > /dev/null; then
    cargo deny --locked check --disable-fetch advisories
    cargo deny --manifest-path sql/Cargo.toml --config deny.toml --locked check --disable-fetch advisories
fi
