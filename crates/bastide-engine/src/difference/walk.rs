//! Compares two snapshots, resource by resource, on all cores.

use super::affected::Affected;
use super::joint::{Axis, Joint};
use super::relevant::relevant_actions;
use super::users::{Entry, People, Place};
use super::{Difference, Rows, Turn, Users};
use crate::evaluate::{Decided, Evaluator, Work};
use crate::sets::Fingerprints;
use crate::sets::store::SetId;
use crate::snapshot::Snapshot;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::ops::Range;

/// Fewer resources are not worth the way to another core.
const SHARE: usize = 1 << 12;

/// What was found so far, for whoever says whether to go on.
pub struct Shown<'p>(&'p [Entry]);

impl Shown<'_> {
    /// How many users.
    pub fn count(&self, users: Users) -> u32 {
        self.0[users.0 as usize].count
    }

    /// Whether the user that was asked about is among them.
    pub fn is_asked(&self, users: Users) -> bool {
        self.0[users.0 as usize].own
    }
}

/// What differs between the outcomes of two snapshots. Cost: for estates that are related by changes, what the changes can
/// touch; otherwise every resource once in each. `asked`: a user, by the number in the first estate, who is told apart.
pub fn difference<'s>(before: &'s Snapshot, after: &'s Snapshot, asked: Option<UserId>) -> Difference<'s> {
    differ(before, after, asked, None).expect("nobody stops it")
}

/// As [`difference`], on one core, but `go_on` is shown what differs on each resource, and stops it by saying no; then there
/// is nothing.
pub fn difference_while<'s>(
    before: &'s Snapshot,
    after: &'s Snapshot,
    asked: Option<UserId>,
    mut go_on: impl FnMut(&Shown, &[Turn]) -> bool,
) -> Option<Difference<'s>> {
    differ(before, after, asked, Some(&mut go_on))
}

impl Snapshot {
    /// What differs between this one and another one; see [`difference`].
    pub fn difference<'s>(&'s self, to: &'s Snapshot) -> Difference<'s> {
        difference(self, to, None)
    }
}

/// Whether nothing differs. Cost: as [`difference_while`], up to the first thing that does.
pub fn is_same(before: &Snapshot, after: &Snapshot) -> bool {
    difference_while(before, after, None, |_, _| false).is_some()
}

/// Who is shown what differs on each resource, and says whether to go on.
type GoOn<'g> = Option<&'g mut dyn FnMut(&Shown, &[Turn]) -> bool>;

fn differ<'s>(
    before: &'s Snapshot,
    after: &'s Snapshot,
    asked: Option<UserId>,
    mut go_on: GoOn,
) -> Option<Difference<'s>> {
    let (old, new) = (before.estate(), after.estate());
    let joint = Joint::of(old, new);
    // Another day or session can touch anything, and so can what is taken in the users' favour.
    let same_question = before.moment() == after.moment() && before.is_favourable() == after.is_favourable();
    let related = joint.is_same() && same_question;
    let affected = if related { Affected::of(before, after) } else { None };
    let mut all = FixedBitSet::with_capacity(new.schema().actions.len());
    all.insert_range(..);
    let actions = affected.as_ref().and_then(|_| relevant_actions(old, new));
    let sides = || {
        let actions = || actions.clone().filter(|_| related);
        let of = |of: &'s Snapshot| actions().map_or_else(|| of.evaluator(), |actions| of.evaluator_of(actions));
        WalkSides { engines: [of(before), of(after)], pairs: HashMap::new(), affecting: HashMap::new() }
    };
    let resources = joint.resources.len() as u32;
    let prints = Fingerprints::new(joint.users.len());
    let guests = guests(&joint, old, new);
    let asked = asked.map(|user| joint.users.from_before(user.0));
    let looks = affected.as_ref().map_or(resources as usize, Affected::size);
    let cores = if go_on.is_some() || looks < 2 * SHARE { 1 } else { rayon::current_num_threads() as u32 };
    let cuts: Vec<u32> =
        (0..=cores).map(|core| (u64::from(resources) * u64::from(core) / u64::from(cores)) as u32).collect();
    let share = |cut: &[u32]| Walk {
        affected: affected.as_ref(),
        compared: OutcomeComparison::new(&joint, People::new(&prints, &guests, asked, before.told())),
        rows: Rows::default(),
        changed: Vec::new(),
        share: cut[0]..cut[1],
        look: Queue::new((cut[1] - cut[0]) as usize),
        marked: Queue::new((cut[1] - cut[0]) as usize),
        done: FixedBitSet::with_capacity((cut[1] - cut[0]) as usize),
        elsewhere: Vec::new(),
        turns: Vec::new(),
    };
    let mut walks: Vec<Walk> = cuts.windows(2).map(share).collect();
    for walk in &mut walks {
        match &affected {
            Some(affected) => walk.begin(affected),
            None => {
                walk.marked.put(0..walk.share.len());
            }
        }
    }
    loop {
        if let Some(go_on) = &mut go_on {
            let [walk] = &mut walks[..] else { unreachable!("on one core") };
            if !walk.go(&mut sides(), Some(&mut **go_on)) {
                return None;
            }
        } else {
            walks.par_iter_mut().with_max_len(1).for_each(|walk| {
                if walk.is_open() {
                    walk.go(&mut sides(), None);
                }
            });
        }
        let mut more: Vec<Range<u32>> = walks.iter_mut().flat_map(|walk| std::mem::take(&mut walk.elsewhere)).collect();
        more.sort_unstable_by_key(|range| (range.start, range.end));
        more.dedup();
        let is_new = |walk: &mut Walk| more.iter().fold(false, |any, range| walk.mark(range.clone()) | any);
        if !walks.iter_mut().fold(false, |any, walk| is_new(walk) | any) {
            break;
        }
    }
    let mut walks = walks.into_iter();
    let Walk { compared: OutcomeComparison { mut people, .. }, mut rows, mut changed, .. } =
        walks.next().expect("there is one core");
    for walk in walks {
        let Walk { compared: OutcomeComparison { people: others, .. }, rows: other_rows, changed: more, .. } = walk;
        let users = people.join(others);
        let new: Vec<u32> = (0..other_rows.len() as u32)
            .map(|row| {
                let of = |other: Users| Users(users[other.0 as usize]);
                let turns = other_rows.get(row).iter();
                let turns = turns.map(|t| Turn { action: t.action, gained: of(t.gained), lost: of(t.lost) });
                rows.keep(&turns.collect::<Vec<Turn>>())
            })
            .collect();
        changed.extend(more.into_iter().map(|(resource, row)| (resource, new[row as usize])));
    }
    if !changed.is_sorted_by_key(|(resource, _)| *resource) {
        changed.sort_unstable_by_key(|(resource, _)| *resource);
    }
    let People { all, sets, anybody, .. } = people;
    let same_groups = super::causes::same_groups(old, new, &joint);
    Some(Difference { same_groups, changed, sides: [before, after], people: all, sets, anybody, rows, joint })
}

/// Who is a guest, a bit a user.
fn guests(joint: &Joint, before: &Estate, after: &Estate) -> Vec<u64> {
    let mut words = vec![0u64; joint.users.len().div_ceil(64).max(1)];
    for user in 0..joint.users.len() as u32 {
        let kind = match joint.users.after(user) {
            Some(user) => after.people().kind(UserId(user)),
            None => before.people().kind(UserId(joint.users.before(user).expect("a user is on one side"))),
        };
        if kind == "guest" {
            words[user as usize / 64] |= 1 << (user % 64);
        }
    }
    words
}

/// For whom an action is allowed on a resource before and after, in words by joint numbers.
pub(super) fn allowed(engines: &mut [Evaluator; 2], joint: &Joint, resource: u32, action: u32) -> [Vec<u64>; 2] {
    let numbers: [[Option<u32>; 2]; 2] = [
        [joint.resources.before(resource), joint.actions.before(action)],
        [joint.resources.after(resource), joint.actions.after(action)],
    ];
    let mut found = [(); 2].map(|()| vec![0u64; joint.users.len().div_ceil(64).max(1)]);
    for (side, engine) in engines.iter_mut().enumerate() {
        let [Some(resource), Some(action)] = numbers[side] else { continue };
        let mut work = engine.look(ResourceId(resource));
        engine.decide_on(&mut work, ActionId(action));
        let mut words = vec![0; engine.sets().width()];
        engine.allowed_words(&work, ActionId(action), &mut words);
        engine.done(work);
        to_joint(&joint.users, side, &words, &mut found[side]);
    }
    found
}

/// Words of one side by joint numbers; `found` is overwritten.
fn to_joint(users: &Axis, side: usize, words: &[u64], found: &mut [u64]) {
    if let Axis::Same(_) = users {
        found.copy_from_slice(words);
        return;
    }
    found.fill(0);
    for user in super::users::listed(words) {
        let user = number(users, side, user);
        found[user as usize / 64] |= 1 << (user % 64);
    }
}

fn number(users: &Axis, side: usize, user: u32) -> u32 {
    if side == 0 { users.from_before(user) } else { users.from_after(user) }
}

/// Positions that are still to be looked at, the first one first. To take them all costs words once, and each position.
struct Queue {
    bits: FixedBitSet,
    /// None is before this one: what was looked through is not looked through again.
    from: usize,
}

impl Queue {
    fn new(len: usize) -> Queue {
        Queue { bits: FixedBitSet::with_capacity(len), from: len }
    }

    /// Adds some; whether any of them is new.
    fn put(&mut self, positions: Range<usize>) -> bool {
        let any = positions.clone().any(|at| !self.bits.contains(at));
        if any {
            self.from = self.from.min(positions.start);
            self.bits.insert_range(positions);
        }
        any
    }

    /// The first of them, which stays.
    fn first(&mut self) -> Option<usize> {
        const BITS: usize = usize::BITS as usize;
        let words = self.bits.as_slice();
        let found = words.get(self.from / BITS).and_then(|word| {
            let first = word >> (self.from % BITS) << (self.from % BITS);
            let rest = words.iter().copied().enumerate().skip(self.from / BITS + 1);
            let (at, word) = std::iter::once((self.from / BITS, first)).chain(rest).find(|(_, word)| *word != 0)?;
            Some(at * BITS + word.trailing_zeros() as usize)
        });
        self.from = found.unwrap_or(self.bits.len());
        found
    }

    /// Takes one out; whether it was there.
    fn take(&mut self, at: usize) -> bool {
        let was = self.bits.contains(at);
        self.bits.set(at, false);
        was
    }

    fn is_empty(&mut self) -> bool {
        self.first().is_none()
    }

    fn clear(&mut self) {
        self.bits.clear();
        self.from = self.bits.len();
    }
}

/// Of two sets, who gains and who loses.
type Pairs = HashMap<(SetId, SetId), (u32, u32)>;

/// What one core evaluates both sides with.
struct WalkSides<'s> {
    engines: [Evaluator<'s>; 2],
    pairs: Pairs,
    /// By side and site, the changed rules that reach.
    affecting: HashMap<(usize, usize), Box<[u32]>>,
}

/// One core's share.
struct Walk<'s, 'd> {
    affected: Option<&'d Affected<'s>>,
    compared: OutcomeComparison<'d>,
    rows: Rows,
    changed: Vec<(u32, u32)>,
    share: Range<u32>,
    /// Resources of the share on which a changed statement may apply to somebody.
    look: Queue,
    /// Those that are to be decided on in any case.
    marked: Queue,
    done: FixedBitSet,
    /// Resources that follow from what differs, and are not in the share, or lie behind.
    elsewhere: Vec<Range<u32>>,
    turns: Vec<Turn>,
}

/// What is known of outcomes that were compared, and room to compare more.
struct OutcomeComparison<'d> {
    joint: &'d Joint,
    people: People<'d>,
    /// Users who are decided on otherwise than sets say, by joint numbers, before and after.
    cells: [Vec<(u32, bool)>; 2],
    /// Users who gain, and who lose, otherwise than sets say.
    turned: [Vec<u32>; 2],
    words: [Vec<u64>; 2],
    side: Vec<u64>,
}

impl<'s> Walk<'s, '_> {
    /// Takes in what changes can touch.
    fn begin(&mut self, affected: &Affected) {
        let own = |range: &Range<u32>| {
            let (from, to) = (range.start.max(self.share.start), range.end.min(self.share.end));
            (from < to).then(|| (from - self.share.start) as usize..(to - self.share.start) as usize)
        };
        for range in affected.looked_at.iter().filter_map(own) {
            self.look.put(range);
        }
        for range in affected.marked.iter().filter_map(own) {
            self.marked.put(range);
        }
    }

    /// Marks what of some resources is in the share and was not decided on; whether there is any.
    fn mark(&mut self, range: Range<u32>) -> bool {
        let mut any = false;
        for resource in range.start.max(self.share.start)..range.end.min(self.share.end) {
            let at = (resource - self.share.start) as usize;
            if !self.done.contains(at) {
                any |= self.marked.put(at..at + 1);
            }
        }
        any
    }

    /// Whether there is something to be looked at.
    fn is_open(&mut self) -> bool {
        !self.look.is_empty() || !self.marked.is_empty()
    }

    /// Goes through what is to be looked at; whether it was not stopped.
    fn go(&mut self, sides: &mut WalkSides<'s>, mut go_on: GoOn) -> bool {
        while let Some(found) = [&mut self.look, &mut self.marked].into_iter().filter_map(Queue::first).min() {
            if sides.engines.iter().any(Evaluator::is_stopped) {
                self.look.clear();
                self.marked.clear();
                return false;
            }
            let resource = self.share.start + found as u32;
            self.look.take(found);
            let is_marked = self.marked.take(found);
            if self.done.contains(found) || !is_marked && !self.is_touched(sides, resource) {
                continue;
            }
            self.done.insert(found);
            if self.compare(sides, resource) {
                self.follow(resource);
                let (_, row) = self.changed[self.changed.len() - 1];
                if let Some(go_on) = &mut go_on
                    && !go_on(&Shown(&self.compared.people.all), self.rows.get(row))
                {
                    return false;
                }
            }
        }
        true
    }

    /// Whether a changed statement applies to anybody on a resource, before or after.
    fn is_touched(&self, sides: &mut WalkSides<'s>, resource: u32) -> bool {
        let affected = self.affected.expect("only then it is looked at");
        let WalkSides { engines, affecting, .. } = sides;
        for (side, engine) in engines.iter_mut().enumerate() {
            if affected.rules[side].is_clear() {
                continue;
            }
            let mut work = engine.look(ResourceId(resource));
            let key = (side, engine.site_of(&work));
            let reaching = affecting.entry(key).or_insert_with(|| {
                let rules = engine.site_rules(&work);
                rules
                    .iter()
                    .map(|(rule, _)| *rule)
                    .filter(|rule| affected.rules[side].contains(*rule as usize))
                    .collect()
            });
            let own = engine.own_rules(&work).filter(|rule| affected.rules[side].contains(*rule as usize));
            let own: Vec<u32> = own.collect();
            let rules = reaching.iter().copied().chain(own);
            // In layers, what applies to nobody may still say which layer controls a resource.
            let touches = affected.layered
                && (!reaching.is_empty()
                    || engine.own_rules(&work).any(|rule| affected.rules[side].contains(rule as usize)))
                || rules.into_iter().any(|rule| engine.touches(&mut work, rule));
            engine.done(work);
            if touches {
                return true;
            }
        }
        false
    }

    /// Marks whatever may look at a decision on a resource that differs.
    fn follow(&mut self, resource: u32) {
        let Some(affected) = self.affected else { return };
        for range in affected.followers(ResourceId(resource)) {
            // What comes in the same share is still ahead.
            let ahead = range.start > resource;
            let own = range.start.max(self.share.start)..range.end.min(self.share.end);
            if ahead && own.start < own.end {
                self.mark(own.clone());
            }
            if !ahead || own != range {
                self.elsewhere.push(range);
            }
        }
    }

    /// Decides a resource on both sides; whether anything differs.
    fn compare(&mut self, sides: &mut WalkSides<'s>, resource: u32) -> bool {
        let Walk { compared, rows, turns, .. } = self;
        let WalkSides { engines, pairs, .. } = sides;
        let (axis, actions) = (&compared.joint.resources, compared.joint.actions.len() as u32);
        let [old, new] = [axis.before(resource), axis.after(resource)].map(|own| own.map(ResourceId));
        let works = [old.map(|own| engines[0].decide(own)), new.map(|own| engines[1].decide(own))];
        turns.clear();
        for action in 0..actions {
            let (gained, lost) = compared.turn((engines, pairs), &works, resource, action);
            if gained != lost {
                turns.push(Turn { action, gained: Users(gained), lost: Users(lost) });
            }
        }
        for (engine, work) in engines.iter_mut().zip(works) {
            work.into_iter().for_each(|work| engine.done(work));
        }
        let before = rows.len();
        let row = rows.keep(turns);
        if rows.len() > before {
            for turn in turns {
                compared.people.take(turn.gained.0);
                compared.people.take(turn.lost.0);
            }
        }
        if row != 0 {
            self.changed.push((resource, row));
        }
        row != 0
    }
}

impl<'d> OutcomeComparison<'d> {
    fn new(joint: &'d Joint, people: People<'d>) -> OutcomeComparison<'d> {
        let room = || vec![0; joint.users.len().div_ceil(64).max(1)];
        OutcomeComparison {
            joint,
            people,
            cells: Default::default(),
            turned: Default::default(),
            words: [room(), room()],
            side: Vec::new(),
        }
    }

    /// Who gains and who loses an action on a resource that was decided on.
    fn turn(
        &mut self,
        (engines, pairs): (&[Evaluator; 2], &mut Pairs),
        works: &[Option<Work>; 2],
        resource: u32,
        action: u32,
    ) -> (u32, u32) {
        let joint = self.joint;
        let own = [joint.actions.before(action), joint.actions.after(action)].map(|own| own.map(ActionId));
        let decided = |side: usize| match (&works[side], own[side]) {
            (Some(work), Some(action)) => work.decided(action),
            _ => Decided::Open,
        };
        let set = |side: usize| match decided(side) {
            Decided::Open => Some(SetId::NONE),
            Decided::Base(outcome) => Some(engines[side].outcome(outcome).allowed),
            Decided::Wide(_) => None,
        };
        let gain = Place { resource, action, gained: true };
        let lose = Place { gained: false, ..gain };
        let (Some(was), Some(is)) = (set(0), set(1)) else {
            self.put_words(engines, works, own);
            return self.of_words(gain, lose, false);
        };
        let pair = match pairs.get(&(was, is)) {
            Some(known) => *known,
            None => {
                let sets = [engines[0].sets().row(was), engines[1].sets().row(is)];
                for (side, (set, words)) in sets.into_iter().zip(&mut self.words).enumerate() {
                    to_joint(&joint.users, side, set, words);
                }
                let pair = self.of_words(gain, lose, true);
                pairs.insert((was, is), pair);
                pair
            }
        };
        let sets = [was, is];
        let mut any = false;
        for side in 0..2 {
            self.cells[side].clear();
            let (Some(work), Some(action)) = (&works[side], own[side]) else { continue };
            for cell in work.cells(action) {
                let allowed = cell.reason.is_allowed();
                if engines[side].sets().contains(sets[side], cell.user as usize) != allowed {
                    self.cells[side].push((number(&joint.users, side, cell.user), allowed));
                    any = true;
                }
            }
            if !matches!(joint.users, Axis::Same(_)) {
                self.cells[side].sort_unstable();
            }
        }
        if !any {
            return pair;
        }
        let usual = |side: usize, user: u32| {
            let own = if side == 0 { joint.users.before(user) } else { joint.users.after(user) };
            own.is_some_and(|own| engines[side].sets().contains(sets[side], own as usize))
        };
        let [gained, lost] = &mut self.turned;
        gained.clear();
        lost.clear();
        let [before, after] = &self.cells;
        let (mut i, mut j) = (0, 0);
        while i < before.len() || j < after.len() {
            let next = |cells: &[(u32, bool)], at: usize| cells.get(at).map_or(u32::MAX, |(user, _)| *user);
            let user = next(before, i).min(next(after, j));
            let base = [usual(0, user), usual(1, user)];
            let mut now = base;
            if next(before, i) == user {
                now[0] = before[i].1;
                i += 1;
            }
            if next(after, j) == user {
                now[1] = after[j].1;
                j += 1;
            }
            if (now[1] && !now[0]) != (base[1] && !base[0]) {
                gained.push(user);
            }
            if (now[0] && !now[1]) != (base[0] && !base[1]) {
                lost.push(user);
            }
        }
        (self.people.turned(pair.0, &self.turned[0], gain), self.people.turned(pair.1, &self.turned[1], lose))
    }

    /// Puts those for whom an action is allowed on each side into words.
    fn put_words(&mut self, engines: &[Evaluator; 2], works: &[Option<Work>; 2], own: [Option<ActionId>; 2]) {
        for side in 0..2 {
            let (Some(work), Some(action)) = (&works[side], own[side]) else {
                self.words[side].fill(0);
                continue;
            };
            self.side.resize(engines[side].sets().width(), 0);
            engines[side].allowed_words(work, action, &mut self.side);
            to_joint(&self.joint.users, side, &self.side, &mut self.words[side]);
        }
    }

    /// Who gains and who loses, by the words of both sides.
    fn of_words(&mut self, gain: Place, lose: Place, often: bool) -> (u32, u32) {
        let [was, is] = &mut self.words;
        for (was, is) in was.iter_mut().zip(is) {
            (*was, *is) = (*was & !*is, *is & !*was);
        }
        let gained = self.people.of_words(&self.words[1], gain, often);
        (gained, self.people.of_words(&self.words[0], lose, often))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    /// What is queued comes out in order, each once, whatever is added meanwhile, before or behind what was taken last.
    #[test]
    fn a_queue_gives_the_first_of_what_is_left() {
        let mut random = fastrand::Rng::with_seed(8);
        for _ in 0..200 {
            let len = random.usize(1..400);
            let (mut queue, mut left) = (Queue::new(len), BTreeSet::new());
            for _ in 0..100 {
                let from = random.usize(..len);
                let range = from..random.usize(from..=len).min(from + 70);
                if random.usize(..4) == 0 {
                    let new = range.clone().fold(false, |any, at| left.insert(at) | any);
                    assert_eq!(queue.put(range), new);
                } else if let Some(first) = left.first().copied() {
                    assert_eq!(queue.first(), Some(first));
                    assert!(queue.take(first) && left.remove(&first) && !queue.take(first));
                }
                assert_eq!(queue.is_empty(), left.is_empty());
            }
            queue.clear();
            assert!(queue.is_empty());
        }
    }
}
