//! What `--version` says of how the program was built.

use std::process::Command;

fn main() {
    println!("cargo:rerun-if-changed=../../.git/HEAD");
    println!("cargo:rerun-if-changed=../../.git/refs/heads");
    let ask = |program: &str, args: &[&str]| {
        let output = Command::new(program).args(args).output().ok().filter(|o| o.status.success())?;
        Some(String::from_utf8_lossy(&output.stdout).trim().to_string()).filter(|text| !text.is_empty())
    };
    // Outside of a checkout, as from an archive of the sources, nobody knows.
    let commit = ask("git", &["show", "--no-patch", "--format=%h of %cs", "HEAD"]);
    let rustc = std::env::var("RUSTC").unwrap_or_else(|_| "rustc".to_string());
    let rustc = ask(&rustc, &["--version"]).unwrap_or_default();
    let of = |name: &str| std::env::var(name).unwrap_or_default();
    println!("cargo:rustc-env=BASTIDE_COMMIT={}", commit.unwrap_or_else(|| "unknown".to_string()));
    println!("cargo:rustc-env=BASTIDE_TARGET={}", of("TARGET"));
    println!("cargo:rustc-env=BASTIDE_PROFILE={}", of("PROFILE"));
    println!("cargo:rustc-env=BASTIDE_RUSTC={rustc}");
}
