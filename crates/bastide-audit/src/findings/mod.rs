//! The findings: one module each, registered here. The order of the list is the order of their names.

mod active_leaver;
mod column_in_the_open;
mod contradiction;
mod copies;
mod copy_without_a_source;
mod cut_off;
mod deny_without_need;
mod duty_clash;
mod empty_group;
mod ended;
mod ending;
mod far_end;
mod filter_leaves_nothing;
mod full_power;
mod group_cycle;
mod guest_among_staff;
mod guest_power;
mod half_open;
mod hollow_grant;
mod inactive_member;
mod label;
mod label_drop;
mod label_exposure;
mod listed_by_name;
mod meetings;
mod names_for_an_attribute;
mod no_place;
mod no_reach;
mod no_reason;
mod open_in_disguise;
mod open_to_anyone;
mod opener_inside;
mod overlap;
mod ownerless;
mod person_by_person;
pub(crate) mod pointless_narrowing;
mod redundant;
mod role_without_effect;
mod rows_by_another_door;
mod rows_open_to_everybody;
mod shadowed;
mod source_leak;
mod switched_off;
mod temporary_for_ever;
mod too_wide_a_place;
mod two_doors;
mod undecided;
mod unknown_name;
mod unused_access;
mod usage;
mod value_nobody_has;
mod wide_reach;
mod wide_wildcard;

use crate::sweep::Begin;
use crate::{Case, Found, Level, Survey};
use bastide_engine::evaluate::Evaluator;
use bastide_model::StatementId;
use bastide_syntax::nearest;

/// What a finding is about.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Group {
    /// More than anybody meant to give.
    OverBroad,
    /// Statements that disagree, or say the same.
    Conflict,
    /// What was right once.
    Stale,
    /// What will be wrong soon.
    Brittle,
    /// Data that gets out by another way.
    Leak,
    /// Duties that should be kept apart.
    Duties,
}

/// What a finding is, why it matters, and how it is looked for.
pub struct Descriptor {
    /// Its name.
    pub name: &'static str,
    /// Its group.
    pub group: Group,
    /// Its level, unless the manifest sets another.
    pub level: Level,
    /// When it is reported.
    pub what: &'static str,
    /// Why it matters.
    pub why: &'static str,
    /// When not to mind.
    pub mind: &'static str,
    /// Looks for it.
    pub check: Check,
}

/// How a finding is looked for, by what it is about.
#[derive(Clone, Copy)]
pub enum Check {
    /// Declarations, people, what is related to each other: once.
    Policy(fn(&Case, &Survey) -> Vec<Found>),
    /// Each statement in force by itself, many at a time.
    Statement(fn(&Case, &Survey, &mut Evaluator, StatementId) -> Vec<Found>),
    /// Each resource, in the one pass that feeds all checks of resources.
    Resource(Begin),
}

/// Every finding, by name.
pub const ALL: &[&Descriptor] = &[
    &active_leaver::DESCRIPTOR,
    &column_in_the_open::DESCRIPTOR,
    &contradiction::DESCRIPTOR,
    &copies::DESCRIPTOR,
    &copy_without_a_source::DESCRIPTOR,
    &cut_off::DESCRIPTOR,
    &deny_without_need::DESCRIPTOR,
    &duty_clash::DESCRIPTOR,
    &empty_group::DESCRIPTOR,
    &ended::DESCRIPTOR,
    &ending::DESCRIPTOR,
    &far_end::DESCRIPTOR,
    &filter_leaves_nothing::DESCRIPTOR,
    &full_power::DESCRIPTOR,
    &group_cycle::DESCRIPTOR,
    &guest_among_staff::DESCRIPTOR,
    &guest_power::DESCRIPTOR,
    &half_open::DESCRIPTOR,
    &hollow_grant::DESCRIPTOR,
    &inactive_member::DESCRIPTOR,
    &label_drop::DESCRIPTOR,
    &label_exposure::DESCRIPTOR,
    &listed_by_name::DESCRIPTOR,
    &names_for_an_attribute::DESCRIPTOR,
    &no_place::DESCRIPTOR,
    &no_reach::DESCRIPTOR,
    &no_reason::DESCRIPTOR,
    &open_in_disguise::DESCRIPTOR,
    &open_to_anyone::DESCRIPTOR,
    &opener_inside::DESCRIPTOR,
    &overlap::DESCRIPTOR,
    &ownerless::DESCRIPTOR,
    &person_by_person::DESCRIPTOR,
    &pointless_narrowing::DESCRIPTOR,
    &redundant::DESCRIPTOR,
    &role_without_effect::DESCRIPTOR,
    &rows_by_another_door::DESCRIPTOR,
    &rows_open_to_everybody::DESCRIPTOR,
    &shadowed::DESCRIPTOR,
    &source_leak::DESCRIPTOR,
    &switched_off::DESCRIPTOR,
    &temporary_for_ever::DESCRIPTOR,
    &too_wide_a_place::DESCRIPTOR,
    &two_doors::DESCRIPTOR,
    &undecided::DESCRIPTOR,
    &unknown_name::DESCRIPTOR,
    &unused_access::DESCRIPTOR,
    &value_nobody_has::DESCRIPTOR,
    &wide_reach::DESCRIPTOR,
    &wide_wildcard::DESCRIPTOR,
];

/// The nearest name of a finding, for one that is not known.
pub fn nearest(name: &str) -> Option<&'static str> {
    nearest::nearest(name, ALL.iter().map(|d| d.name))
}

#[cfg(test)]
mod tests {
    use super::ALL;

    #[test]
    fn findings_are_sorted_unique_and_described() {
        let names: Vec<&str> = ALL.iter().map(|d| d.name).collect();
        let mut sorted = names.clone();
        sorted.sort_unstable();
        sorted.dedup();
        assert_eq!(names, sorted);
        for d in ALL {
            let whole = [d.what, d.why, d.mind].iter().all(|text| text.len() > 12);
            assert!(whole && !d.what.ends_with('.') && d.why.ends_with(['.']), "{}", d.name);
        }
    }
}
