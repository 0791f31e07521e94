#!/usr/bin/env bash
# The tests of the editor service with a real editor, of its messages against the protocol's published types, and of what `editors/` holds. Neovim, Node.js and
# Python are installed where they are missing (Debian and its kin, as root).
set -euo pipefail
cd "$(dirname "$0")/.."
needed=(nvim:neovim npm:npm python3:python3)
missing=()
for pair in "${needed[@]}"; do
    command -v "${pair%%:*}" > /dev/null || missing+=("${pair##*:}")
done
if [ ${#missing[@]} -gt 0 ]; then
    export DEBIAN_FRONTEND=noninteractive
    apt-get -q update > /dev/null && apt-get install -y -q --no-install-recommends "${missing[@]}" > /dev/null
fi
# The grammar, word by word, and the package, as an editor loads it.
(cd editors/vscode && npm ci --silent && npm run --silent build && npm test --silent && npm run --silent package)
# The protocol's types, from the registry of packages of Python.
python="$PWD/target/tools/protocol"
if ! "$python/bin/python" -c "import lsprotocol" 2> /dev/null; then
    python3 -m venv "$python" 2> /dev/null || { apt-get install -y -q python3-venv > /dev/null && python3 -m venv "$python"; }
    "$python/bin/python" -m pip install --quiet --disable-pip-version-check lsprotocol
fi
conversations="$(mktemp -d)"
trap 'rm -rf "$conversations"' EXIT
# With the whole workspace, so that nothing is compiled a second time.
cargo test --locked --workspace --test neovim -- --ignored
BASTIDE_CONVERSATIONS="$conversations" cargo test --locked --workspace --test editor
"$python/bin/python" tests/editor/valid.py "$conversations"
"$python/bin/python" tests/editor/valid.py crates/bastide/tests/conversations
