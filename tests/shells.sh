#!/usr/bin/env bash
# The tests of completion in zsh and fish. The shells are installed where they are missing (Debian and its kin, as root).
set -euo pipefail
cd "$(dirname "$0")/.."
if ! command -v zsh > /dev/null || ! command -v fish > /dev/null; then
    apt-get -q update > /dev/null && apt-get install -y -q zsh fish > /dev/null
fi
# With the whole workspace, so that nothing is compiled a second time.
cargo test --locked --workspace --test shells -- --ignored --test-threads 1
