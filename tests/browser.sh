#!/usr/bin/env bash
# The tests of the report in a real browser, with a checker of accessibility. Chromium is installed where it is missing (Debian and its kin, as root);
# the variable CHROMIUM names another one.
set -euo pipefail
cd "$(dirname "$0")/.."
if ! command -v "${CHROMIUM:-chromium}" > /dev/null; then
    apt-get -q update > /dev/null && apt-get install -y -q chromium > /dev/null
fi
# The checker of accessibility, from the registry of packages of Node.js.
checker=target/checker
if [ ! -f "$checker/node_modules/axe-core/axe.min.js" ]; then
    if ! command -v npm > /dev/null; then
        apt-get -q update > /dev/null && apt-get install -y -q npm > /dev/null
    fi
    npm install --silent --no-save --prefix "$checker" axe-core@4 > /dev/null
fi
ACCESSIBILITY_CHECKER="$PWD/$checker/node_modules/axe-core/axe.min.js"
export ACCESSIBILITY_CHECKER
# With the whole workspace, so that nothing is compiled a second time.
cargo test --locked --workspace --test browser -- --ignored --test-threads 1
