#!/usr/bin/env bash
# Builds what is handed out: an archive and, where `cargo deb` is installed (`cargo install cargo-deb`), a Debian
# package, both in target/dist. With --sql, an archive of `bastide-sql`, too, which takes twenty minutes to build. With --try, all are unpacked into a clean folder
# and tried there.
set -euo pipefail
cd "$(dirname "$0")/.."
sql= try=
for option in "$@"; do
    case "$option" in
        --sql) sql=yes ;;
        --try) try=yes ;;
        *) echo "unknown: $option" >&2 && exit 2 ;;
    esac
done
cargo build --profile shipped --locked -p bastide
version=$(target/shipped/bastide -V | cut -d' ' -f2)
machine=$(uname -m)
rm -rf target/setup target/dist
target/shipped/bastide setup target/setup
name="bastide-$version-linux-$machine"
mkdir -p "target/dist/$name"
cp target/shipped/bastide README.md LICENSE-MIT LICENSE-APACHE "target/dist/$name/"
cp crates/bastide-report/fonts/LICENSE "target/dist/$name/LICENSE-font"
cp -r docs target/setup/man target/setup/completions "target/dist/$name/"
tar -C target/dist -czf "target/dist/$name.tar.gz" "$name"
rm -rf "target/dist/$name"
if cargo deb --version > /dev/null 2>&1; then
    cargo deb --locked --no-build --profile shipped -p bastide -o target/dist/
fi
if [ -n "$sql" ]; then
    cargo build --release --locked --manifest-path sql/Cargo.toml
    of_sql="bastide-sql-$version-linux-$machine"
    mkdir -p "target/dist/$of_sql"
    cp sql/target/release/bastide-sql docs/sql.md LICENSE-MIT LICENSE-APACHE "target/dist/$of_sql/"
    tar -C target/dist -czf "target/dist/$of_sql.tar.gz" "$of_sql"
    rm -rf "target/dist/$of_sql"
fi
ls target/dist

try() {
    local program=$1 work
    work=$(mktemp -d)
    (
        cd "$work"
        "$program" --version
        "$program" demo --no-tour four-tides
        cd four-tides
        "$program" check | tail -n 1
        "$program" why bruno.tavares read "Exhibitions/Tidal Light/Condition/Incoming/TL-007 incoming" --on 2026-11-24 | head -n 1
        "$program" report --on 2026-11-24 -o report.html
    )
    rm -rf "$work"
}
if [ -n "$try" ]; then
    clean=$(mktemp -d)
    tar -C "$clean" -xzf "target/dist/$name.tar.gz"
    try "$clean/$name/bastide"
    if [ -n "$sql" ]; then
        tar -C "$clean" -xzf "target/dist/$of_sql.tar.gz"
        cp "$clean/$of_sql/bastide-sql" "$clean/$name/"
        "$clean/$name/bastide" demo --no-tour "$clean/four-tides"
        "$clean/$name/bastide" --estate "$clean/four-tides" sql --on 2026-11-24 "select count(*) as decisions from access where decision = 'allowed'"
    fi
    for package in target/dist/*.deb; do
        [ -e "$package" ] || continue
        dpkg-deb -x "$package" "$clean/root"
        dpkg-deb -f "$package"
        (cd "$clean/root" && find . -type f | sort | sed -n '1,12p')
        try "$clean/root/usr/bin/bastide"
    done
    rm -rf "$clean"
fi
