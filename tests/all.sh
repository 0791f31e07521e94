#!/usr/bin/env bash
# Every test there is. What a test needs besides Rust (a browser, shells, a checker of dependencies) is installed where it is missing (Debian and its kin,
# as root).
set -euo pipefail
cd "$(dirname "$0")/.."
cargo test --workspace --locked
tests/systems.sh
tests/browser.sh
tests/shells.sh
tests/editor.sh
tests/sql.sh
tests/dependencies.sh
