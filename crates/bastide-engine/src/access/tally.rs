//! What everybody may do on everything, counted: from the sets and how often each occurs, never from pairs.
//!
//! Each core makes the rows of a share of the resources with an engine of its own. Then what was made is counted in pieces of
//! about the same work: equal decisions at once, and for the owners among them what is otherwise.

use super::{Done, Profiles};
use crate::decide::Reason;
use crate::sets::store::SetStore;
use crate::sets::{self, Book, Outcome, OutcomeId, Part, SetEngine, ViewsId};
use bastide_model::*;
use rayon::prelude::*;
use std::ops::Range;
use std::sync::Mutex;

/// An engine takes so many resources at a time, and tells of them.
pub(super) const STEP: u32 = 4096;
/// What was made is counted in so many pieces a core, so that none waits long for the other.
const PIECES: usize = 2;
/// Fingerprints are counted in so many heaps, by how they begin.
const HEAPS: usize = 64;

/// Totals of everybody on everything.
pub(super) struct Tally {
    /// Allowed triples by kind and action.
    pub allowed: Vec<Vec<u64>>,
    /// Triples by reason.
    pub reasons: [u64; Reason::ALL.len()],
    /// Who may do the same everywhere.
    pub profiles: Profiles,
    /// How many rows of the matrix differ from each other.
    pub distinct: usize,
}

impl Tally {
    /// Counts the resources of each share with an engine of its own.
    pub fn of(engines: Vec<SetEngine>, shares: Vec<Range<u32>>, done: Done) -> Tally {
        let estate = engines[0].estate();
        let work = Work { left: shares.into_iter().map(Mutex::new).collect() };
        let made: Vec<Made> = engines
            .into_par_iter()
            .with_max_len(1)
            .enumerate()
            .map(|(share, engine)| Made::of(engine, &work, share, done))
            .collect();
        let random = Random::new(estate);
        let prints: Vec<Vec<u128>> = made.iter().map(|made| random.prints(made)).collect();
        let pieces: Vec<(&Made, Prints, Range<usize>)> = made
            .iter()
            .zip(&prints)
            .flat_map(|(made, of)| {
                let prints = Prints { of, random: &random };
                made.pieces().into_iter().map(move |piece| (made, prints, piece))
            })
            .collect();
        let counted: Vec<Counts> = pieces
            .into_par_iter()
            .with_max_len(1)
            .map(|(made, prints, piece)| Counts::of(estate, made, piece, prints))
            .collect();
        let heap = |heap: usize| {
            let mut prints: Vec<u128> = counted.iter().flat_map(|counts| counts.prints[heap].iter().copied()).collect();
            prints.sort_unstable();
            prints.dedup();
            prints.len()
        };
        let distinct = (0..HEAPS).into_par_iter().map(heap).sum();
        let mut counted = counted.into_iter();
        let Counts { mut allowed, mut reasons, mut profiles, .. } =
            counted.next().expect("there is at least one piece");
        for other in counted {
            let pairs = allowed.iter_mut().flatten().zip(other.allowed.iter().flatten());
            pairs.for_each(|(sum, more)| *sum = sum.wrapping_add(*more));
            reasons.iter_mut().zip(other.reasons).for_each(|(sum, more)| *sum = sum.wrapping_add(more));
            profiles.meet(&other.profiles);
        }
        // It holds much, and nobody has to wait until it is let go.
        rayon::spawn(move || drop(made));
        Tally { allowed, reasons, profiles, distinct }
    }
}

/// What is still to be done of each share: whoever is ready takes from the end of another's.
struct Work {
    left: Vec<Mutex<Range<u32>>>,
}

impl Work {
    /// How many resources an engine will have done, about.
    fn about(&self, share: usize) -> usize {
        let left = self.left[share].lock().expect("nothing panics while it takes");
        left.len() + left.len() / 8
    }

    /// The next resources for an engine with a share of its own.
    fn next(&self, share: usize) -> Option<Range<u32>> {
        let take = |of: usize, back: bool| {
            let mut left = self.left[of].lock().expect("nothing panics while it takes");
            let count = STEP.min(left.len() as u32);
            let (from, to) = (left.start, left.end);
            let taken = if back { to - count..to } else { from..from + count };
            *left = if back { from..to - count } else { from + count..to };
            Some(taken).filter(|taken| !taken.is_empty())
        };
        let others = (0..self.left.len()).filter(|other| *other != share);
        take(share, false).or_else(|| others.into_iter().find_map(|other| take(other, true)))
    }
}

/// Resources on which it is known what is decided.
struct Made {
    book: Book,
    sets: SetStore,
    /// How often the same is decided, by kind.
    occurs: Vec<Vec<u64>>,
    owned: Owned,
}

impl Made {
    fn of(mut engine: SetEngine, work: &Work, share: usize, done: Done) -> Made {
        let estate = engine.estate();
        let mut occurs: Vec<Vec<u64>> = vec![Vec::new(); estate.schema.kinds.len()];
        let mut decided: Vec<(ResourceId, ViewsId)> = Vec::with_capacity(work.about(share));
        let resources = std::iter::from_fn(|| work.next(share)).inspect(|step| done(step.len() as u64)).flatten();
        for resource in resources.map(ResourceId) {
            let views = engine.views_id(resource);
            decided.push((resource, views));
            let occurs = &mut occurs[estate.catalog.kind(resource).index()];
            if occurs.len() <= views.index() {
                occurs.resize(views.index() + 1, 0);
            }
            occurs[views.index()] += 1;
        }
        let (book, sets) = engine.into_book();
        let owned = Owned::of(&estate.catalog, &book, &decided);
        Made { book, sets, occurs, owned }
    }

    /// What was decided, in pieces of about the same work.
    fn pieces(&self) -> Vec<Range<usize>> {
        let work = |views: usize| self.owned.get(views).len() + 8;
        let whole: usize = (0..self.owned.len()).map(work).sum();
        let (mut pieces, mut from, mut sum) = (Vec::new(), 0, 0);
        for views in 0..self.owned.len() {
            sum += work(views);
            if sum >= whole.div_ceil(PIECES) {
                pieces.push(from..views + 1);
                (from, sum) = (views + 1, 0);
            }
        }
        pieces.push(from..self.owned.len());
        pieces
    }
}

/// What is counted of a piece of what was made.
struct Counts {
    /// By kind and action.
    allowed: Vec<Vec<u64>>,
    reasons: [u64; Reason::ALL.len()],
    profiles: Profiles,
    /// Fingerprints of rows of the matrix, by how they begin.
    prints: Vec<Vec<u128>>,
    /// Kept for its room.
    turns: Vec<Turning>,
}

impl Counts {
    fn of(estate: &Estate, made: &Made, piece: Range<usize>, prints: Prints) -> Counts {
        let schema = &estate.schema;
        let mut counts = Counts {
            allowed: vec![vec![0; schema.actions.len()]; schema.kinds.len()],
            reasons: [0; Reason::ALL.len()],
            profiles: Profiles::new(estate.people.len()),
            prints: vec![Vec::new(); HEAPS],
            turns: Vec::new(),
        };
        for views in piece {
            let mut occurs = false;
            for kind in KindId::all(schema.kinds.len()) {
                let times = made.occurs[kind.index()].get(views).copied().unwrap_or(0);
                if times > 0 {
                    counts.row(made, kind, ViewsId::new(views), times);
                    occurs = true;
                }
            }
            if occurs {
                counts.outcomes(made, ViewsId::new(views), prints);
            }
        }
        counts
    }

    /// Counts what is decided for everybody but owners, and for owners as if they owned nothing.
    fn row(&mut self, made: &Made, kind: KindId, views: ViewsId, times: u64) {
        for (action, outcome) in made.book.outcomes(made.book.views(views).0).enumerate() {
            let count = &mut self.allowed[kind.index()][action];
            *count = count.wrapping_add(u64::from(made.sets.count(outcome.allowed)) * times);
            for part in &outcome.parts {
                let count = &mut self.reasons[part.reason as usize];
                *count = count.wrapping_add(u64::from(made.sets.count(part.users)) * times);
            }
        }
    }

    /// Takes note of who may do what, for profiles and for the number of different outcomes; and for owners sets right what
    /// is otherwise. Sums may pass below nothing on the way; wrapping brings them back.
    fn outcomes(&mut self, made: &Made, views: ViewsId, prints: Prints) {
        let Made { book, sets, owned, .. } = made;
        let ((others, own), owners) = (book.views(views), owned.get(views.index()));
        let mut turns = std::mem::take(&mut self.turns);
        let mut count = 0;
        for action in ActionId::all(self.allowed[0].len()).filter(|action| !book.is_same(others, own, *action)) {
            if turns.len() == count {
                turns.push(Turning { action, was: Vec::new(), is: Vec::new(), owners: Vec::new() });
            }
            let turning = &mut turns[count];
            turning.action = action;
            turning.owners.clear();
            reasons(sets, book.outcome(others, action), owners, &mut turning.was);
            reasons(sets, book.outcome(own, action), owners, &mut turning.is);
            count += 1;
        }
        let print = prints.row(book.row(others));
        let mut unturned = owners.is_empty();
        for (at, &(owner, kind)) in owners.iter().enumerate() {
            let (mut turned, mut any) = (print, false);
            for turning in &mut turns[..count] {
                let (was, is) = (turning.was[at], turning.is[at]);
                self.reasons[was as usize] = self.reasons[was as usize].wrapping_sub(1);
                self.reasons[is as usize] = self.reasons[is as usize].wrapping_add(1);
                if was.is_allowed() != is.is_allowed() {
                    let gains = is.is_allowed();
                    let count = &mut self.allowed[kind.index()][turning.action.index()];
                    *count = count.wrapping_add_signed(if gains { 1 } else { -1 });
                    turned = turned.wrapping_add(prints.random.turn(turning.action, owner, gains));
                    turning.owners.push(owner.index());
                    any = true;
                }
            }
            if any {
                self.note(turned);
            }
            unturned |= !any;
        }
        if unturned {
            self.note(print);
        }
        for (action, outcome) in book.outcomes(others).enumerate() {
            let turned = turns[..count].iter().find(|turning| turning.action.index() == action);
            let turned = turned.map_or(&[][..], |turning| &turning.owners);
            self.profiles.refine(sets, outcome.allowed, turned);
            if !turned.is_empty() && turned.len() < owners.len() {
                self.profiles.refine(sets, outcome.allowed, &[]);
            }
        }
        self.turns = turns;
    }

    fn note(&mut self, print: u128) {
        self.prints[(print >> 64) as usize % HEAPS].push(print);
    }
}

/// An action that is decided otherwise for an owner.
struct Turning {
    action: ActionId,
    /// By owner, the reason as if everything were somebody else's, and the reason for an owner.
    was: Vec<Reason>,
    is: Vec<Reason>,
    /// Those who are allowed otherwise.
    owners: Vec<usize>,
}

/// By owner, the reason of the part in which each is. Nearly everybody is in the largest part: that is looked up for all
/// of them first, so that to wait for memory is done for several at a time.
fn reasons(sets: &SetStore, outcome: &Outcome, owners: &[(UserId, KindId)], into: &mut Vec<Reason>) {
    let largest = outcome.parts.iter().max_by_key(|part| sets.count(part.users)).expect("a part for everybody");
    let is_in = |part: &Part, user: UserId| sets.contains(part.users, user.index());
    into.clear();
    // Silent stands for what is not known yet; who is in that part finds it again.
    let first = |(user, _): &(UserId, KindId)| if is_in(largest, *user) { largest.reason } else { Reason::Silent };
    into.extend(owners.iter().map(first));
    for ((user, _), reason) in owners.iter().zip(into).filter(|(_, reason)| **reason == Reason::Silent) {
        if !is_in(largest, *user) {
            let part = outcome.parts.iter().find(|part| is_in(part, *user));
            *reason = part.expect("the parts of an outcome are everybody").reason;
        }
    }
}

/// Owners for whom it matters that they are, by what is decided: so the sets that are looked at stay near.
struct Owned {
    owners: Vec<(UserId, KindId)>,
    ends: Vec<u32>,
}

impl Owned {
    /// Of resources on which it is known what is decided.
    fn of(catalog: &Catalog, book: &Book, decided: &[(ResourceId, ViewsId)]) -> Owned {
        let matters: Vec<bool> = book.all_views().iter().map(|(others, owners)| others != owners).collect();
        let mut next = vec![0u32; matters.len() + 1];
        let decided = || decided.iter().filter(|(_, views)| matters[views.index()]);
        decided().for_each(|(_, views)| next[views.index() + 1] += 1);
        for views in 0..matters.len() {
            next[views + 1] += next[views];
        }
        let mut owners = vec![(UserId(0), KindId(0)); next[matters.len()] as usize];
        for (resource, views) in decided() {
            let owner = catalog.owner(*resource).flatten().expect("it is decided for an owner only where there is one");
            owners[next[views.index()] as usize] = (owner, catalog.kind(*resource));
            next[views.index()] += 1;
        }
        next.pop();
        Owned { owners, ends: next }
    }

    /// How many different decisions there are.
    fn len(&self) -> usize {
        self.ends.len()
    }

    /// The owners where this is decided.
    fn get(&self, views: usize) -> &[(UserId, KindId)] {
        let from = if views == 0 { 0 } else { self.ends[views - 1] };
        &self.owners[from as usize..self.ends[views] as usize]
    }
}

/// Fingerprints of rows of the matrix: those of their sets, each times a random number for its action. They serve to count
/// different outcomes without keeping sets for each.
struct Random {
    users: sets::Prints,
    actions: Vec<u128>,
}

impl Random {
    fn new(estate: &Estate) -> Random {
        let actions = 0..estate.schema.actions.len();
        Random {
            users: sets::Prints::new(estate.people.len()),
            actions: actions.map(|action| sets::random(usize::MAX - action)).collect(),
        }
    }

    /// The fingerprints of those for whom each outcome allows an action.
    fn prints(&self, made: &Made) -> Vec<u128> {
        let print = |outcome: &Outcome| self.users.of(made.sets.row(outcome.allowed));
        made.book.all_outcomes().par_iter().map(print).collect()
    }

    /// What a fingerprint grows by where one user gains an action or loses it.
    fn turn(&self, action: ActionId, user: UserId, gains: bool) -> u128 {
        self.users.turn(user.index(), gains).wrapping_mul(self.actions[action.index()])
    }
}

/// Fingerprints of what was made.
#[derive(Clone, Copy)]
struct Prints<'p> {
    /// By outcome.
    of: &'p [u128],
    random: &'p Random,
}

impl Prints<'_> {
    /// The fingerprint of a row.
    fn row(self, row: &[OutcomeId]) -> u128 {
        let weighed = row.iter().zip(&self.random.actions);
        weighed.fold(0, |print, (id, weight)| print.wrapping_add(self.of[id.index()].wrapping_mul(*weight)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Whoever takes, and from whichever share: each resource is taken once, one's own first.
    #[test]
    fn each_resource_is_taken_once() {
        let mut random = fastrand::Rng::with_seed(11);
        for count in [1u32, 2, 5] {
            let (end, mut from) = (count * 9_000 + 17, 0);
            let share = |i: u32| {
                let to = if i + 1 == count { end } else { (i + 1) * 9_000 };
                Mutex::new(std::mem::replace(&mut from, to)..to)
            };
            let work = Work { left: (0..count).map(share).collect() };
            let own = work.left[0].lock().unwrap().clone();
            let first = work.next(0).unwrap();
            assert_eq!((first.start, first.len()), (own.start, STEP as usize));
            let mut taken: Vec<u32> = first.collect();
            while let Some(more) = work.next(random.usize(..count as usize)) {
                taken.extend(more);
            }
            taken.sort_unstable();
            assert!(taken.into_iter().eq(0..end), "{count} shares");
        }
    }
}
