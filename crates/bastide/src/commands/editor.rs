//! `bastide editor`

use super::audit;
use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::open::day;
use crate::print::{changes, reach, trial, why};
use crate::terminal::Terminal;
use bastide_audit::{Finding, Survey, audit_by};
use bastide_editor::{Connection, Ended, Voice, serve};
use bastide_engine::Snapshot;
use bastide_engine::access::Reached;
use bastide_engine::difference::{blocks, difference, radius};
use bastide_formats::Loaded;
use bastide_model::{ActionId, Moment, ResourceId, UserId};
use clap::Args;
use jiff::civil::Date;
use std::io::{self, IsTerminal};
use std::path::Path;
use std::sync::Arc;

/// Texts in an editor are so wide.
const WIDTH: usize = 100;
/// Blocks of gains, and of losses, that are told.
const MOST: usize = 20;

#[derive(Args, Debug)]
pub struct EditorArgs {
    /// The day that access is worked out for; today otherwise
    #[arg(long, value_name = "DATE", value_parser = crate::open::on)]
    pub on: Option<Date>,
}

/// The program's own words.
struct Words;

impl Voice for Words {
    fn today(&self) -> Date {
        day()
    }

    fn audit(&self, loaded: &Loaded, _: &Path, moment: &Moment) -> Vec<Finding> {
        // What is wrong in the manifest's settings of the audit is told by the audit itself.
        let Ok(case) = audit::case(loaded, moment) else { return Vec::new() };
        let Ok(survey) = Survey::new(&case) else { return Vec::new() };
        audit_by(&case, &survey, &|_| true, &|_| {}).into_iter().filter(|one| one.waived.is_none()).collect()
    }

    fn reach(&self, reached: &Reached) -> String {
        plain(&reach::reached(reached, false, false, WIDTH))
    }

    fn why(&self, snapshot: &Snapshot, user: UserId, action: ActionId, resource: ResourceId) -> String {
        plain(&why::explanation(&snapshot.explain(user, action, resource), &[], false, WIDTH))
    }

    fn change(&self, before: &Snapshot, after: &Snapshot) -> String {
        let found = difference(before, after, None);
        let (old, new) = (before.estate(), after.estate());
        let told = blocks(&found, old, new, new.groups(), &[], MOST);
        plain(&format!("{}\n{}", changes::sentence(&radius(&found)), trial::sides(&told, WIDTH)))
    }
}

/// Without colours: an editor shows text.
fn plain(text: &str) -> String {
    bastide_rows::text::plain(text).into_owned()
}

pub fn run(terminal: &Terminal) -> Result<u8, Failure> {
    if io::stdin().is_terminal() {
        let hints =
            vec!["how editors are told to start it: `docs/editor.md`, and `editors/` in the sources".to_string()];
        return Err(Failure::Usage("an editor starts `bastide editor`, and speaks with it".to_string(), hints));
    }
    let (connection, threads) = Connection::stdio();
    let ended = serve(&connection, Arc::new(Words));
    drop(connection);
    let ended = ended.map_err(Failure::Outside)?;
    // A client that is gone has closed its ends.
    let _ = threads.join();
    Ok(match ended {
        Ended::InOrder => DONE,
        Ended::Otherwise => BAD_NEWS,
        Ended::Nobody => {
            terminal.complain("no editor is there: an editor starts `bastide editor`, and speaks with it\n");
            BAD_NEWS
        }
    })
}
