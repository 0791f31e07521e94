//! Keys at random: nothing breaks, and every table shown is that of the changed estate.

use super::state::{Mode, State};
use super::worker::World;
use super::{Work, draw};
use crate::open::Opened;
use bastide_engine::access::matrix;
use bastide_engine::change::apply;
use bastide_engine::{ReferenceEvaluator, Snapshot};
use bastide_formats::Loaded;
use bastide_model::{ActionId, Moment, UserId};
use bastide_testkit::random::{Shape, plan};
use ratatui::backend::TestBackend;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::layout::Rect;
use std::mem::ManuallyDrop;
use std::path::PathBuf;
use std::sync::Arc;

/// Presses keys at random, and holds each table against the estate that comes of the changes.
fn presses(loaded: Loaded, count: usize, seed: u64) -> Option<usize> {
    let estate = loaded.estate.clone()?;
    let moment = Moment::on("2026-11-24".parse().ok()?, estate.schema());
    let first = Snapshot::new(&estate, &moment).ok()?;
    let opened = Opened { loaded: ManuallyDrop::new(loaded), seconds: 0.0, root: PathBuf::new() };
    let mut state = State::new(estate.clone());
    let mut work = Work::begin(World::new(Arc::new(opened), first, moment.clone())).ok()?;
    let mut rng = fastrand::Rng::with_seed(seed);
    let sizes = [(140, 42), (80, 24), (240, 70), (41, 12), (10, 4)];
    let (mut size, mut compared) = (sizes[0], 0);
    let keys = [
        KeyCode::Up,
        KeyCode::Down,
        KeyCode::Left,
        KeyCode::Right,
        KeyCode::PageUp,
        KeyCode::PageDown,
        KeyCode::Home,
        KeyCode::End,
        KeyCode::Enter,
        KeyCode::Enter,
        KeyCode::Tab,
        KeyCode::BackTab,
        KeyCode::Esc,
        KeyCode::Backspace,
    ];
    let letters = ['x', 'x', 'g', 'l', 's', 'r', 'u', 'c', 'p', '/', '?', '[', ']', 'a', 'e', 'ö', '漢', ' '];
    for pressed in 0..count {
        if rng.u8(..) < 4 {
            size = sizes[rng.usize(..sizes.len())];
        }
        let code = match rng.u8(..3) {
            0 => KeyCode::Char(letters[rng.usize(..letters.len())]),
            _ => keys[rng.usize(..keys.len())],
        };
        // What is wrong takes long, and is looked for now and then.
        let code = if rng.u16(..) < 60 { KeyCode::Char('f') } else { code };
        let wish = state.key(KeyEvent::new(code, KeyModifiers::NONE));
        assert!(wish.is_none(), "none of these keys leaves or saves");
        let area = Rect::new(0, 0, size.0, size.1);
        let places = draw::Places::of(area, estate.schema().actions.len());
        state.resized(usize::from(places.rows), usize::from(places.columns), usize::from(area.width));
        if pressed % 4 > 0 {
            // Some keys come before the others are answered.
            work.ask(&mut state);
            continue;
        }
        work.settle(&mut state).ok()?;
        let mut screen = ratatui::Terminal::new(TestBackend::new(size.0, size.1)).ok()?;
        screen.draw(|frame| draw::draw(&state, "title", rng.bool(), frame)).ok()?;
        let changed = apply(&estate, &state.changes).expect("what cannot be done is taken back");
        let users: Vec<UserId> = state.grid.columns.iter().map(|(user, _)| *user).collect();
        // With a rule that is being written the table shows more than the changes.
        if matches!(state.mode, Mode::Writing(_)) || !state.written.is_empty() {
            continue;
        }
        if users.is_empty() || ReferenceEvaluator::new(&changed, &moment).is_err() {
            continue;
        }
        assert!(state.fresh, "everything is answered");
        let snapshot = Snapshot::new(&changed, &moment).ok()?;
        let actions: Vec<ActionId> = ActionId::all(estate.schema().actions.len()).collect();
        let expected = matrix(&snapshot, &users, &state.grid.rows, &actions, usize::MAX).expect("any size");
        for (row, cells) in state.grid.cells.iter().enumerate() {
            for (column, cell) in cells.iter().enumerate() {
                let id = estate.people().id(users[column]);
                let at =
                    expected.profiles.iter().position(|profile| profile.users.iter().any(|user| user == id)).unwrap();
                let found: Vec<usize> = cell.now.ones().collect();
                assert_eq!(found, expected.cell(row, at), "seed {seed}, key {pressed}");
                compared += 1;
            }
        }
        if state.profiles {
            let all: usize = state.grid.columns.iter().map(|(_, more)| 1 + more).sum();
            assert_eq!(all, estate.people().len(), "everybody is in one profile");
        }
    }
    Some(compared)
}

/// `BASTIDE_KEYS` presses more of them.
#[test]
fn keys_at_random_show_what_is_so() {
    let count = std::env::var("BASTIDE_KEYS").ok().and_then(|number| number.parse().ok()).unwrap_or(1_200);
    let of_demo = presses(bastide_testkit::demo(), count, 1).expect("the demo can be looked at");
    let mut of_others = 0;
    for seed in 0..12 {
        let loaded = plan(seed, Shape::ALL).case().load();
        of_others += presses(loaded, count / 6, seed).unwrap_or_default();
    }
    assert!(of_demo > count && of_others > count, "{of_demo} and {of_others} cells");
}
