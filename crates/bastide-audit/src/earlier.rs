//! What was found before, and what was accepted.

use crate::{Case, Finding};
use hashbrown::HashSet;

/// Waivers that have ended, or under which nothing falls, each by its place. `waived`: what was waived; `only`: the findings that
/// were looked for, none for all.
pub fn idle_waivers(case: &Case, waived: &[Finding], only: &[String]) -> Vec<String> {
    let (estate, moment) = (case.estate, case.moment);
    let all = estate.proofs().waivers.iter().filter(|w| only.is_empty() || only.contains(&w.finding));
    all.filter_map(|w| {
        let place = estate.place(w.origin);
        if let Some(until) = w.until.filter(|until| *until < moment.date) {
            return Some(format!("{place}: the waiver of `{}` ended on {until}", w.finding));
        }
        let used = waived.iter().any(|f| f.name == w.finding && w.about.iter().any(|p| p.fits(&f.about)));
        (!used).then(|| format!("{place}: nothing falls under the waiver of `{}`", w.finding))
    })
    .collect()
}

/// Leaves out findings that an earlier audit reported, by their fingerprints; how many they are, and how many of the earlier ones
/// are gone. Gone is only what was looked for (`only`: by name, none for all); a finding that says more or less than before is
/// another one, of the same thing.
pub fn leave_out(findings: &mut Vec<Finding>, waived: &[Finding], earlier: &[&str], only: &[String]) -> (usize, usize) {
    fn thing(print: &str) -> &str {
        print.rsplit_once('/').map_or(print, |(thing, _)| thing)
    }
    let still: HashSet<&str> = findings.iter().chain(waived).map(|f| thing(&f.fingerprint)).collect();
    let looked_for = |print: &&&str| only.is_empty() || only.iter().any(|name| print.split('/').next() == Some(name));
    let gone = earlier.iter().filter(looked_for).filter(|print| !still.contains(thing(print))).count();
    drop(still);
    let earlier: HashSet<&str> = earlier.iter().copied().collect();
    let all = findings.len();
    findings.retain(|f| !earlier.contains(f.fingerprint.as_str()));
    (all - findings.len(), gone)
}
