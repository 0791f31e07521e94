#!/usr/bin/env bash
# The tests of the report in a real browser. Chromium is installed where it is missing (Debian and its kin, as root);
# the variable CHROMIUM names another one.
set -euo pipefail
cd "$(dirname "$0")/.."
if ! command -v "${CHROMIUM:-chromium}" > /dev/null; then
    apt-get -q update > /dev/null && apt-get install -y -q chromium > /dev/null
fi
# With the whole workspace, so that nothing is compiled a second time.
cargo test --locked --workspace --test browser -- --ignored --test-threads 1
