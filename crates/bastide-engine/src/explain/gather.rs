//! Gathers an [`Explanation`] from the specification evaluator.

use super::conditions::{causes, holds};
use super::*;
use crate::decide::{Candidate, Candidates, Decision, RED_ZONE, ReferenceEvaluator, SEGMENT, targets};
use crate::evaluate::Evaluator;
use crate::snapshot::Snapshot;
use bastide_model::condition::Term;
use bastide_model::schema::Need;
use bastide_model::show;
use bastide_model::*;

/// Explains one decision.
pub fn explain(reference: &ReferenceEvaluator, user: UserId, action: ActionId, resource: ResourceId) -> Explanation {
    let estate = reference.estate();
    let candidates = reference.candidates(resource);
    let decision = reference.decide(user, action, resource);
    let asked = Question { reference, user, action, resource, candidates: &candidates, decision };
    let applying = asked.applying();
    let needs = if asked.fits() { asked.needs() } else { Vec::new() };
    let cut_off = if asked.fits() { asked.cut_off() } else { Vec::new() };
    let undecided = reference.favourable().decide(user, action, resource).is_allowed() != decision.is_allowed();
    let mut explanation = Explanation {
        user: UserRef {
            id: estate.people().id(user).to_string(),
            name: estate.people().name(user).to_string(),
            kind: estate.people().kind(user).to_string(),
            active: estate.people().is_active(user),
        },
        action: estate.schema().actions[action.index()].name.clone(),
        resource: ResourceRef {
            id: estate.catalog().id(resource).to_string(),
            path: estate.catalog().path(resource),
            kind: estate.schema().kinds[estate.catalog().kind(resource).index()].name.clone(),
            state: estate.catalog().states.get(resource.index()).map(|s| estate.schema().show(s)),
        },
        date: reference.moment().date.to_string(),
        allowed: decision.is_allowed(),
        reason: decision.reason,
        reasons: asked.reasons(&needs),
        sentence: String::new(),
        layer: candidates
            .layer
            .filter(|_| asked.fits())
            .map(|layer| estate.layers().get(layer.index()).cloned().unwrap_or_else(|| "rest".to_string())),
        barrier: (!cut_off.is_empty()).then(|| estate.catalog().path(asked.barrier())),
        cut_off: cut_off.iter().map(|id| StatementRef::new(estate, *id)).collect(),
        applying,
        passing: asked.passing(),
        needs,
        undecided,
    };
    explanation.sentence = asked.sentence();
    explanation
}

struct Question<'j, 'e> {
    reference: &'j ReferenceEvaluator<'e>,
    user: UserId,
    action: ActionId,
    resource: ResourceId,
    candidates: &'j Candidates,
    decision: Decision,
}

impl Question<'_, '_> {
    fn estate(&self) -> &Estate {
        self.reference.estate()
    }

    fn fits(&self) -> bool {
        self.estate().schema().fits(self.action, self.estate().catalog().kind(self.resource))
    }

    /// Whether a statement speaks of the action: lists it, or as a ceiling does not.
    fn speaks(&self, statement: &Statement) -> bool {
        statement.actions.contains(self.action.index()) != (statement.modality == Modality::MayOnly)
    }

    fn speaking(&self) -> impl Iterator<Item = (&Candidate, &Statement)> {
        let all = self.candidates.list.iter().map(|c| (c, self.estate().statement(c.id)));
        all.filter(|(_, s)| self.speaks(s)).filter(|_| self.fits())
    }

    fn applying(&self) -> Vec<Applying> {
        let applying = self.speaking().filter(|(c, _)| self.reference.applies(c, self.user, self.resource));
        applying
            .map(|(candidate, statement)| Applying {
                statement: StatementRef::new(self.estate(), candidate.id),
                fate: self.fate(candidate, statement),
                ways: ways(self.reference, statement, self.user, Some(self.resource)),
                place: self.place_chain(candidate, statement),
                holds: self.holds(statement),
                missing: self.open(candidate, statement),
            })
            .collect()
    }

    /// Why its conditions hold, value by value.
    fn holds(&self, statement: &Statement) -> Vec<Holds> {
        statement.conditions().flat_map(|c| holds(self.reference, c, self.user, self.resource)).collect()
    }

    fn fate(&self, candidate: &Candidate, statement: &Statement) -> Fate {
        if self.decision.by == Some(candidate.id) {
            return Fate::Decides;
        }
        let weighed = matches!(statement.modality, Modality::May | Modality::MayNot);
        if weighed && !self.reference.controls(self.candidates, statement) {
            let layer = self.candidates.layer.and_then(|layer| self.estate().layers().get(layer.index()));
            let layer = layer.map_or("rest", String::as_str);
            return Fate::Lost { to: format!("layer `{layer}`, which controls the resource") };
        }
        let Some(by) = self.decision.by else {
            let to = match self.decision.reason {
                Reason::Inactive => "the user is not active".to_string(),
                _ => "nothing: it does not come to it".to_string(),
            };
            return Fate::Lost { to };
        };
        let winner = self.estate().statement(by);
        if statement.modality.permits() == winner.modality.permits() {
            return Fate::Agrees;
        }
        let name = format!("{} `{}`", sort(winner), winner.name);
        let why = match (winner.modality, self.estate().combining()) {
            (Modality::MayNever, _) => ", which nothing overrides".to_string(),
            (Modality::MayOnly, _) => ", a ceiling that nothing overrides".to_string(),
            (Modality::MayAlways, _) => ", which no `may not` overrides".to_string(),
            (_, combining) => format!(", by {}", combining.name()),
        };
        Fate::Lost { to: format!("{name}{why}") }
    }

    /// From the deepest place that counts down to the resource.
    fn place_chain(&self, candidate: &Candidate, statement: &Statement) -> Vec<String> {
        let catalog = self.estate().catalog();
        if statement.what.places.is_none() {
            return Vec::new();
        }
        let mut names: Vec<String> = catalog
            .upward(self.resource)
            .take_while(|r| catalog.depth(*r) >= candidate.depth)
            .map(|r| catalog.name(r).to_string())
            .collect();
        names.reverse();
        names
    }

    /// Missing values that leave open whether the statement applies.
    fn open(&self, candidate: &Candidate, statement: &Statement) -> Vec<String> {
        if self.reference.truth(candidate, self.user, self.resource) == Truth::Unknown {
            self.not_so(statement, Truth::Unknown)
        } else {
            Vec::new()
        }
    }

    /// What makes a statement's who, where or while false or unknown.
    fn not_so(&self, statement: &Statement, wanted: Truth) -> Vec<String> {
        let (reference, user, resource) = (self.reference, self.user, self.resource);
        let mut found = Vec::new();
        let terms = statement.who.terms.iter().map(|t| reference.term(t, user, Some(resource)));
        let meant = terms.fold(Truth::False, Truth::or);
        if meant == wanted {
            let shown: Vec<String> = statement.who.terms.iter().map(|t| show::term(self.estate(), t)).collect();
            let what = match (wanted, statement.who.terms.as_slice()) {
                (Truth::Unknown, [Term::Owner]) => "the resource has no owner".to_string(),
                (Truth::Unknown, _) => format!("whether the user is meant by `{}` cannot be said", shown.join(", ")),
                _ => format!("the user is not meant by `{}`", shown.join(", ")),
            };
            found.push(what);
        }
        for condition in statement.conditions() {
            found.extend(causes(reference, condition, user, resource, wanted));
        }
        found
    }

    /// Statements that would mean the user here and say nothing, since every role they list is off.
    fn without_effect(&self) -> Vec<Passing> {
        let estate = self.estate();
        let date = self.reference.moment().date;
        let all = StatementId::all(estate.statements().len()).map(|id| (id, estate.statement(id)));
        let idle = all.filter(|(_, s)| !s.off && s.actions.is_clear() && s.in_date(date));
        let here = idle.filter(|(_, s)| {
            crate::decide::place::covers(estate, s, self.resource).is_some()
                && self.reference.who(&s.who, self.user, Some(self.resource)) != Truth::False
        });
        here.map(|(id, _)| Passing {
            statement: StatementRef::new(estate, id),
            because: vec!["every role it lists is off or empty, so that it says nothing".to_string()],
            undecided: false,
        })
        .collect()
    }

    fn passing(&self) -> Vec<Passing> {
        let idle = self.without_effect();
        let passing = self.speaking().filter(|(c, _)| !self.reference.applies(c, self.user, self.resource));
        passing
            .map(|(candidate, statement)| {
                let truth = self.reference.truth(candidate, self.user, self.resource);
                Passing {
                    statement: StatementRef::new(self.estate(), candidate.id),
                    because: self.not_so(statement, truth),
                    undecided: truth == Truth::Unknown,
                }
            })
            .chain(idle)
            .collect()
    }

    /// Statements that would reach the resource from above the barrier, mean the user and speak of
    /// the action. With a `where` that is false here they would not apply anyway.
    fn cut_off(&self) -> Vec<StatementId> {
        let estate = self.estate();
        let catalog = estate.catalog();
        let cut = |s: &Statement| {
            let within =
                s.what.places.as_ref().is_some_and(|places| {
                    places.iter().any(|p| crate::decide::place::reaches(catalog, p, self.resource))
                });
            let kind = estate.schema().is_any(catalog.kind(self.resource), s.what.kinds.as_deref());
            within && kind && crate::decide::place::covers(estate, s, self.resource).is_none()
        };
        let means = |s: &Statement| {
            let ask = |c: &bastide_model::condition::Condition| {
                self.reference.condition(c, Some(self.user), Some(self.resource)) != Truth::False
            };
            self.reference.who(&s.who, self.user, Some(self.resource)) != Truth::False
                && s.what.condition.as_ref().is_none_or(ask)
                && s.condition.as_ref().is_none_or(ask)
        };
        let live = self.reference.live.iter().copied();
        live.filter(|id| {
            let s = estate.statement(*id);
            self.speaks(s) && cut(s) && means(s)
        })
        .collect()
    }

    /// The barrier above which [`Question::cut_off`] statements stand.
    fn barrier(&self) -> ResourceId {
        let catalog = self.estate().catalog();
        let depth = catalog.barrier_depths[self.resource.index()];
        catalog.upward(self.resource).find(|r| catalog.depth(*r) == depth).unwrap_or(self.resource)
    }

    fn needs(&self) -> Vec<NeedNode> {
        needs(self.reference, self.user, self.action, self.resource)
    }

    /// Every reason that fits, whichever step would report it first.
    fn reasons(&self, needs: &[NeedNode]) -> Vec<Reason> {
        if !self.fits() {
            return vec![Reason::Silent];
        }
        let mut reasons = Vec::new();
        if !self.estate().people().is_active(self.user) {
            reasons.push(Reason::Inactive);
        }
        let applies = |wanted: &[Modality]| {
            self.speaking()
                .any(|(c, s)| wanted.contains(&s.modality) && self.reference.applies(c, self.user, self.resource))
        };
        if applies(&[Modality::MayNever, Modality::MayOnly]) {
            reasons.push(Reason::Capped);
        }
        let weighed = self.reference.combined(self.candidates, self.user, self.action, self.resource);
        let permitted = if applies(&[Modality::MayAlways]) { Reason::Assured } else { weighed };
        if !permitted.is_allowed() || (reasons.is_empty() && needs.iter().all(|n| n.met)) {
            reasons.push(permitted);
        }
        if permitted.is_allowed() && needs.iter().any(|n| !n.met) {
            reasons.push(Reason::Blocked);
        }
        reasons
    }

    fn sentence(&self) -> String {
        let unmet = || {
            let reference = self.reference;
            unmet(self.estate(), self.action, self.resource, |action, target| {
                reference.allows(self.user, action, target)
            })
        };
        sentence(
            self.estate(),
            (self.user, self.action, self.resource),
            (self.decision.reason, self.decision.by),
            unmet,
        )
    }
}

/// The first need of an action on a resource that is not met, and where; nowhere, where what it leads to is missing.
fn unmet(
    estate: &Estate,
    action: ActionId,
    resource: ResourceId,
    mut allows: impl FnMut(ActionId, ResourceId) -> bool,
) -> Option<(Need, Option<ResourceId>)> {
    for need in &estate.schema().actions[action.index()].needs {
        let targets = targets(estate, resource, need.target);
        if targets.unmet {
            return Some((*need, None));
        }
        if let Some(target) = targets.found.into_iter().find(|target| !allows(need.action, *target)) {
            return Some((*need, Some(target)));
        }
    }
    None
}

impl Snapshot {
    /// Explains one decision; see [`explain`].
    pub fn explain(&self, user: UserId, action: ActionId, resource: ResourceId) -> Explanation {
        explain(&self.reference(), user, action, resource)
    }
}

/// A decision in one sentence, as [`explain`] tells it, by what the set engine decides. Cost: a decision, and where it is refused
/// for a need, one for each need.
pub fn in_a_sentence(engine: &mut Evaluator, user: UserId, action: ActionId, resource: ResourceId) -> String {
    let estate = engine.estate();
    let cause = engine.cause_on(user, action, resource);
    let unmet =
        || unmet(estate, action, resource, |action, target| engine.cause_on(user, action, target).0.is_allowed());
    sentence(estate, (user, action, resource), cause, unmet)
}

fn sentence(
    estate: &Estate,
    (user, action, resource): (UserId, ActionId, ResourceId),
    (reason, by): (Reason, Option<StatementId>),
    unmet: impl FnOnce() -> Option<(Need, Option<ResourceId>)>,
) -> String {
    let can = if reason.is_allowed() { "can" } else { "cannot" };
    let (id, name) = (estate.people().id(user), estate.people().name(user));
    let called = if name == id { id.to_string() } else { format!("{name} ({id})") };
    let named = |action: ActionId| &estate.schema().actions[action.index()].name;
    let kind = estate.catalog().kind(resource);
    let head = format!("{called} {can} {} `{}`", named(action), estate.catalog().path(resource));
    let by_what = |what: &str| match by.map(|by| StatementRef::new(estate, by)) {
        Some(by) if by.sort == "rule" => format!("rule `{}` ({}) {what}", by.name, by.place),
        Some(by) => format!("entry `{}` {what}", by.name),
        None => what.to_string(),
    };
    let why = match reason {
        Reason::Granted => by_what("permits it"),
        Reason::Assured => by_what("assures it"),
        Reason::Inactive => "the user is not active".to_string(),
        Reason::Capped => by_what(match by.map(|by| estate.statement(by).modality) {
            Some(Modality::MayOnly) => "allows other actions only",
            _ => "prohibits it",
        }),
        Reason::Denied => by_what("denies it"),
        Reason::Silent if !estate.schema().fits(action, kind) => {
            format!("{} has no meaning for a {}", named(action), estate.schema().kinds[kind.index()].name)
        }
        Reason::Silent => "nothing permits it".to_string(),
        Reason::Blocked => match unmet() {
            Some((need, Some(target))) => {
                let (need, path) = (named(need.action), estate.catalog().path(target));
                format!("it is permitted, but {} needs {need} on `{path}`, which is refused", named(action))
            }
            Some((need, None)) => {
                let (need, target) = (named(need.action), show::target(estate, need.target));
                format!("it is permitted, but {} needs {need} on {target}, and there is none", named(action))
            }
            None => "a need is not met".to_string(),
        },
    };
    format!("{head}: {why}")
}

fn sort(statement: &Statement) -> &'static str {
    match statement.sort {
        bastide_model::statement::Sort::Rule => "rule",
        bastide_model::statement::Sort::Entry => "entry",
    }
}

/// The needs of a decision and whether they are met, to the bottom.
fn needs(reference: &ReferenceEvaluator, user: UserId, action: ActionId, resource: ResourceId) -> Vec<NeedNode> {
    let estate = reference.estate();
    let mut nodes = Vec::new();
    for need in &estate.schema().actions[action.index()].needs {
        let targets = targets(estate, resource, need.target);
        if targets.unmet {
            nodes.push(node(reference, user, *need, None));
        }
        for target in targets.found {
            nodes.push(node(reference, user, *need, Some(target)));
        }
    }
    nodes
}

fn node(reference: &ReferenceEvaluator, user: UserId, need: Need, target: Option<ResourceId>) -> NeedNode {
    let estate = reference.estate();
    let decision = target.map(|target| reference.decide(user, need.action, target));
    NeedNode {
        action: estate.schema().actions[need.action.index()].name.clone(),
        target: show::target(estate, need.target),
        path: target.map(|target| estate.catalog().path(target)),
        met: decision.is_some_and(Decision::is_allowed),
        reason: decision.map(|d| d.reason),
        by: decision.and_then(|d| d.by).map(|by| StatementRef::new(estate, by)),
        needs: target.map_or(Vec::new(), |target| {
            stacker::maybe_grow(RED_ZONE, SEGMENT, || needs(reference, user, need.action, target))
        }),
    }
}
