//! An estate is read as it is at one moment: never a file from before and one from after.

mod common;

use common::{case, run_in};
use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

const FILES: usize = 6;

fn text(file: usize, version: usize) -> String {
    // Something to read, so that reading takes its time.
    let filler: String = (0..400).map(|i| format!("f{file}-filler-{i}\n")).collect();
    format!("id\nf{file}-v{version}\n{filler}")
}

fn put(dir: &Path, file: usize, version: usize, over: bool) {
    let path = dir.join(format!("people-{file}.csv"));
    if over {
        // As many exports do: the file is emptied, and filled again.
        fs::write(path, text(file, version)).unwrap();
    } else {
        let beside = dir.join(format!("new-{file}"));
        fs::write(&beside, text(file, version)).unwrap();
        fs::rename(beside, path).unwrap();
    }
}

#[test]
#[allow(clippy::print_stdout, reason = "how much was tried")]
fn never_two_moments_in_one_answer() {
    let rounds = std::env::var("BASTIDE_MOMENTS").ok().and_then(|n| n.parse().ok()).unwrap_or(40);
    let sources: String = (0..FILES).map(|file| format!("[[people]]\nfile = \"people-{file}.csv\"\n")).collect();
    let dir = case(&format!(
        "=== bastide.toml\nname = \"Moments\"\npolicy = [\"p.bastide\"]\n{sources}[[catalog]]\nfile = \"c.csv\"\n=== p.bastide\n\
         kind room\naction read\nrule all {{ who anyone may read what anything }}\n=== c.csv\nid,parent,kind,name\nr,,room,R\n"
    ));
    (0..FILES).for_each(|file| put(dir.path(), file, 0, false));
    let stop = AtomicBool::new(false);
    let (mut whole, mut refused) = (0, 0);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut version = 1;
            while !stop.load(Ordering::Relaxed) {
                for file in 0..FILES {
                    put(dir.path(), file, version, version % 2 == 0);
                    std::thread::sleep(Duration::from_micros((version as u64 * 37) % 4000));
                }
                // Between two exports there is quiet, now and then.
                std::thread::sleep(Duration::from_millis(if version % 5 == 0 { 60 } else { 3 }));
                version += 1;
            }
        });
        for _ in 0..rounds {
            let run = run_in(dir.path(), &["-q", "matrix", "--format", "csv"]);
            match run.status {
                0 => {
                    let version = |file: usize| -> usize {
                        let begin = format!("f{file}-v");
                        let mut found = run.out.lines().filter_map(|line| line.strip_prefix(&begin)?.split(',').next());
                        let version = found.next().unwrap_or_else(|| panic!("no version of file {file}"));
                        assert_eq!(found.next(), None);
                        version.parse().unwrap()
                    };
                    let all: Vec<usize> = (0..FILES).map(version).collect();
                    // The first files may be one export ahead of the last ones: so they stood on the disk.
                    let moment = all.windows(2).all(|pair| pair[0] >= pair[1]) && all[0] - all[FILES - 1] <= 1;
                    assert!(moment, "never stood on the disk at one moment: {all:?}");
                    assert_eq!(run.out.lines().count(), 1 + FILES * 401);
                    whole += 1;
                }
                // Emptied, and not filled yet; or never at rest.
                3 | 4 => refused += 1,
                other => panic!("{other}: {}", run.err),
            }
        }
        stop.store(true, Ordering::Relaxed);
    });
    println!("{whole} answers of one moment, {refused} refused");
    assert!(whole > rounds / 10, "{whole} of {rounds}");
}
