#!/usr/bin/env bash
# Records anew what an editor and the service say to each other, for `bastide/tests/editor.rs`: after a change of what the service says, or of the demo.
set -euo pipefail
cd "$(dirname "$0")/../.."
cargo build --quiet
here="$PWD"
work="$(mktemp -d)"
trap 'rm -rf "$work"' EXIT
printf '#!/bin/sh\nexec python3 "%s/tests/editor/record.py" "%s/said.jsonl" "%s/target/debug/bastide" "$@"\n' "$here" "$work" "$here" > "$work/service"
chmod +x "$work/service"
target/debug/bastide demo --no-tour "$work/estate" > /dev/null
(cd "$work/estate" && BASTIDE="$work/service" BASTIDE_SEEN="$work/seen.json" BASTIDE_EDITORS="$here/editors" \
    nvim --headless -i NONE -n -u "$here/tests/editor/neovim.lua" > /dev/null 2>&1)
cp "$work/said.jsonl" crates/bastide/tests/conversations/neovim.jsonl
