//! Who can do what, where, why, what changes if, and what is wrong.

fn main() -> std::process::ExitCode {
    bastide::main()
}
