//! The screen: the tree of places down, users across, the cause below.

use super::state::{Chooser, Field, Mode, State};
use crate::print::text::{cut, letters, visible, width};
use bastide_engine::access::GridCell;
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};

/// Below so many rows or columns nothing is drawn but a word.
const LEAST: (u16, u16) = (40, 12);

/// The keys, and what they do.
pub const KEYS: [(&str, &str); 20] = [
    ("arrows, j k", "go up, down, left, right"),
    ("PageUp PageDown", "go a page up, down"),
    ("Home End", "go to the first, the last place"),
    ("Enter, space", "open or close a place"),
    ("Tab", "explain the next action"),
    ("p", "users by profile, or each by themselves"),
    ("/", "go to a user, a place or a rule"),
    ("[ ]", "scroll the explanation"),
    ("x", "take the statement out that decides here"),
    ("g", "let the user join a group"),
    ("l", "let the user leave a group"),
    ("s", "switch a rule on or off"),
    ("r", "what would turn the decision: choose one"),
    ("e", "write a rule: Tab completes, Enter keeps it"),
    ("u", "undo the last change"),
    ("c", "the changes: take any one back"),
    ("w", "save the changes (W: also those that reach far)"),
    ("f", "what is wrong: go to an example"),
    ("?", "these keys"),
    ("q, Ctrl-c", "leave; changes that are not saved are told"),
];

const DIM: Style = Style::new().add_modifier(Modifier::DIM);
const BOLD: Style = Style::new().add_modifier(Modifier::BOLD);
const CURSOR: Style = Style::new().add_modifier(Modifier::REVERSED);
const GAINED: Style = Style::new().fg(Color::Green).add_modifier(Modifier::BOLD.union(Modifier::UNDERLINED));
const LOST: Style = Style::new().fg(Color::Red).add_modifier(Modifier::BOLD.union(Modifier::UNDERLINED));
const GOOD: Style = Style::new().fg(Color::Green).add_modifier(Modifier::BOLD);
const BAD: Style = Style::new().fg(Color::Red).add_modifier(Modifier::BOLD);

/// Where the parts of the screen are.
pub struct Places {
    /// How wide the tree is.
    pub tree: u16,
    /// How wide a column is.
    pub column: u16,
    /// How many rows the table has.
    pub rows: u16,
    /// How many columns.
    pub columns: u16,
    /// Where the explanation begins, and how high it is.
    pub cause: (u16, u16),
}

impl Places {
    /// Of a screen, for so many actions.
    pub fn of(area: Rect, actions: usize) -> Places {
        let tree = (area.width * 2 / 5).clamp(16, 46);
        // One place beside the letters says whether anything is gained or lost, one parts the columns.
        let column = (actions as u16 + 2).max(10).min(area.width.saturating_sub(tree).max(1));
        let cause = (area.height * 3 / 8).clamp(5, 18);
        let rows = area.height.saturating_sub(cause + 4);
        let columns = area.width.saturating_sub(tree + 1) / column;
        Places { tree, column, rows, columns: columns.max(1), cause: (2 + rows, cause) }
    }
}

/// Draws everything.
pub fn draw(state: &State, title: &str, colours: bool, frame: &mut Frame) {
    let area = frame.area();
    let buffer = frame.buffer_mut();
    if area.width < LEAST.0 || area.height < LEAST.1 {
        put(buffer, 0, 0, area.width, "the window is too small", Style::new());
        return;
    }
    let places = Places::of(area, state.estate.schema().actions.len());
    head(state, title, &places, area, buffer);
    table(state, &places, buffer);
    cause(state, &places, area, buffer);
    foot(state, area, buffer);
    match &state.mode {
        Mode::Table => {}
        Mode::Choosing(chooser) => choosing(chooser, area, buffer),
        Mode::Writing(field) => writing(field, &places, area, buffer),
        Mode::Help => help(area, buffer),
    }
    if !colours {
        for cell in &mut buffer.content {
            (cell.fg, cell.bg) = (Color::Reset, Color::Reset);
        }
    }
}

fn put(buffer: &mut Buffer, x: u16, y: u16, most: u16, text: &str, style: Style) {
    let shown = visible(text);
    buffer.set_stringn(x, y, &shown, usize::from(most), style);
}

fn head(state: &State, title: &str, places: &Places, area: Rect, buffer: &mut Buffer) {
    let told = match state.pending() {
        0 => String::new(),
        1 => "1 change, not saved".to_string(),
        more => format!("{more} changes, not saved"),
    };
    // What is shown is what was known before, until the rest is.
    let told = if state.fresh { told } else { format!("… {told}") };
    put(buffer, 0, 0, area.width, title, BOLD);
    let at = area.width.saturating_sub(width(&told) as u16);
    put(buffer, at, 0, area.width - at, &told, Style::new().fg(Color::Magenta));
    let schema = state.estate.schema();
    let names: Vec<String> = schema.actions.iter().map(|action| action.name.clone()).collect();
    let letters = letters(&names);
    // What the letters mean, where there is room.
    let legend: Vec<String> = letters.iter().zip(&names).map(|(letter, name)| format!("{letter} {name}")).collect();
    let legend = legend.join("  ");
    let (from, room) = (width(title) as u16 + 3, at.saturating_sub(2));
    if usize::from(from) + width(&legend) <= usize::from(room) {
        put(buffer, from, 0, room - from, &legend, DIM);
    }
    let action = names.get(state.action).map_or("", String::as_str);
    let letter = letters.get(state.action).copied().unwrap_or(' ');
    put(buffer, 0, 1, places.tree - 1, &format!("{letter} {action}"), BOLD);
    for column in 0..usize::from(places.columns) {
        let Some((user, more)) = state.whose(column) else { break };
        let id = state.estate.people().id(user);
        let name =
            if more == 0 { id.to_string() } else { format!("{}+{more}", cut(id, usize::from(places.column) - 4)) };
        let x = places.tree + column as u16 * places.column;
        let style = match (state.left + column == state.column, state.estate.people().is_active(user)) {
            (true, _) => BOLD.patch(Style::new().fg(Color::Magenta)),
            (false, true) => Style::new(),
            (false, false) => DIM,
        };
        put(buffer, x, 1, places.column - 1, &cut(&name, usize::from(places.column) - 1), style);
    }
}

fn table(state: &State, places: &Places, buffer: &mut Buffer) {
    let schema = state.estate.schema();
    let names: Vec<String> = schema.actions.iter().map(|action| action.name.clone()).collect();
    let letters = letters(&names);
    for (at, row) in state.shown().iter().enumerate().take(usize::from(places.rows)) {
        let y = 2 + at as u16;
        let catalog = state.estate.catalog();
        let sign = match (catalog.is_leaf(row.resource), state.is_open(row.resource)) {
            (true, _) => "·",
            (false, true) => "▾",
            (false, false) => "▸",
        };
        let is_here = state.top + at == state.at;
        let label = format!(
            "{}{sign} {}",
            "  ".repeat(usize::from(row.depth.saturating_sub(1))),
            visible(catalog.name(row.resource))
        );
        let style = if is_here { BOLD.patch(Style::new().fg(Color::Magenta)) } else { Style::new() };
        put(buffer, 0, y, places.tree - 1, &cut(&label, usize::from(places.tree) - 1), style);
        for column in 0..usize::from(places.columns) {
            if state.whose(column).is_none() {
                break;
            }
            let x = places.tree + column as u16 * places.column;
            let cursor = is_here && state.left + column == state.column;
            match state.cell(at, column) {
                Some(cell) => letters_of(cell, &letters, state.action, (x, y, places.column - 1), cursor, buffer),
                None => put(buffer, x, y, places.column - 1, "…", if cursor { CURSOR } else { DIM }),
            }
        }
    }
}

fn letters_of(
    cell: &GridCell,
    letters: &[char],
    action: usize,
    at: (u16, u16, u16),
    cursor: bool,
    buffer: &mut Buffer,
) {
    let (x, y, most) = at;
    for (number, letter) in letters.iter().enumerate().take(usize::from(most)) {
        let (now, before) = (cell.now.contains(number), cell.before.contains(number));
        let (shown, style) = match (now, before) {
            (true, true) => (*letter, if number == action { BOLD } else { Style::new() }),
            (true, false) => (*letter, GAINED),
            (false, true) => ('-', LOST),
            (false, false) => ('·', DIM),
        };
        let style = if cursor { style.patch(CURSOR) } else { style };
        buffer.set_string(x + number as u16, y, shown.to_string(), style);
    }
    let (gained, lost) = (cell.now.difference(&cell.before).next(), cell.before.difference(&cell.now).next());
    let from = (letters.len() as u16).min(most);
    if from < most {
        let (mark, style) = match (gained, lost) {
            (Some(_), Some(_)) => ("±", GAINED),
            (Some(_), None) => ("+", GAINED),
            (None, Some(_)) => ("-", LOST),
            (None, None) => (" ", Style::new()),
        };
        buffer.set_string(x + from, y, mark, if cursor { style.patch(CURSOR) } else { style });
    }
    if cursor {
        (from + 1..most).for_each(|dx| buffer.set_string(x + dx, y, " ", CURSOR));
    }
}

fn cause(state: &State, places: &Places, area: Rect, buffer: &mut Buffer) {
    let (y, height) = places.cause;
    let path = state.resource().map_or(String::new(), |place| state.estate.catalog().path(place));
    let user = state.user().map_or(String::new(), |user| {
        format!("{} ({})", state.estate.people().name(user), state.estate.people().id(user))
    });
    let action = state.estate.schema().actions.get(state.action).map_or("", |action| action.name.as_str());
    put(buffer, 0, y, area.width, &"─".repeat(usize::from(area.width)), DIM);
    put(buffer, 1, y, area.width - 1, &cut(&format!(" {user}  {action}  {path} "), usize::from(area.width) - 2), BOLD);
    let Some(text) = &state.cause else {
        put(buffer, 0, y + 1, area.width, "…", DIM);
        return;
    };
    for (at, line) in text.lines().skip(state.scrolled).take(usize::from(height) - 1).enumerate() {
        let style = match line.split(' ').next() {
            Some("allowed") => GOOD,
            Some("refused") => BAD,
            _ if !line.starts_with(' ') => BOLD,
            _ => Style::new(),
        };
        put(buffer, 0, y + 1 + at as u16, area.width, line, style);
    }
}

fn foot(state: &State, area: Rect, buffer: &mut Buffer) {
    let y = area.height - 2;
    match &state.effect {
        Some((text, broken)) => {
            let style = if *broken { BAD } else { Style::new().fg(Color::Magenta) };
            put(buffer, 0, y, area.width, &format!("changes: {text}"), style);
        }
        None if state.pending() > 0 => put(buffer, 0, y, area.width, "changes: …", DIM),
        None => {}
    }
    let hint = match state.mode {
        Mode::Table => {
            "arrows go  Enter opens  Tab action  / search  x take out  r remedies  e write  u undo  w save  ? keys  q leave"
        }
        Mode::Writing(_) => "Tab completes  Enter keeps the rule  Esc leaves it",
        Mode::Choosing(_) => "type to narrow  arrows go  Enter chooses  Esc leaves",
        Mode::Help => "any key goes back",
    };
    let (text, style) =
        if state.said.is_empty() { (hint, DIM) } else { (state.said.as_str(), Style::new().fg(Color::Magenta)) };
    put(buffer, 0, y + 1, area.width, text, style);
}

/// A part of the screen in front of it.
fn window(wide: u16, high: u16, title: &str, area: Rect, buffer: &mut Buffer) -> Rect {
    let (wide, high) = (wide.min(area.width - 2), high.min(area.height - 2));
    let (x, y) = ((area.width - wide) / 2, (area.height - high) / 2);
    let line = "─".repeat(usize::from(wide) - 2);
    for dy in 0..high {
        let (left, middle, right) = match dy {
            0 => ("╭", line.clone(), "╮"),
            dy if dy + 1 == high => ("╰", line.clone(), "╯"),
            _ => ("│", " ".repeat(usize::from(wide) - 2), "│"),
        };
        buffer.set_string(x, y + dy, format!("{left}{middle}{right}"), Style::reset());
    }
    put(buffer, x + 2, y, wide - 4, &format!(" {title} "), BOLD);
    Rect { x: x + 2, y: y + 1, width: wide - 4, height: high - 2 }
}

fn choosing(chooser: &Chooser, area: Rect, buffer: &mut Buffer) {
    let inside = window(area.width * 4 / 5, (area.height * 3 / 5).max(10), &chooser.title, area, buffer);
    put(buffer, inside.x, inside.y, inside.width, &format!("> {}_", chooser.typed), Style::new());
    let room = usize::from(inside.height) - 1;
    let top = (chooser.at + 1).saturating_sub(room);
    for (at, (words, _)) in chooser.fitting().enumerate().skip(top).take(room) {
        let style = if at == chooser.at { CURSOR } else { Style::new() };
        let y = inside.y + 1 + (at - top) as u16;
        put(buffer, inside.x, y, inside.width, &cut(&visible(words), usize::from(inside.width)), style);
    }
}

/// The rule that is being written, in the place of the explanation.
fn writing(field: &Field, places: &Places, area: Rect, buffer: &mut Buffer) {
    let (y, height) = places.cause;
    for dy in 0..height {
        put(buffer, 0, y + dy, area.width, &" ".repeat(usize::from(area.width)), Style::reset());
    }
    put(buffer, 0, y, area.width, &"─".repeat(usize::from(area.width)), DIM);
    let head = " a rule, as in `who members of lenders may read what report` ";
    put(buffer, 1, y, area.width - 1, head, BOLD);
    // The end of what is typed is what is looked at.
    let room = usize::from(area.width) - 3;
    let mut from = 0;
    while width(&field.text[from..]) > room {
        from += field.text[from..].chars().next().map_or(1, char::len_utf8);
    }
    put(buffer, 0, y + 1, area.width, &format!("> {}_", &field.text[from..]), Style::new());
    let (told, style) = match (field.fine, field.told.is_empty()) {
        (_, true) => ("…", DIM),
        (true, false) => (field.told.as_str(), GOOD),
        (false, false) => (field.told.as_str(), Style::new().fg(Color::Magenta)),
    };
    let lines = told.lines().take(usize::from(height).saturating_sub(4).max(1));
    let used = lines.enumerate().map(|(at, line)| put(buffer, 0, y + 2 + at as u16, area.width, line, style)).count();
    let offers: Vec<&str> = field.offers.iter().take(40).map(|one| one.shown.as_str()).collect();
    let line = y + 2 + used as u16;
    if !offers.is_empty() && line < y + height {
        put(buffer, 0, line, area.width, &cut(&format!("Tab: {}", offers.join("  ")), usize::from(area.width)), DIM);
    }
}

fn help(area: Rect, buffer: &mut Buffer) {
    let inside = window(74, KEYS.len() as u16 + 2, "keys", area, buffer);
    for (at, (keys, does)) in KEYS.iter().enumerate().take(usize::from(inside.height)) {
        put(buffer, inside.x, inside.y + at as u16, 18, keys, BOLD);
        put(buffer, inside.x + 18, inside.y + at as u16, inside.width.saturating_sub(18), does, Style::new());
    }
}
