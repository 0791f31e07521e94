//! That no decision depends on itself (stratification).
//!
//! A decision is a node (action, resource). It depends on the decisions its needs and the `holds`
//! of its statements ask for. Going up the tree never closes a circle, so the exact search runs
//! only where a summary over actions alone leaves one possible: a circle of edges that all stay on
//! the resource, or one that takes an edge to a source or to a fixed place. A circle over sources
//! takes resources that lead to each other by sources and by going up: a summary over resources
//! alone tells that there are none, before anything is looked at by action and resource.

use super::place::covers;
use super::{ReferenceEvaluator, targets};
use bastide_model::condition::{Condition, HoldsTarget};
use bastide_model::graph::{cycles, has_cycle};
use bastide_model::groups::Computed;
use bastide_model::schema::Target;
use bastide_model::*;
use bastide_syntax::{Diagnostic, codes};
use hashbrown::HashSet;
use jiff::civil::Date;
use std::collections::BTreeSet;

/// Where an edge leads, seen from a resource.
#[derive(Clone, Copy, PartialEq, Eq)]
enum EdgeWay {
    Relative(Target),
    Place(ResourceId),
}

/// One edge: the action asked for, where, and what asks.
struct Edge {
    action: ActionId,
    way: EdgeWay,
    by: EdgeBy,
}

impl Edge {
    fn place(&self) -> Option<ResourceId> {
        if let EdgeWay::Place(place) = self.way { Some(place) } else { None }
    }
}

#[derive(Clone, Copy)]
enum EdgeBy {
    Need,
    Statement(StatementId),
}

/// A decision and the edge that led to it.
type Node = (ActionId, ResourceId);

/// Checks that no decision depends on itself on this date.
pub fn stratification(estate: &Estate, date: Date) -> Vec<Diagnostic> {
    let edges = edges(estate, date);
    let suspects = suspects(&edges);
    if suspects.iter().all(|s| !s) {
        return Vec::new();
    }
    let next = |(action, resource): Node| -> Vec<Node> {
        steps(estate, &edges, action, resource).filter(|(n, _)| suspects[n.0.index()]).map(|(n, _)| n).collect()
    };
    let actions: Vec<ActionId> = ActionId::all(suspects.len()).filter(|a| suspects[a.index()]).collect();
    // Every circle takes an edge that stays, goes to a place, or goes to a source: it is met from where these lead.
    if !stays(&edges) && !sources_may_circle(estate, &edges) {
        let places: BTreeSet<ResourceId> = edges.iter().flatten().filter_map(|edge| edge.place()).collect();
        let nodes: Vec<Node> = places.iter().flat_map(|place| actions.iter().map(|a| (*a, *place))).collect();
        if cycles(&nodes, next).is_empty() {
            return Vec::new();
        }
    }
    let nodes: Vec<Node> = actions.iter().flat_map(|a| estate.catalog().all().map(|r| (*a, r))).collect();
    let mut told: HashSet<Vec<ActionId>> = HashSet::new();
    let mut out = Vec::new();
    for cycle in cycles(&nodes, next) {
        // The same circle of actions on a thousand resources is one mistake.
        let mut actions: Vec<ActionId> = cycle.iter().map(|(a, _)| *a).collect();
        actions.sort();
        if told.insert(actions) {
            out.push(describe(estate, &edges, &cycle));
        }
    }
    out
}

/// Whether an action can come back to itself by edges that all stay on the resource.
fn stays(edges: &[Vec<Edge>]) -> bool {
    (0..edges.len()).any(|action| reached(edges, action, true)[action])
}

/// Whether resources lead to each other by sources, and by going up where any edge does. Where one of its sources lies beneath
/// a resource, that is a circle, too. Cost: the resources and their sources.
fn sources_may_circle(estate: &Estate, edges: &[Vec<Edge>]) -> bool {
    let catalog = estate.catalog();
    let is = |way: fn(&Target) -> bool| {
        edges.iter().flatten().any(|edge| if let EdgeWay::Relative(target) = &edge.way { way(target) } else { false })
    };
    if catalog.sources.is_empty() || !is(|target| *target == Target::Source) {
        return false;
    }
    let goes_up = is(|target| matches!(target, Target::Parent | Target::Kind(_)));
    // At or above each resource, the nearest one that has sources: from elsewhere, no circle comes back by them.
    let mut nearest: Vec<Option<ResourceId>> = vec![None; catalog.len()];
    for resource in catalog.all() {
        nearest[resource.index()] = match catalog.parent(resource) {
            _ if !catalog.sources(resource).is_empty() => Some(resource),
            Some(parent) if goes_up => nearest[parent.index()],
            _ => None,
        };
    }
    let next = |resource: usize| {
        let resource = ResourceId::new(resource);
        let sources = catalog.sources(resource).iter();
        let sources =
            sources.filter_map(|source| if let Source::Resource(found) = source { Some(*found) } else { None });
        let above = catalog.parent(resource).filter(|_| goes_up);
        sources.chain(above).filter_map(|to| nearest[to.index()]).map(|to| to.index())
    };
    has_cycle(catalog.len(), catalog.sources.linked().iter().map(|resource| resource.index()), next)
}

fn edges(estate: &Estate, date: Date) -> Vec<Vec<Edge>> {
    let count = estate.schema().actions.len();
    let mut edges: Vec<Vec<Edge>> = (0..count).map(|_| Vec::new()).collect();
    for (i, action) in estate.schema().actions.iter().enumerate() {
        edges[i].extend(action.needs.iter().map(|n| Edge {
            action: n.action,
            way: EdgeWay::Relative(n.target),
            by: EdgeBy::Need,
        }));
    }
    for (i, statement) in estate.statements().iter().enumerate() {
        if !statement.is_on() || !statement.in_date(date) {
            continue;
        }
        let asked = asked(estate, statement);
        // A ceiling takes away what it does not list, so those decisions depend on it.
        let ceiling = statement.modality == Modality::MayOnly;
        for action in (0..count).filter(|a| statement.actions.contains(*a) != ceiling) {
            let by = EdgeBy::Statement(StatementId::new(i));
            edges[action].extend(asked.iter().map(|&(action, way)| Edge { action, way, by }));
        }
    }
    edges
}

impl<'e> ReferenceEvaluator<'e> {
    /// For a moment. It stands here, and not with what it decides: that nothing depends on itself is seen before.
    ///
    /// # Errors
    /// The decisions that would depend on themselves on that date.
    pub fn new(estate: &'e Estate, moment: &'e Moment) -> Result<Self, Vec<Diagnostic>> {
        let cycles = stratification(estate, moment.date);
        if cycles.is_empty() { Ok(Self::unchecked(estate, moment)) } else { Err(cycles) }
    }
}

/// What the conditions of a statement and the computed groups it names ask for.
fn asked(estate: &Estate, statement: &Statement) -> Vec<(ActionId, EdgeWay)> {
    let mut asked = Vec::new();
    let mut groups: Vec<GroupId> = statement.groups();
    statement.conditions().for_each(|condition| holds(condition, &mut asked));
    let mut seen: HashSet<GroupId> = groups.iter().copied().collect();
    while let Some(group) = groups.pop() {
        match estate.groups().computed(group) {
            Some(Computed::Holders(action, places)) => {
                asked.extend(places.iter().map(|p| (*action, EdgeWay::Place(*p))))
            }
            Some(Computed::Who(who)) => who.condition.iter().for_each(|c| holds(c, &mut asked)),
            None => {}
        }
        groups.extend(estate.groups().named(group).into_iter().filter(|g| seen.insert(*g)));
    }
    asked
}

fn holds(condition: &Condition, asked: &mut Vec<(ActionId, EdgeWay)>) {
    asked.extend(condition.decisions().filter_map(|(action, target)| match target {
        HoldsTarget::Relative(target) => Some((action, EdgeWay::Relative(target))),
        HoldsTarget::Place(place) => Some((action, EdgeWay::Place(place))),
        HoldsTarget::Nowhere => None,
    }));
}

/// The actions to which one leads; with `stay`, by edges that stay on the resource.
fn reached(edges: &[Vec<Edge>], from: usize, stay: bool) -> Vec<bool> {
    let mut seen = vec![false; edges.len()];
    let mut queue = vec![from];
    while let Some(at) = queue.pop() {
        for edge in &edges[at] {
            let next = edge.action.index();
            if (!stay || edge.way == EdgeWay::Relative(Target::Own)) && !std::mem::replace(&mut seen[next], true) {
                queue.push(next);
            }
        }
    }
    seen
}

/// Actions through which a circle may run: those that can come back to themselves by edges that
/// stay on the resource, or by a way that takes an edge to a source or a fixed place.
fn suspects(edges: &[Vec<Edge>]) -> Vec<bool> {
    let all: Vec<Vec<bool>> = (0..edges.len()).map(|a| reached(edges, a, false)).collect();
    let mut suspects: Vec<bool> = (0..edges.len()).map(|a| reached(edges, a, true)[a]).collect();
    for (a, list) in edges.iter().enumerate() {
        for edge in list {
            let b = edge.action.index();
            let far = matches!(edge.way, EdgeWay::Place(_) | EdgeWay::Relative(Target::Source));
            if far && (a == b || all[b][a]) {
                for c in 0..edges.len() {
                    suspects[c] |= c == a || c == b || (all[a][c] && all[c][a]);
                }
            }
        }
    }
    suspects
}

/// The decisions one decision asks for, each with what asks.
fn steps<'a>(
    estate: &'a Estate,
    edges: &'a [Vec<Edge>],
    action: ActionId,
    resource: ResourceId,
) -> impl Iterator<Item = (Node, EdgeBy)> + 'a {
    let fits = estate.schema().fits(action, estate.catalog().kind(resource));
    let list: &[Edge] = if fits { &edges[action.index()] } else { &[] };
    list.iter().flat_map(move |edge| {
        let applies = match edge.by {
            EdgeBy::Need => true,
            EdgeBy::Statement(id) => covers(estate, estate.statement(id), resource).is_some(),
        };
        let targets = match edge.way {
            _ if !applies => Vec::new(),
            EdgeWay::Place(place) => vec![place],
            EdgeWay::Relative(target) => targets(estate, resource, target).found,
        };
        targets.into_iter().map(|t| ((edge.action, t), edge.by))
    })
}

fn describe(estate: &Estate, edges: &[Vec<Edge>], cycle: &[Node]) -> Diagnostic {
    let show = |(action, resource): Node| {
        format!("`{}` on `{}`", estate.schema().actions[action.index()].name, estate.catalog().path(resource))
    };
    let first = cycle[0];
    let action = &estate.schema().actions[first.0.index()];
    let message = format!("{} depends on itself", show(first));
    let mut diagnostic = Diagnostic::at(&codes::DECISION_CYCLE, action.span, message);
    for (i, node) in cycle.iter().enumerate() {
        let to = cycle[(i + 1) % cycle.len()];
        let by = steps(estate, edges, node.0, node.1).find(|(n, _)| *n == to).map(|(_, by)| by);
        let by = match by {
            Some(EdgeBy::Statement(id)) => {
                let statement = estate.statement(id);
                format!("`{}` ({}) asks for", statement.name, estate.place(statement.origin))
            }
            _ => "needs".to_string(),
        };
        diagnostic = diagnostic.note(format!("{}: {by} {}", show(*node), show(to)));
    }
    diagnostic
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_testkit::Case;
    use jiff::civil::date;

    /// Small trees with links, in which what is needed goes up, to sources and to places in every mixture.
    fn case(random: &mut fastrand::Rng) -> Case {
        let targets = ["on parent", "on source", "on folder", ""];
        let actions = ["read", "open", "print"];
        let mut policy = "kind stream\nkind folder in stream, folder\nkind item in stream, folder\n".to_string();
        for action in actions {
            policy += &format!("action {action}");
            let needs: Vec<String> = (0..random.usize(0..3))
                .map(|_| {
                    let most = if random.u8(..8) == 0 { 4 } else { 2 };
                    let target = targets[random.usize(..most)];
                    format!("{} {target}", actions[random.usize(..3)])
                })
                .collect();
            if !needs.is_empty() {
                policy += &format!(" needs {}", needs.join(", "));
            }
            policy += "\n";
        }
        if random.u8(..4) == 0 {
            let (does, asks) = (actions[random.usize(..3)], actions[random.usize(..3)]);
            policy += &format!("rule r {{ who user a may {does} what anything where holds {asks} on \"n2\" }}\n");
        }
        let mut order: Vec<usize> = (0..8).collect();
        random.shuffle(&mut order);
        let mut catalog = "id,parent,kind,name,sources\n".to_string();
        for at in 0..8usize {
            let parent = if at < 3 { String::new() } else { format!("n{}", random.usize(..at.min(5))) };
            let kind = ["stream", "folder", "item"][usize::from(at >= 3) + usize::from(at >= 5)];
            // Links by themselves never go in a circle: that is another mistake.
            let before = order.iter().position(|other| *other == at).expect("they are all there");
            let sources = (0..random.usize(..=before.min(2))).map(|_| format!("n{}", order[random.usize(..before)]));
            let sources: Vec<String> = sources.collect();
            catalog += &format!("n{at},{parent},{kind},n{at},{}\n", sources.join(";"));
        }
        let mut case = Case::default();
        let manifest = "name = \"small\"\npolicy = [\"policy.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n";
        case.set("bastide.toml", manifest.to_string());
        case.set("policy.bastide", policy);
        case.set("people.csv", "id,name,kind\na,a,person\n".to_string());
        case.set("catalog.csv", catalog);
        case
    }

    /// What is told before anything is looked at by action and resource is what the whole search tells.
    #[test]
    fn circles_are_told_as_by_looking_at_every_decision() {
        let mut random = fastrand::Rng::with_seed(11);
        let (mut with, mut without, mut linked) = (0, 0, 0);
        for _ in 0..3000 {
            let case = case(&mut random);
            let Some(estate) = case.load().estate else { continue };
            let day = date(2026, 11, 24);
            let edges = edges(&estate, day);
            let actions = || ActionId::all(estate.schema().actions.len());
            let nodes: Vec<Node> = estate.catalog().all().flat_map(|r| actions().map(move |a| (a, r))).collect();
            let next = |(action, resource): Node| steps(&estate, &edges, action, resource).map(|(n, _)| n).collect();
            let circle = !cycles(&nodes, next).is_empty();
            assert_eq!(!stratification(&estate, day).is_empty(), circle, "{:#?}", case.files());
            with += usize::from(circle);
            without += usize::from(!circle);
            linked += usize::from(!circle && !estate.catalog().sources.is_empty());
        }
        assert!(with > 60 && without > 300 && linked > 200, "{with} with circles, {without} without, {linked} linked");
    }
}
