//! How a rule narrows, word by word: users and resources left after each condition.

use super::Medium;
use super::canvas::{ACCENT, Canvas, Drawing, INK, LINE, SOFT, Side, paint};
use bastide_engine::access::Reached;
use plotters::prelude::*;

const ROW: i32 = 46;
const TOP: i32 = 118;
const WORDS: i32 = 470;
const BAR: i32 = 320;

struct Steps<'r> {
    reached: &'r Reached,
}

/// The picture.
///
/// # Errors
/// The picture cannot be encoded.
pub fn narrowing(reached: &Reached, medium: Medium) -> Result<Vec<u8>, String> {
    let height = TOP + (reached.steps.len() as i32) * ROW + 70;
    paint(medium, (1280, height.max(300) as u32), &Steps { reached })
}

impl Drawing for Steps<'_> {
    fn draw<B: DrawingBackend>(&self, canvas: &Canvas<B>) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        let r = self.reached;
        let title =
            format!("{} {}: {} {}", r.statement.sort, r.statement.name, r.statement.modality, r.actions.join(", "));
        canvas.text(&canvas.cut(&title, 20.0, 1240), (20, 28), 20.0, INK, Side::Left)?;
        let under = match &r.asleep {
            Some(why) => format!("{} · as if it applied: {why}", r.statement.place),
            None => r.statement.place.clone(),
        };
        canvas.text(&canvas.cut(&under, 13.0, 1240), (20, 54), 13.0, SOFT, Side::Left)?;
        let columns = [(WORDS + 30, "users"), (WORDS + 30 + BAR + 90, "resources")];
        for (x, name) in columns {
            canvas.text(&format!("{name} left"), (x, TOP - 22), 13.0, SOFT, Side::Left)?;
        }
        let most =
            |of: fn(&bastide_engine::access::Narrowing) -> usize| r.steps.iter().map(of).max().unwrap_or(0).max(1);
        let (users, resources) = (most(|s| s.users), most(|s| s.resources));
        for (at, step) in r.steps.iter().enumerate() {
            let y = TOP + at as i32 * ROW;
            canvas.text(&canvas.cut(&step.words, 14.0, WORDS - 20), (20, y + 10), 14.0, INK, Side::Left)?;
            let pairs = format!("{} pairs", step.pairs);
            canvas.text(&pairs, (20, y + 29), 12.0, SOFT, Side::Left)?;
            for ((x, _), (number, all)) in columns.iter().zip([(step.users, users), (step.resources, resources)]) {
                let long = (number as f64 / all as f64 * f64::from(BAR)).round() as i32;
                canvas.fill((*x, y + 2), (x + BAR, y + 24), LINE)?;
                if number > 0 {
                    canvas.fill((*x, y + 2), (x + long.max(2), y + 24), ACCENT)?;
                }
                canvas.text(&number.to_string(), (x + BAR + 10, y + 13), 14.0, INK, Side::Left)?;
            }
        }
        let y = TOP + r.steps.len() as i32 * ROW + 20;
        let (gain, sole) = (r.sole.gained, r.sole.triples());
        let sole = if sole == 0 {
            "nothing is solely its doing".to_string()
        } else {
            format!(
                "solely its doing: {sole} of them, for {} users{}",
                r.sole.users,
                if gain > 0 && !r.live { " (if it applied)" } else { "" }
            )
        };
        canvas.text(
            &format!("It applies to {} triples of user, action and resource; {sole}.", r.triples),
            (20, y),
            13.0,
            INK,
            Side::Left,
        )
    }
}
