//! Writes a synthetic estate: a content platform of any size, from a seed.
#![allow(clippy::print_stdout, reason = "a tool that says what it made")]

mod data;
mod policy;
mod shape;

use clap::Parser;
use std::io;
use std::path::PathBuf;

/// Writes a synthetic estate.
#[derive(Parser, Debug)]
pub struct Size {
    /// The folder to write it into
    dir: PathBuf,
    /// Users
    #[arg(long, default_value = "10000")]
    users: usize,
    /// Resources
    #[arg(long, default_value = "1000000")]
    resources: usize,
    /// Access entries for groups and users on containers
    #[arg(long, default_value = "600")]
    entries: usize,
    /// Rules
    #[arg(long, default_value = "100")]
    rules: usize,
    /// Single entries: one user on one item each (the bad case)
    #[arg(long, default_value = "0")]
    singles: usize,
    /// Rules that give an owner something: then every owner makes outcomes of its own
    #[arg(long, default_value = "1")]
    owner_rules: usize,
    /// Parts of the catalog that stand on their own, by workspaces; none where it is one table
    #[arg(long, default_value = "0")]
    parts: usize,
    /// What is hard about it
    #[arg(long, value_enum, default_value = "ordinary")]
    shape: shape::Shape,
    /// The seed
    #[arg(long, default_value = "1")]
    seed: u64,
}

fn main() -> io::Result<()> {
    let size = Size::parse();
    std::fs::create_dir_all(&size.dir)?;
    let mut rng = fastrand::Rng::with_seed(size.seed);
    let extra = shape::Extra::of(&size);
    std::fs::write(size.dir.join("bastide.toml"), policy::manifest(&size))?;
    std::fs::write(size.dir.join("policy.bastide"), policy::rules(&size, &extra, &mut rng))?;
    let tree = data::catalog(&size, &extra, &mut rng)?;
    data::people(&size, &extra, &mut rng)?;
    data::groups(&size, &mut rng)?;
    data::entries(&size, &tree, &mut rng)?;
    println!(
        "{} users, {} resources, {} rules, {} entries",
        size.users,
        size.resources,
        size.rules,
        size.entries + size.singles
    );
    Ok(())
}
