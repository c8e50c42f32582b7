//! Draws texts and bars into a buffer of pixels. The fonts are embedded, so that hints look the same
//! everywhere; fonts of the system serve only for characters that these lack.
//!
//! Knows nothing of displays: a back end shows the pixels.

use std::collections::BTreeMap;

use ab_glyph::{Font, FontRef, FontVec, GlyphId, ScaleFont, point};

/// A colour, as 0xRRGGBB.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Color(pub u32);

impl Color {
    /// The ground of a sign: dark enough for light words.
    pub const GROUND: Color = Color(0x0014_2433);
    /// Its edge: light, so that a sign stands out from a dark screen too.
    pub const EDGE: Color = Color(0x0092_a5b8);
    /// Words.
    pub const WORDS: Color = Color(0x00f2_f6fa);
    /// Words of less weight, and what is empty.
    pub const FAINT: Color = Color(0x008f_a3b8);
    /// What is full, or chosen.
    pub const FULL: Color = Color(0x0058_b6d8);
    /// A field to write in.
    pub const FIELD: Color = Color(0x0020_3a50);

    fn over(self, ground: u32, share: f32) -> u32 {
        let part = |shift: u32| {
            let (own, below) = ((self.0 >> shift) & 255, (ground >> shift) & 255);
            let mixed = own as f32 * share + below as f32 * (1.0 - share);
            (mixed.round() as u32) << shift
        };
        part(0) | part(8) | part(16)
    }
}

/// Pixels, row by row, as 0xRRGGBB.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Canvas {
    /// How wide it is.
    pub width: usize,
    /// How high it is.
    pub height: usize,
    /// The pixels.
    pub pixels: Vec<u32>,
}

impl Canvas {
    /// A box with an edge one pixel wide.
    pub fn boxed(width: usize, height: usize) -> Canvas {
        let mut canvas = Canvas { width, height, pixels: vec![Color::EDGE.0; width * height] };
        canvas.fill(1, 1, width.saturating_sub(2), height.saturating_sub(2), Color::GROUND);
        canvas
    }

    /// Fills a part of it.
    pub fn fill(&mut self, x: usize, y: usize, width: usize, height: usize, ink: Color) {
        for row in y..(y + height).min(self.height) {
            let end = (x + width).min(self.width);
            self.pixels[row * self.width + x.min(end)..row * self.width + end].fill(ink.0);
        }
    }

    fn blend(&mut self, x: i32, y: i32, ink: Color, share: f32) {
        let place = usize::try_from(x).ok().zip(usize::try_from(y).ok());
        if let Some((x, y)) = place.filter(|(x, y)| *x < self.width && *y < self.height) {
            let pixel = &mut self.pixels[y * self.width + x];
            *pixel = ink.over(*pixel, share.clamp(0.0, 1.0));
        }
    }
}

/// The fonts, and what was looked for in those of the system.
#[derive(Debug)]
pub struct Fonts {
    own: Vec<FontRef<'static>>,
    system: Option<fontdb::Database>,
    /// Fonts of the system that had a character ours lack.
    found: Vec<FontVec>,
    /// Which of them has a character, if any.
    known: BTreeMap<char, Option<usize>>,
}

/// One character, from one of the fonts.
#[derive(Debug, Clone, Copy)]
enum Glyph {
    Own(usize, GlyphId),
    Found(usize, GlyphId),
}

impl Default for Fonts {
    fn default() -> Self {
        use epaint_default_fonts::{HACK_REGULAR, NOTO_EMOJI_REGULAR, UBUNTU_LIGHT};
        let font = |bytes| FontRef::try_from_slice(bytes).expect("the fonts we ship are fonts");
        let own = [UBUNTU_LIGHT, HACK_REGULAR, NOTO_EMOJI_REGULAR].map(font).to_vec();
        Fonts { own, system: None, found: Vec::new(), known: BTreeMap::new() }
    }
}

impl Fonts {
    /// How wide a line is, in pixels, at a size.
    pub fn width(&mut self, line: &str, size: f32) -> usize {
        let shapes: Vec<Glyph> = line.chars().map(|character| self.shape(character)).collect();
        let width: f32 = shapes.into_iter().map(|shape| self.advance(shape, size)).sum();
        width.ceil() as usize
    }

    /// Draws a line with its baseline there; gives where it ends.
    pub fn draw(
        &mut self,
        canvas: &mut Canvas,
        (x, baseline): (usize, usize),
        line: &str,
        size: f32,
        ink: Color,
    ) -> usize {
        let mut at = x as f32;
        for character in line.chars() {
            let shape = self.shape(character);
            let place = point(at, baseline as f32);
            let outline = match shape {
                Glyph::Own(font, glyph) => {
                    self.own[font].outline_glyph(glyph.with_scale_and_position(size, place))
                }
                Glyph::Found(font, glyph) => {
                    self.found[font].outline_glyph(glyph.with_scale_and_position(size, place))
                }
            };
            if let Some(outline) = outline {
                let corner = outline.px_bounds().min;
                outline.draw(|x, y, share| {
                    canvas.blend(
                        corner.x as i32 + x as i32,
                        corner.y as i32 + y as i32,
                        ink,
                        share,
                    );
                });
            }
            at += self.advance(shape, size);
        }
        at.ceil() as usize
    }

    fn advance(&self, shape: Glyph, size: f32) -> f32 {
        match shape {
            Glyph::Own(font, glyph) => self.own[font].as_scaled(size).h_advance(glyph),
            Glyph::Found(font, glyph) => self.found[font].as_scaled(size).h_advance(glyph),
        }
    }

    fn shape(&mut self, character: char) -> Glyph {
        for (index, font) in self.own.iter().enumerate() {
            let glyph = font.glyph_id(character);
            if glyph.0 != 0 {
                return Glyph::Own(index, glyph);
            }
        }
        let known = match self.known.get(&character) {
            Some(known) => *known,
            None => {
                let found = self.look_for(character);
                self.known.insert(character, found);
                found
            }
        };
        match known {
            Some(index) => Glyph::Found(index, self.found[index].glyph_id(character)),
            // The box that stands for what no font has.
            None => Glyph::Own(0, GlyphId(0)),
        }
    }

    fn look_for(&mut self, character: char) -> Option<usize> {
        let has = |font: &FontVec| font.glyph_id(character).0 != 0;
        if let Some(index) = self.found.iter().position(has) {
            return Some(index);
        }
        let system = self.system.get_or_insert_with(|| {
            let mut system = fontdb::Database::new();
            system.load_system_fonts();
            system
        });
        let faces: Vec<fontdb::ID> = system.faces().map(|face| face.id).collect();
        let font = faces.into_iter().find_map(|face| {
            let read = |bytes: &[u8], index: u32| {
                let font = FontRef::try_from_slice_and_index(bytes, index).ok()?;
                let has = font.glyph_id(character).0 != 0;
                has.then(|| FontVec::try_from_vec_and_index(bytes.to_vec(), index).ok())?
            };
            system.with_face_data(face, read)?
        })?;
        self.found.push(font);
        Some(self.found.len() - 1)
    }
}

/// A text in lines, in a box; `scale` is 1 for an ordinary screen.
pub fn text_sign(fonts: &mut Fonts, text: &str, scale: f32, most_width: usize) -> Canvas {
    let size = 18.0 * scale;
    let margin = (10.0 * scale) as usize;
    let step = (size * 1.3) as usize;
    let lines = broken(fonts, text, size, most_width.saturating_sub(2 * margin).max(40));
    let width = lines.iter().map(|line| fonts.width(line, size)).max().unwrap_or(0);
    let mut canvas = Canvas::boxed(width + 2 * margin, lines.len() * step + 2 * margin - step / 4);
    for (index, line) in lines.iter().enumerate() {
        let baseline = margin + index * step + (size * 0.78) as usize;
        fonts.draw(&mut canvas, (margin, baseline), line, size, Color::WORDS);
    }
    canvas
}

/// How loud it is, as a bar and a number.
pub fn level_sign(fonts: &mut Fonts, share: f64, muted: bool, scale: f32) -> Canvas {
    let scaled = |pixels: f32| (pixels * scale) as usize;
    let size = 18.0 * scale;
    let (width, margin, height) = (scaled(300.0), scaled(14.0), scaled(64.0));
    let mut canvas = Canvas::boxed(width, height);
    let baseline = scaled(30.0);
    fonts.draw(&mut canvas, (margin, baseline), "Volume", size, Color::WORDS);
    let number = match muted {
        true => format!("muted at {:.0} %", share * 100.0),
        false => format!("{:.0} %", share * 100.0),
    };
    let wide = fonts.width(&number, size);
    fonts.draw(&mut canvas, (width - margin - wide, baseline), &number, size, Color::WORDS);
    let (top, thick, long) = (scaled(42.0), scaled(8.0), width - 2 * margin);
    canvas.fill(margin, top, long, thick, Color::FIELD);
    let full = (long as f64 * share.clamp(0.0, 1.0)).round() as usize;
    canvas.fill(margin, top, full, thick, if muted { Color::FAINT } else { Color::FULL });
    canvas
}

/// The text's lines, broken between words where they are wider than that.
pub fn broken(fonts: &mut Fonts, text: &str, size: f32, most: usize) -> Vec<String> {
    let mut lines = Vec::new();
    for paragraph in text.lines() {
        let mut line = String::new();
        for word in paragraph.split(' ') {
            let longer = if line.is_empty() { word.to_owned() } else { format!("{line} {word}") };
            if line.is_empty() || fonts.width(&longer, size) <= most {
                line = longer;
            } else {
                lines.push(std::mem::replace(&mut line, word.to_owned()));
            }
        }
        lines.push(line);
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sign_is_as_wide_as_its_words_and_breaks_between_them() {
        let mut fonts = Fonts::default();
        let short = text_sign(&mut fonts, "core 12", 1.0, 600);
        let long = text_sign(&mut fonts, "core 12 lies in rack 4, above the door", 1.0, 600);
        assert!(short.width < long.width && short.height == long.height);
        let narrow = text_sign(&mut fonts, "core 12 lies in rack 4, above the door", 1.0, 150);
        assert!(narrow.width <= 150 && narrow.height > long.height);
        let two = text_sign(&mut fonts, "core\n12", 1.0, 600);
        assert!(two.height > short.height);
        let twice = text_sign(&mut fonts, "core 12", 2.0, 600);
        assert!(twice.width > short.width * 3 / 2);
    }

    #[test]
    fn words_are_drawn_and_characters_that_no_font_has_are_boxes() {
        let mut fonts = Fonts::default();
        let inked = |canvas: &Canvas| {
            canvas
                .pixels
                .iter()
                .filter(|pixel| ![Color::GROUND.0, Color::EDGE.0].contains(pixel))
                .count()
        };
        let empty = text_sign(&mut fonts, "   ", 1.0, 600);
        assert_eq!(inked(&empty), 0);
        for text in ["Kern", "Жλ°", "❄", "\u{10ffff}"] {
            let sign = text_sign(&mut fonts, text, 1.0, 600);
            assert!(inked(&sign) > 20, "{text}");
        }
    }

    #[test]
    fn the_bar_is_as_full_as_it_is_loud() {
        let mut fonts = Fonts::default();
        let mut full = |share: f64, ink: Color, muted: bool| {
            let sign = level_sign(&mut fonts, share, muted, 1.0);
            sign.pixels.iter().filter(|pixel| **pixel == ink.0).count() / 8
        };
        assert_eq!(full(0.0, Color::FULL, false), 0);
        assert_eq!(full(0.5, Color::FULL, false), 136);
        assert_eq!(full(1.0, Color::FULL, false), 272);
        assert_eq!(full(3.0, Color::FULL, false), 272);
        assert_eq!(full(0.5, Color::FULL, true), 0);
    }
}
