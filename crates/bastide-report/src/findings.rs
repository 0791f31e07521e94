//! Findings as the page groups them.

use bastide_answers::audit::Finding;
use bastide_audit::ALL;
use serde::Serialize;

/// So many findings of one name are shown; of the rest only the number.
pub const MOST_FINDINGS: usize = 40;

/// Findings of one name and level.
#[derive(Serialize)]
pub struct FindingGroup {
    /// The name.
    pub name: String,
    /// The level.
    pub level: &'static str,
    /// Whether there is a group of the same name and another level before it.
    pub again: bool,
    /// When it is reported.
    pub what: &'static str,
    /// Why it matters.
    pub why: &'static str,
    /// When not to mind.
    pub mind: &'static str,
    /// The first ones.
    pub list: Vec<Finding>,
    /// How many there are.
    pub count: usize,
    /// How many are left out.
    pub more: usize,
}

/// Findings in groups, in the order they come in.
pub(crate) fn grouped(findings: &[bastide_audit::Finding]) -> Vec<FindingGroup> {
    let mut groups: Vec<FindingGroup> = Vec::new();
    for finding in findings {
        let same = groups.last_mut().filter(|g| g.name == finding.name && g.level == finding.level.word());
        let group = match same {
            Some(group) => group,
            None => {
                let about = ALL.iter().find(|d| d.name == finding.name);
                let again = groups.iter().any(|g| g.name == finding.name);
                groups.push(FindingGroup {
                    again,
                    name: finding.name.clone(),
                    level: finding.level.word(),
                    what: about.map_or("", |d| d.what),
                    why: about.map_or("", |d| d.why),
                    mind: about.map_or("", |d| d.mind),
                    list: Vec::new(),
                    count: 0,
                    more: 0,
                });
                groups.last_mut().expect("just pushed")
            }
        };
        group.count += 1;
        if group.list.len() < MOST_FINDINGS {
            group.list.push(Finding::from(finding));
        } else {
            group.more += 1;
        }
    }
    groups
}
