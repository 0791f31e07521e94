//! The graph of one decision: from the user through groups to each statement that applies, and from its place
//! through containers to the resource.

use super::Medium;
use super::canvas::{ACCENT, BAD, Canvas, Drawing, INK, LINE, SOFT, Side, WHITE, paint};
use bastide_engine::Reason;
use bastide_engine::explain::{Applying, Explanation, Fate};
use plotters::prelude::*;

const TOP: i32 = 96;
const ROW: i32 = 96;
const BOX: (i32, i32) = (150, 44);
/// A statement has a longer name and place.
const STATEMENT: i32 = 230;
const GAP: i32 = 28;
/// So many boxes of a chain are drawn; what stands between is counted.
const MOST: usize = 3;

struct Graph<'e> {
    explanation: &'e Explanation,
    rows: Vec<Row<'e>>,
    width: i32,
}

/// One statement and its two chains.
struct Row<'e> {
    applying: &'e Applying,
    left: Vec<(String, String)>,
    right: Vec<(String, String)>,
}

/// The picture.
///
/// # Errors
/// The picture cannot be encoded.
pub fn chain(explanation: &Explanation, medium: Medium) -> Result<Vec<u8>, String> {
    let rows: Vec<Row> = explanation
        .applying
        .iter()
        .map(|applying| Row {
            applying,
            left: boxes(groups(applying), "group"),
            right: boxes(places(applying), "place"),
        })
        .collect();
    let longest = |of: fn(&Row) -> usize| rows.iter().map(of).max().unwrap_or(0) as i32;
    // The user, groups, the statement, places, the resource.
    let boxes = 2 + longest(|r| r.left.len()) + longest(|r| r.right.len());
    let width = (40 + boxes * (BOX.0 + GAP) + STATEMENT).max(1280);
    let height = TOP + rows.len().max(1) as i32 * ROW + 30 + 20 * explanation.needs.len() as i32 + 30;
    paint(medium, (width as u32, height.max(300) as u32), &Graph { explanation, rows, width })
}

/// The groups between the user and the statement: by the shortest way.
fn groups(applying: &Applying) -> Vec<String> {
    let way = applying.ways.iter().min_by_key(|w| w.chain.len());
    way.map_or(Vec::new(), |w| w.chain.clone())
}

/// The places between the statement and the resource, the resource left aside.
fn places(applying: &Applying) -> Vec<String> {
    let mut places = applying.place.clone();
    places.pop();
    places
}

/// The boxes of a chain, each with what it is; of a long one, what stands between shares a box.
fn boxes(chain: Vec<String>, noun: &str) -> Vec<(String, String)> {
    let one = |name: &String| (name.clone(), noun.to_string());
    if chain.len() <= MOST {
        return chain.iter().map(one).collect();
    }
    let (first, between, last) = (&chain[0], &chain[1..chain.len() - 1], &chain[chain.len() - 1]);
    vec![one(first), (between.join(" › "), format!("{} {noun}s", between.len())), one(last)]
}

impl Drawing for Graph<'_> {
    fn draw<B: DrawingBackend>(&self, canvas: &Canvas<B>) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        let e = self.explanation;
        let (word, color) = if e.allowed { ("allowed", ACCENT) } else { ("refused", BAD) };
        canvas.text(&format!("{word} · {}", e.reason.word()), (20, 26), 20.0, color, Side::Left)?;
        canvas.text(&canvas.cut(&e.sentence, 14.0, self.width - 40), (20, 54), 14.0, INK, Side::Left)?;
        let user = if e.user.name.is_empty() { &e.user.id } else { &e.user.name };
        let resource = e.resource.path.rsplit('/').next().unwrap_or(&e.resource.id);
        let middle = TOP + (self.rows.len().max(1) as i32 * ROW) / 2 - ROW / 2;
        let right = self.width - 20 - BOX.0;
        boxed(canvas, (20, middle, BOX.0), user, &e.user.id, INK, false)?;
        boxed(canvas, (right, middle, BOX.0), resource, &e.resource.kind, INK, false)?;
        if self.rows.is_empty() {
            canvas.text(
                "nothing that applies leads from here to there",
                (self.width / 2, middle + BOX.1 / 2),
                14.0,
                SOFT,
                Side::Middle,
            )?;
        }
        for (at, row) in self.rows.iter().enumerate() {
            let y = TOP + at as i32 * ROW;
            let (color, fate, thick) = match &row.applying.fate {
                // What permits does not decide where a need is not met.
                Fate::Decides if e.reason == Reason::Blocked => (SOFT, "permits it by itself".to_string(), 2),
                Fate::Decides => (color, "decides".to_string(), 3),
                Fate::Agrees => (SOFT, "says the same".to_string(), 1),
                Fate::Lost { to } => (SOFT, format!("loses to {to}"), 1),
            };
            let mut from = (20 + BOX.0, middle + BOX.1 / 2);
            let mut x = 20 + BOX.0 + GAP;
            let link = |x: i32, wide: i32, from: &mut (i32, i32)| -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
                elbow(canvas, *from, (x, y + BOX.1 / 2), from.0 + GAP / 2, color, thick)?;
                *from = (x + wide, y + BOX.1 / 2);
                Ok(())
            };
            for (name, what) in &row.left {
                link(x, BOX.0, &mut from)?;
                boxed(canvas, (x, y, BOX.0), name, what, SOFT, false)?;
                x += BOX.0 + GAP;
            }
            // Statements stand above each other, chains of places end at the resource.
            let widest = self.rows.iter().map(|r| r.left.len()).max().unwrap_or(0) as i32;
            let x = 20 + (widest + 1) * (BOX.0 + GAP);
            link(x, STATEMENT, &mut from)?;
            let statement = &row.applying.statement;
            let named = if row.left.is_empty() { row.applying.ways.first().map(|w| w.by.as_str()) } else { None };
            let under = match named {
                Some("named") => format!("by name {} · {}", statement.modality, statement.place),
                Some("owner") => format!("the owner {} · {}", statement.modality, statement.place),
                Some("anyone") => format!("anyone {} · {}", statement.modality, statement.place),
                _ => format!("{} · {}", statement.modality, statement.place),
            };
            boxed(canvas, (x, y, STATEMENT), &statement.name, &under, color, true)?;
            let told = canvas.cut(&fate, 11.0, STATEMENT + GAP + BOX.0);
            canvas.text(&told, (x, y + BOX.1 + 10), 11.0, color, Side::Left)?;
            let first = right - row.right.len() as i32 * (BOX.0 + GAP);
            for (i, (name, what)) in row.right.iter().enumerate() {
                let x = first + i as i32 * (BOX.0 + GAP);
                link(x, BOX.0, &mut from)?;
                boxed(canvas, (x, y, BOX.0), name, what, SOFT, false)?;
            }
            elbow(canvas, from, (right, middle + BOX.1 / 2), right - GAP / 2, color, thick)?;
        }
        let mut y = TOP + self.rows.len().max(1) as i32 * ROW + 16;
        for need in &e.needs {
            let met = if need.met { "met" } else { "not met" };
            let path = need.path.as_deref().unwrap_or("nothing there");
            let by = need.by.as_ref().map_or(String::new(), |by| format!(", decided by {}", by.name));
            let text = format!("needs {} on {} ({path}): {met}{by}", need.action, need.target);
            let color = if need.met { SOFT } else { BAD };
            canvas.text(&canvas.cut(&text, 13.0, self.width - 40), (20, y), 13.0, color, Side::Left)?;
            y += 20;
        }
        Ok(())
    }
}

/// An arrow that turns at one place, so that it crosses no box.
fn elbow<B: DrawingBackend>(
    canvas: &Canvas<B>,
    from: (i32, i32),
    to: (i32, i32),
    turn: i32,
    color: RGBColor,
    thick: u32,
) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
    canvas.line(vec![from, (turn, from.1), (turn, to.1)], color, thick)?;
    canvas.arrow((turn, to.1), to, color, thick)
}

/// A box with a name and what it is.
fn boxed<B: DrawingBackend>(
    canvas: &Canvas<B>,
    (x, y, wide): (i32, i32, i32),
    name: &str,
    what: &str,
    color: RGBColor,
    strong: bool,
) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
    let to = (x + wide, y + BOX.1);
    canvas.fill((x, y), to, WHITE)?;
    canvas.outline((x, y), to, if strong { color } else { LINE }, if strong { 2 } else { 1 })?;
    canvas.text(&canvas.cut(name, 13.0, wide - 16), (x + 8, y + 15), 13.0, INK, Side::Left)?;
    canvas.text(&canvas.cut(what, 11.0, wide - 16), (x + 8, y + 32), 11.0, SOFT, Side::Left)
}
