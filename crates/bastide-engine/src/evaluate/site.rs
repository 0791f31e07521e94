//! Sites: resources that the same rules reach from the same depths, and on which the same actions have a meaning.

use super::compile::Expr;
use super::fold::Parted;
use super::places::Anchored;
use super::plan::{NOWHERE, Plan};
use super::{Evaluator, Work};
use crate::decide::Reason;
use crate::sets::store::SetId;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use std::rc::Rc;

/// A rule in the order in which each takes its users.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Step {
    /// Its place in that order, over all rules: see [`key`].
    pub key: u64,
    /// What it decides.
    pub reason: Reason,
    /// The rule.
    pub rule: u32,
}

/// Which actions have a meaning, and which rules reach, from which depth.
type SiteKey = (u32, Rc<[(u32, u16)]>);

/// All sites that were met.
pub struct Sites {
    sites: Vec<Site>,
    /// The actions that are decided on.
    wanted: FixedBitSet,
    /// The site of a list of places and a kind, by both; [`NOWHERE`] where none was met yet.
    of: Vec<u32>,
    /// By kind: kinds on which the same actions have a meaning have the same number.
    fitting: Vec<u32>,
    known: HashMap<SiteKey, u32>,
    /// Rules that speak of an action, each list once.
    speaking: HashMap<Box<[Step]>, u32>,
}

/// Resources on which the same rules decide.
pub struct Site {
    /// The rules that reach them, in policy order, and from which depth.
    pub reached: Rc<[(u32, u16)]>,
    /// By action, what decides on it; none where it has no meaning.
    pub actions: Box<[Option<SiteAction>]>,
    /// The actions that have a meaning.
    pub order: Box<[ActionId]>,
    /// In an estate with layers, those of rules that are weighed, and the bits on which it hangs whether they count.
    layers: Box<[(LayerId, Option<u32>)]>,
}

/// What decides on an action.
pub struct SiteAction {
    /// The number of the rules that speak of it.
    pub speaking: u32,
    /// They, in the order in which they take their users.
    pub steps: Rc<[Step]>,
    /// Those whose users hang on the resource.
    pub varying: Rc<[Step]>,
    /// The steps in runs of one reason, once they were asked for.
    pub runs: Option<Rc<Runs>>,
    /// What those hang on.
    pub parted: Parted,
    /// Its outcome, where that hangs on nothing.
    pub constant: Option<super::OutcomeId>,
    /// Whether it may hang on nothing: no rule varies, there are no needs and no layers.
    pub is_constant: bool,
}

/// The steps of an action in runs of one reason.
pub struct Runs {
    /// The runs.
    pub all: Box<[Run]>,
    /// So many at the beginning name the same users everywhere: what these decide is known.
    pub known: usize,
    /// Users by reason after them.
    pub counts: [u32; Reason::ALL.len()],
    /// Who is granted, and who is assured, after them.
    pub allowed: [SetId; 2],
    /// Who is left after them.
    pub rest: SetId,
}

/// Rules that follow each other and decide the same.
pub struct Run {
    /// What they decide.
    pub reason: Reason,
    /// The places of the first and of the last.
    pub keys: (u64, u64),
    /// Whom those name whose users are the same everywhere.
    pub fixed: SetId,
    /// The others.
    pub varying: Box<[Step]>,
}

/// The place of a rule in the order in which each takes its users: ceilings and prohibitions first, then what is always granted,
/// then what is weighed, in the order of the algorithm. None where it does not speak of the action.
pub fn step(
    estate: &Estate,
    statement: &Statement,
    rule: u32,
    id: StatementId,
    depth: u16,
    action: ActionId,
) -> Option<Step> {
    let listed = statement.actions.contains(action.index());
    let id = u64::from(id.0);
    let (key, reason) = match statement.modality {
        Modality::MayNever if listed => (id, Reason::Capped),
        Modality::MayOnly if !listed => (id, Reason::Capped),
        Modality::MayAlways if listed => (1 << 62 | id, Reason::Assured),
        Modality::May | Modality::MayNot if listed => {
            let permits = u64::from(statement.modality == Modality::May);
            let order = match estate.combining() {
                Combining::DenyOverrides => permits << 33,
                Combining::PermitOverrides => (1 - permits) << 33,
                Combining::NearestOverrides => u64::from(u16::MAX - depth) << 34 | permits << 33,
                Combining::FirstApplicable => 0,
            };
            (2 << 62 | order | id, if permits == 1 { Reason::Granted } else { Reason::Denied })
        }
        Modality::MayNever | Modality::MayOnly | Modality::MayAlways | Modality::May | Modality::MayNot => return None,
    };
    Some(Step { key, reason, rule })
}

impl Sites {
    pub fn new(estate: &Estate, plan: &Plan, wanted: FixedBitSet) -> Sites {
        let schema = estate.schema();
        let mut known: Vec<Vec<bool>> = Vec::new();
        let fitting = KindId::all(schema.kinds.len()).map(|kind| {
            let fits: Vec<bool> = wanted.ones().map(|action| schema.fits(ActionId::new(action), kind)).collect();
            let found = known.iter().position(|other| *other == fits);
            found.unwrap_or_else(|| {
                known.push(fits);
                known.len() - 1
            }) as u32
        });
        Sites {
            fitting: fitting.collect(),
            wanted,
            sites: Vec::new(),
            of: vec![NOWHERE; plan.places.lists.len() * schema.kinds.len()],
            known: HashMap::new(),
            speaking: HashMap::new(),
        }
    }

    pub fn get(&self, site: usize) -> &Site {
        &self.sites[site]
    }

    pub fn action(&self, site: usize, action: ActionId) -> Option<&SiteAction> {
        self.sites[site].actions[action.index()].as_ref()
    }

    /// The rules that speak of an action, in the order in which they take their users.
    pub fn steps(&self, site: usize, action: ActionId) -> Rc<[Step]> {
        Rc::clone(&self.action(site, action).expect("it has a meaning").steps)
    }

    pub fn set_runs(&mut self, site: usize, action: ActionId, runs: &Rc<Runs>) {
        if let Some(of) = &mut self.sites[site].actions[action.index()] {
            of.runs = Some(Rc::clone(runs));
        }
    }

    pub fn set_constant(&mut self, site: usize, action: ActionId, outcome: super::OutcomeId) {
        if let Some(of) = &mut self.sites[site].actions[action.index()] {
            of.constant = Some(outcome);
        }
    }
}

impl<'s> Evaluator<'s> {
    /// The site of a resource.
    pub(super) fn site(&mut self, resource: ResourceId) -> usize {
        let (plan, estate) = (self.plan, self.estate);
        let kind = self.cells.kind(resource);
        let class = plan.places.descent.class(resource, self.cells.parent(resource));
        let at = class as usize * estate.schema().kinds.len() + kind.index();
        if self.sites.of[at] != NOWHERE {
            return self.sites.of[at] as usize;
        }
        let all = plan.everywhere.iter().chain(plan.places.lists[class as usize].iter());
        let reaches = |(id, _): &&Anchored| estate.schema().is_any(kind, estate.statement(*id).what.kinds.as_deref());
        let mut reached: Vec<(u32, u16)> =
            all.filter(reaches).map(|(id, depth)| (plan.rule_of[id.index()], *depth)).collect();
        // Two lists in order: that is told, and takes one pass.
        reached.sort_by_key(|(rule, _)| *rule);
        let number = self.site_of_rules(kind, reached.into());
        self.sites.of[at] = number;
        number as usize
    }

    /// The site of a resource that nothing reaches.
    pub(super) fn bare_site(&mut self, resource: ResourceId) -> usize {
        let kind = self.cells.kind(resource);
        self.site_of_rules(kind, [].into()) as usize
    }

    fn site_of_rules(&mut self, kind: KindId, reached: Rc<[(u32, u16)]>) -> u32 {
        let key = (self.sites.fitting[kind.index()], reached);
        if let Some(known) = self.sites.known.get(&key) {
            return *known;
        }
        let site = self.new_site(kind, Rc::clone(&key.1));
        let number = self.sites.sites.len() as u32;
        self.sites.sites.push(site);
        self.sites.known.insert(key, number);
        number
    }

    fn new_site(&mut self, kind: KindId, reached: Rc<[(u32, u16)]>) -> Site {
        let (plan, estate) = (self.plan, self.estate);
        let schema = estate.schema();
        let actions = ActionId::all(schema.actions.len()).map(|action| {
            if !self.sites.wanted.contains(action.index()) || !schema.fits(action, kind) {
                return None;
            }
            let speaking =
                reached.iter().filter(|(rule, _)| plan.rules[*rule as usize].speaks.contains(action.index()));
            let mut steps: Vec<Step> = speaking
                .filter_map(|(rule, depth)| {
                    let id = plan.rules[*rule as usize].id;
                    step(estate, estate.statement(id), *rule, id, *depth, action)
                })
                .collect();
            steps.sort_unstable_by_key(|step| step.key);
            let varies = |step: &&Step| !plan.rules[step.rule as usize].constant;
            let varying: Rc<[Step]> = steps.iter().filter(varies).copied().collect();
            let needs = &schema.actions[action.index()].needs;
            let is_constant = varying.is_empty() && needs.is_empty() && estate.layers().is_empty();
            let number = self.sites.speaking.len() as u32;
            let steps = steps.into_boxed_slice();
            let speaking = *self.sites.speaking.entry(steps.clone()).or_insert(number);
            let parted = self.folds.of(estate, plan, speaking, &varying);
            Some(SiteAction { parted, speaking, steps: steps.into(), varying, runs: None, constant: None, is_constant })
        });
        let actions: Box<[Option<SiteAction>]> = actions.collect();
        let order = ActionId::all(actions.len()).filter(|action| actions[action.index()].is_some()).collect();
        let mut layers: Vec<(LayerId, Option<u32>)> = Vec::new();
        if !estate.layers().is_empty() {
            let rules = reached.iter().map(|(rule, _)| *rule);
            layers.extend(rules.filter(|rule| is_weighed(plan, *rule)).map(|rule| {
                let of = &plan.rules[rule as usize];
                (of.layer, of.covering.is_some().then_some(rule))
            }));
        }
        Site { reached, actions, order, layers: layers.into() }
    }

    /// The layer that controls the resource at hand: the first with a `may` or `may not` whose what covers it.
    pub(super) fn layer(&mut self, work: &mut Work<'s>) -> Option<LayerId> {
        let plan = self.plan;
        let mut first: Option<LayerId> = None;
        for at in 0..self.sites.get(work.site).layers.len() + work.own.len() {
            let (layer, covering) = match self.sites.get(work.site).layers.get(at) {
                Some(known) => *known,
                None => {
                    let (rule, _) = work.own[at - self.sites.get(work.site).layers.len()];
                    if !is_weighed(plan, rule) {
                        continue;
                    }
                    (plan.rules[rule as usize].layer, None)
                }
            };
            let covers = |of: &mut Self, work: &mut Work<'s>| match covering {
                Some(rule) => {
                    let expr = plan.rules[rule as usize].covering.as_ref().expect("asked before");
                    of.covers(work, expr)
                }
                None => true,
            };
            if first.is_none_or(|first| layer < first) && covers(self, work) {
                first = Some(layer);
            }
        }
        first
    }

    fn covers(&mut self, work: &mut Work<'s>, expr: &Expr) -> bool {
        match expr {
            Expr::Set(set) => *set != SetId::NONE,
            Expr::Bit(atom) => self.bit(work, *atom),
            Expr::Not(inner) => !self.covers(work, inner),
            Expr::And(parts) => parts.iter().all(|part| self.covers(work, part)),
            Expr::Or(parts) => parts.iter().any(|part| self.covers(work, part)),
            Expr::Held(..) | Expr::Leaf(_) | Expr::Ask(..) => unreachable!("nothing of the user is asked for"),
        }
    }
}

/// Whether a rule is weighed: only those say which layer controls a resource.
fn is_weighed(plan: &Plan, rule: u32) -> bool {
    matches!(plan.rules[rule as usize].modality, Modality::May | Modality::MayNot)
}
