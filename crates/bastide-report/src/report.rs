//! Everything the page says.

use crate::exposure::Exposure;
use crate::findings::{FindingGroup, grouped};
use crate::folded::Folded;
use crate::heat::Heat;
use crate::overview::Overview;
use crate::power::{FullPower, Weight};
use crate::rows::DatasetRows;
use crate::{exposure, folded, heat, overview, power, rows};
use bastide_answers::audit::Finding;
use bastide_answers::difference::{Blocks, Effect, Radius};
use bastide_answers::prove::Proof;
use bastide_audit::{Case, Survey};
use serde::Serialize;

/// Everybody's access as the page shows it. It is gathered from the survey alone, so that it can be worked out beside the audit.
pub struct Access {
    full_power: Vec<FullPower>,
    weights: Vec<Weight>,
    heat: Heat,
    exposure: Option<Exposure>,
    rows: Vec<DatasetRows>,
    folded: Folded,
}

impl Access {
    /// Gathers it. `depth`: how deep the catalog is cut into places; none to let its size decide. Cost: every resource a few times,
    /// by several cores.
    pub fn new(case: &Case, survey: &Survey, depth: Option<u16>) -> Access {
        let cut = |most: usize| folded::Cut::new(case.estate, depth, most);
        // Each goes through everything by itself.
        let (folded, (heat, (full_power, weights, exposure))) = rayon::join(
            || folded::fold(case, &survey.snapshot, &cut(folded::MOST_PLACES)),
            || {
                rayon::join(
                    || heat::heat(case, survey, &cut(heat::MOST_PLACES)),
                    || {
                        let full_power = power::full(case, survey);
                        let weights = power::weights(case, survey, &full_power);
                        (full_power, weights, exposure::exposure(case, survey))
                    },
                )
            },
        );
        Access { full_power, weights, heat, exposure, rows: rows::rows(case, survey), folded }
    }
}

/// What a report is made from, besides the estate.
pub struct Sources<'s, 'e> {
    /// The estate, the moment, and what is harmless.
    pub case: &'s Case<'e>,
    /// Everybody's access.
    pub access: Access,
    /// Findings of the audit, waived ones among them, the worst first.
    pub findings: Vec<bastide_audit::Finding>,
    /// Expectations and guarantees.
    pub proofs: Vec<bastide_engine::prove::Proof>,
    /// What changed since an earlier state.
    pub changes: Option<Changes>,
    /// The version of the program, for the last line.
    pub version: String,
    /// What the page says of itself: keys and values.
    pub about: Vec<(String, String)>,
}

/// What changed since an earlier state.
#[derive(Serialize)]
pub struct Changes {
    /// The earlier state, as it was named.
    pub since: String,
    /// How far it reaches.
    pub radius: Radius,
    /// What brought it about, the most triples first.
    pub causes: Vec<Effect>,
    /// Gains and losses, the most consequential first.
    pub blocks: Blocks,
}

/// Everything the page says.
#[derive(Serialize)]
pub struct Report {
    /// The estate's name.
    pub name: String,
    /// The day asked about.
    pub date: String,
    /// The version of the program.
    pub version: String,
    /// What the page says of itself: keys and values.
    pub about: Vec<(String, String)>,
    /// The first lines.
    pub overview: Overview,
    /// Users who may do everything.
    pub full_power: Vec<FullPower>,
    /// The others by the number of resources on which they may do more than is harmless, the most first.
    pub weights: Vec<Weight>,
    /// Access by group and place.
    pub heat: Heat,
    /// Who may read what is labelled.
    pub exposure: Option<Exposure>,
    /// Which rows and columns of datasets users get.
    pub rows: Vec<DatasetRows>,
    /// Findings, the worst first.
    pub findings: Vec<FindingGroup>,
    /// Findings that are waived today.
    pub waived: Vec<Finding>,
    /// Expectations and guarantees, the broken ones first.
    pub proofs: Vec<Proof>,
    /// What changed since an earlier state.
    pub changes: Option<Changes>,
    /// Who can do what where. The script of the page reads it; the template does not.
    #[serde(skip)]
    pub folded: Folded,
}

impl Report {
    /// Puts it together.
    pub fn new(sources: Sources) -> Report {
        let case = sources.case;
        let Access { full_power, weights, heat, exposure, rows, folded } = sources.access;
        let (waived, findings): (Vec<_>, Vec<_>) = sources.findings.into_iter().partition(|f| f.waived.is_some());
        let mut proofs = sources.proofs;
        proofs.sort_by_key(|p| p.holds);
        let overview = overview::overview(case, &findings, &proofs, &full_power, exposure.as_ref(), &weights);
        Report {
            name: case.estate.name().to_string(),
            date: case.moment.date.to_string(),
            version: sources.version,
            about: sources.about,
            overview,
            full_power,
            weights,
            heat,
            exposure,
            rows,
            findings: grouped(&findings),
            waived: waived.iter().map(Finding::from).collect(),
            proofs: proofs.iter().map(Proof::from).collect(),
            changes: sources.changes,
            folded,
        }
    }
}
