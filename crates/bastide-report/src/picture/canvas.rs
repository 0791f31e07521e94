//! What every picture draws with: one font, one set of colours, texts that fit their room.

use super::Medium;
use bastide_syntax::visible;
use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::FontStyle;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use std::sync::Once;

const FONT: &[u8] = include_bytes!("../../fonts/DejaVuSans.ttf");
/// The font's family, as the SVG names it too.
const FAMILY: &str = "DejaVu Sans";

pub const PAPER: RGBColor = RGBColor(251, 250, 247);
pub const INK: RGBColor = RGBColor(29, 37, 41);
pub const SOFT: RGBColor = RGBColor(91, 103, 109);
pub const LINE: RGBColor = RGBColor(217, 220, 216);
pub const ACCENT: RGBColor = RGBColor(15, 92, 110);
pub const BAD: RGBColor = RGBColor(163, 38, 27);
pub const WHITE: RGBColor = RGBColor(255, 255, 255);

/// Points of a PNG for each unit of the picture, in each direction.
const SCALE: u32 = 2;
/// So many times finer is it drawn.
const FINER: u32 = 2;

static REGISTERED: Once = Once::new();

/// A surface of either medium.
pub struct Canvas<'a, B: DrawingBackend> {
    area: &'a DrawingArea<B, Shift>,
    /// By how much larger everything is drawn than it is told to be.
    factor: i32,
}

/// Something that can be drawn on any surface.
pub trait Drawing {
    /// Draws it.
    ///
    /// # Errors
    /// The surface's own.
    fn draw<B: DrawingBackend>(&self, canvas: &Canvas<B>) -> Result<(), DrawingAreaErrorKind<B::ErrorType>>;
}

/// Where a text stands against its point.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// It begins there.
    Left,
    /// It is centred there.
    Middle,
    /// It ends there.
    Right,
}

impl<B: DrawingBackend> Canvas<'_, B> {
    fn style(&self, size: f64, color: RGBColor) -> TextStyle<'static> {
        TextStyle {
            font: (FAMILY, size * f64::from(self.factor), FontStyle::Normal).into_font(),
            color: color.to_backend_color(),
            pos: Pos::new(HPos::Left, VPos::Top),
        }
    }

    /// The width of a text in units.
    pub fn width(&self, text: &str, size: f64) -> i32 {
        let found = self.area.estimate_text_size(text, &self.style(size, INK));
        found.map_or(0, |(w, _)| (w as i32).unsigned_abs().div_ceil(self.factor as u32) as i32)
    }

    fn at(&self, (x, y): (i32, i32)) -> (i32, i32) {
        (x * self.factor, y * self.factor)
    }

    /// A text cut to a width, made visible.
    pub fn cut(&self, text: &str, size: f64, most: i32) -> String {
        let text = visible(text).into_owned();
        if self.width(&text, size) <= most {
            return text;
        }
        let chars: Vec<char> = text.chars().collect();
        let (mut fits, mut too_long) = (0, chars.len());
        let upto = |n: usize| format!("{}…", chars[..n].iter().collect::<String>().trim_end());
        while fits + 1 < too_long {
            let middle = (fits + too_long) / 2;
            if self.width(&upto(middle), size) <= most { fits = middle } else { too_long = middle }
        }
        upto(fits)
    }

    /// A text at a point, which is in the middle of its height.
    pub fn text(
        &self,
        text: &str,
        at: (i32, i32),
        size: f64,
        color: RGBColor,
        side: Side,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        let horizontal = match side {
            Side::Left => HPos::Left,
            Side::Middle => HPos::Center,
            Side::Right => HPos::Right,
        };
        let style = self.style(size, color).pos(Pos::new(horizontal, VPos::Center));
        self.area.draw_text(text, &style, self.at(at))
    }

    /// A filled rectangle.
    pub fn fill(
        &self,
        from: (i32, i32),
        to: (i32, i32),
        color: RGBColor,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        self.area.draw(&Rectangle::new([self.at(from), self.at(to)], color.filled()))
    }

    /// The outline of a rectangle.
    pub fn outline(
        &self,
        from: (i32, i32),
        to: (i32, i32),
        color: RGBColor,
        thick: u32,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        self.area.draw(&Rectangle::new([self.at(from), self.at(to)], color.stroke_width(thick * self.factor as u32)))
    }

    /// A line through points.
    pub fn line(
        &self,
        points: Vec<(i32, i32)>,
        color: RGBColor,
        thick: u32,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        let points: Vec<(i32, i32)> = points.into_iter().map(|p| self.at(p)).collect();
        self.area.draw(&PathElement::new(points, color.stroke_width(thick * self.factor as u32)))
    }

    /// An arrow from left to right.
    pub fn arrow(
        &self,
        from: (i32, i32),
        to: (i32, i32),
        color: RGBColor,
        thick: u32,
    ) -> Result<(), DrawingAreaErrorKind<B::ErrorType>> {
        self.line(vec![from, to], color, thick)?;
        let back = if to.0 >= from.0 { -7 } else { 7 };
        let head = [(to.0 + back, to.1 - 4), to, (to.0 + back, to.1 + 4)].map(|p| self.at(p)).to_vec();
        self.area.draw(&Polygon::new(head, color.filled()))
    }
}

/// Draws on a surface of a size in pixels.
///
/// # Errors
/// The picture cannot be encoded.
pub fn paint(medium: Medium, (width, height): (u32, u32), drawing: &impl Drawing) -> Result<Vec<u8>, String> {
    REGISTERED.call_once(|| {
        // The font is part of the program: it is one.
        let _ = plotters::style::register_font(FAMILY, FontStyle::Normal, FONT);
    });
    match medium {
        Medium::Svg => {
            let mut text = String::new();
            {
                let area = SVGBackend::with_string(&mut text, (width, height)).into_drawing_area();
                area.fill(&PAPER).map_err(|e| e.to_string())?;
                drawing.draw(&Canvas { area: &area, factor: 1 }).map_err(|e| e.to_string())?;
                area.present().map_err(|e| e.to_string())?;
            }
            Ok(text.into_bytes())
        }
        Medium::Png => {
            // Small letters stand unevenly on whole pixels: they are drawn larger and brought down.
            let (wide, high) = (width * SCALE * FINER, height * SCALE * FINER);
            let mut pixels = vec![0u8; wide as usize * high as usize * 3];
            {
                let area = BitMapBackend::with_buffer(&mut pixels, (wide, high)).into_drawing_area();
                area.fill(&PAPER).map_err(|e| e.to_string())?;
                let factor = (SCALE * FINER) as i32;
                drawing.draw(&Canvas { area: &area, factor }).map_err(|e| e.to_string())?;
                area.present().map_err(|e| e.to_string())?;
            }
            let (width, height) = (width * SCALE, height * SCALE);
            let pixels = brought_down(&pixels, width as usize, height as usize);
            let mut out = Vec::new();
            let mut encoder = png::Encoder::new(&mut out, width, height);
            encoder.set_color(png::ColorType::Rgb);
            encoder.set_depth(png::BitDepth::Eight);
            let mut writer = encoder.write_header().map_err(|e| e.to_string())?;
            writer.write_image_data(&pixels).map_err(|e| e.to_string())?;
            writer.finish().map_err(|e| e.to_string())?;
            Ok(out)
        }
    }
}

/// Each point the mean of the finer ones it stands for.
fn brought_down(pixels: &[u8], width: usize, height: usize) -> Vec<u8> {
    let finer = FINER as usize;
    let mut out = Vec::with_capacity(width * height * 3);
    for y in 0..height {
        for x in 0..width {
            for channel in 0..3 {
                let of = |dx: usize, dy: usize| {
                    usize::from(pixels[((y * finer + dy) * width * finer + x * finer + dx) * 3 + channel])
                };
                let sum: usize =
                    (0..finer).flat_map(|dy| (0..finer).map(move |dx| (dx, dy))).map(|(x, y)| of(x, y)).sum();
                out.push((sum / (finer * finer)) as u8);
            }
        }
    }
    out
}
