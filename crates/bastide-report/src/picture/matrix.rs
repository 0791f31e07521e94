//! Profiles of users by places: how far their access goes, by colour.

use super::Medium;
use super::canvas::{Canvas, Drawing, INK, LINE, SOFT, Side, WHITE, paint};
use bastide_engine::access::Matrix;
use plotters::prelude::*;

/// So many rows and columns can be told apart.
const MOST_ROWS: usize = 60;
const MOST_PROFILES: usize = 36;

const ROW: i32 = 18;
const COLUMN: i32 = 24;
const LEFT: i32 = 330;
const TOP: i32 = 88;

/// How far access goes, the least first, with its colour.
const STEPS: [(&str, RGBColor); 4] = [
    ("nothing", RGBColor(238, 242, 241)),
    ("harmless only", RGBColor(150, 196, 204)),
    ("more than harmless", RGBColor(226, 150, 102)),
    ("everything there is to do", RGBColor(163, 38, 27)),
];

struct HeatMap<'m> {
    matrix: &'m Matrix,
    title: String,
    /// By row, how many actions have a meaning.
    meaning: Vec<usize>,
    /// By action.
    harmless: Vec<bool>,
    rows: usize,
    profiles: usize,
}

/// The picture. `meaning` says for each row how many of the actions asked for have a meaning on its resource,
/// `harmless` for each action whether it does no harm.
///
/// # Errors
/// The picture cannot be encoded.
pub fn heat_map(
    matrix: &Matrix,
    title: &str,
    meaning: Vec<usize>,
    harmless: Vec<bool>,
    medium: Medium,
) -> Result<Vec<u8>, String> {
    let rows = matrix.rows.len().min(MOST_ROWS);
    let profiles = matrix.profiles.len().min(MOST_PROFILES);
    let map = HeatMap { matrix, title: title.to_string(), meaning, harmless, rows, profiles };
    let grid = LEFT + profiles as i32 * COLUMN;
    let height = TOP + (rows.max(profiles) as i32) * ROW + 60;
    paint(medium, ((grid + 470).max(1280) as u32, height.max(420) as u32), &map)
}

impl HeatMap<'_> {
    fn step(&self, row: usize, profile: usize) -> usize {
        let cell = self.matrix.cell(row, profile);
        if cell.is_empty() {
            0
        } else if cell.len() >= self.meaning[row] {
            3
        } else if cell.iter().all(|a| self.harmless[*a]) {
            1
        } else {
            2
        }
    }
}

impl Drawing for HeatMap<'_> {
    fn draw<B: DrawingBackend>(&self, canvas: &Canvas<B>) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        let grid = LEFT + self.profiles as i32 * COLUMN;
        canvas.text(&canvas.cut(&self.title, 20.0, 900), (20, 26), 20.0, INK, Side::Left)?;
        let names: Vec<&str> = self
            .matrix
            .actions
            .iter()
            .enumerate()
            .filter(|(a, _)| self.harmless[*a])
            .map(|(_, n)| n.as_str())
            .collect();
        let mut x = 20;
        for (at, (name, color)) in STEPS.iter().enumerate() {
            let name = match (at, names.is_empty()) {
                (1, false) => format!("{name} ({})", names.join(", ")),
                _ => name.to_string(),
            };
            canvas.fill((x, 46), (x + 16, 60), *color)?;
            canvas.outline((x, 46), (x + 16, 60), LINE, 1)?;
            canvas.text(&name, (x + 22, 53), 13.0, INK, Side::Left)?;
            x += 22 + canvas.width(&name, 13.0) + 26;
        }
        for profile in 0..self.profiles {
            let middle = LEFT + profile as i32 * COLUMN + COLUMN / 2;
            canvas.text(&(profile + 1).to_string(), (middle, TOP - 11), 12.0, SOFT, Side::Middle)?;
        }
        let top = self.matrix.rows.iter().map(|r| r.depth).min().unwrap_or(1);
        for (at, row) in self.matrix.rows.iter().take(self.rows).enumerate() {
            let (y, indent) = (TOP + at as i32 * ROW, i32::from(row.depth - top) * 16);
            let room = LEFT - 30 - indent;
            let hidden = if row.hidden > 0 { format!(" ({} within)", row.hidden) } else { String::new() };
            let beside = canvas.width(&hidden, 12.0);
            let name = canvas.cut(if row.name.is_empty() { &row.resource } else { &row.name }, 13.0, room - beside);
            canvas.text(&name, (20 + indent, y + ROW / 2), 13.0, INK, Side::Left)?;
            canvas.text(&hidden, (20 + indent + canvas.width(&name, 13.0), y + ROW / 2), 12.0, SOFT, Side::Left)?;
            for profile in 0..self.profiles {
                let x = LEFT + profile as i32 * COLUMN;
                canvas.fill((x, y), (x + COLUMN - 1, y + ROW - 1), STEPS[self.step(at, profile)].1)?;
            }
        }
        for (at, profile) in self.matrix.profiles.iter().take(self.profiles).enumerate() {
            let y = TOP + at as i32 * ROW + ROW / 2;
            let users = profile.users.len();
            let text = if users == 1 {
                profile.users[0].clone()
            } else {
                let more = if users > 3 { format!(" and {} more", users - 3) } else { String::new() };
                format!("{users} users: {}{more}", profile.users[..users.min(3)].join(", "))
            };
            canvas.text(&(at + 1).to_string(), (grid + 42, y), 12.0, SOFT, Side::Right)?;
            canvas.text(&canvas.cut(&text, 13.0, 410), (grid + 52, y), 13.0, INK, Side::Left)?;
        }
        let left_out: Vec<String> = [
            (self.matrix.rows.len() - self.rows, "place", "--depth or --under narrows"),
            (self.matrix.profiles.len() - self.profiles, "profile", "--users or --under narrows"),
        ]
        .into_iter()
        .filter(|(n, ..)| *n > 0)
        .map(|(n, noun, option)| format!("{n} more {noun}{} ({option})", if n == 1 { "" } else { "s" }))
        .collect();
        let y = TOP + self.rows.max(self.profiles) as i32 * ROW + 28;
        let text = if left_out.is_empty() {
            "Places down; users with the same access share a column, numbered at the top and named at the right."
                .to_string()
        } else {
            format!("Left out for want of room: {}.", left_out.join(", "))
        };
        canvas.text(&text, (20, y), 12.0, SOFT, Side::Left)?;
        // White under nothing, so that the grid reads as one.
        canvas.line(vec![(LEFT - 1, TOP), (LEFT - 1, TOP + self.rows as i32 * ROW)], WHITE, 1)
    }
}
