//! The picture of a guest's screen, 640 × 400 pixels, as words of 0x00RRGGBB.

use super::{Field, Scene, Screen};
use embedded_graphics::{
    Drawable,
    draw_target::DrawTarget,
    geometry::{OriginDimensions, Point, Size},
    mono_font::{
        MonoFont, MonoTextStyle,
        iso_8859_1::{FONT_8X13, FONT_10X20},
    },
    pixelcolor::{Rgb888, RgbColor},
    prelude::{Pixel, Primitive},
    primitives::{PrimitiveStyle, Rectangle, RoundedRectangle, Triangle},
    text::{Baseline, Text},
};
use std::convert::Infallible;

pub(crate) const WIDTH: u16 = 640;
pub(crate) const HEIGHT: u16 = 400;
const ROW: i32 = 13;
const COLUMNS: usize = 78;
const ROWS: usize = 29;

const NIGHT: Rgb888 = Rgb888::new(0x16, 0x1a, 0x2b);
const DEEP: Rgb888 = Rgb888::new(0x20, 0x2c, 0x47);
const SEA: Rgb888 = Rgb888::new(0x2f, 0x4b, 0x6e);
const FOAM: Rgb888 = Rgb888::new(0xe9, 0xf0, 0xf6);
const HAZE: Rgb888 = Rgb888::new(0x9f, 0xb2, 0xc6);
const LAMP: Rgb888 = Rgb888::new(0xf2, 0xc1, 0x6b);
const ROPE: Rgb888 = Rgb888::new(0xb5, 0x4a, 0x3f);

/// The sign-in card's parts: x, y, width, height.
const NAME: (i32, i32, u32, u32) = (210, 170, 220, 28);
const PASSWORD: (i32, i32, u32, u32) = (210, 226, 220, 28);
const BUTTON: (i32, i32, u32, u32) = (210, 270, 110, 30);

/// Something that can be clicked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Spot {
    Field(Field),
    Button,
}

pub(super) fn hit((x, y): (u16, u16)) -> Option<Spot> {
    let at = Point::new(i32::from(x), i32::from(y));
    let spots = [
        (NAME, Spot::Field(Field::Name)),
        (PASSWORD, Spot::Field(Field::Password)),
        (BUTTON, Spot::Button),
    ];
    spots
        .into_iter()
        .find(|(r, _)| area(*r).contains(at))
        .map(|(_, spot)| spot)
}

fn area((x, y, width, height): (i32, i32, u32, u32)) -> Rectangle {
    Rectangle::new(Point::new(x, y), Size::new(width, height))
}

struct Canvas(Vec<u32>);

impl OriginDimensions for Canvas {
    fn size(&self) -> Size {
        Size::new(u32::from(WIDTH), u32::from(HEIGHT))
    }
}

impl DrawTarget for Canvas {
    type Color = Rgb888;
    type Error = Infallible;
    fn draw_iter<I: IntoIterator<Item = Pixel<Rgb888>>>(
        &mut self,
        pixels: I,
    ) -> Result<(), Infallible> {
        for Pixel(at, colour) in pixels {
            let (Ok(x), Ok(y)) = (usize::try_from(at.x), usize::try_from(at.y)) else {
                continue;
            };
            if x < usize::from(WIDTH)
                && let Some(word) = self.0.get_mut(y * usize::from(WIDTH) + x)
            {
                *word = word_of(colour);
            }
        }
        Ok(())
    }
}

fn word_of(colour: Rgb888) -> u32 {
    u32::from_be_bytes([0, colour.r(), colour.g(), colour.b()])
}

impl Canvas {
    fn plain(colour: Rgb888) -> Canvas {
        Canvas(vec![
            word_of(colour);
            usize::from(WIDTH) * usize::from(HEIGHT)
        ])
    }
    fn text(&mut self, x: i32, y: i32, text: &str, font: &MonoFont<'_>, colour: Rgb888) {
        let style = MonoTextStyle::new(font, colour);
        let drawn = Text::with_baseline(text, Point::new(x, y), style, Baseline::Top).draw(self);
        let Ok(_) = drawn;
    }
    fn fill(&mut self, at: (i32, i32, u32, u32), colour: Rgb888) {
        let Ok(()) = area(at)
            .into_styled(PrimitiveStyle::with_fill(colour))
            .draw(self);
    }
    fn field(&mut self, at: (i32, i32, u32, u32), text: &str, active: bool) {
        let edge = if active { LAMP } else { HAZE };
        let body = RoundedRectangle::with_equal_corners(area(at), Size::new(4, 4));
        let Ok(()) = body.into_styled(PrimitiveStyle::with_fill(FOAM)).draw(self);
        let Ok(()) = body
            .into_styled(PrimitiveStyle::with_stroke(edge, 2))
            .draw(self);
        self.text(at.0 + 8, at.1 + 8, text, &FONT_8X13, NIGHT);
        if active {
            let end = i32::try_from(text.chars().count()).unwrap_or(0) * 8;
            self.fill((at.0 + 9 + end, at.1 + 7, 2, 15), NIGHT);
        }
    }
}

/// Draws it. `console` is what the second screen shows: the text console's last lines.
pub(crate) fn paint(screen: &Screen, scene: &Scene, console: &[String]) -> Vec<u32> {
    let mut canvas = match scene {
        Scene::Lines(lines) => lines_on(Rgb888::new(0, 0, 0), HAZE, lines),
        Scene::Crashed(lines) => lines_on(Rgb888::new(0, 0, 0), LAMP, lines),
        Scene::Up { .. } if screen.text_screen => lines_on(Rgb888::new(0, 0, 0), HAZE, console),
        Scene::Up { name, clock } if screen.signed_in => desk(screen, name, clock),
        Scene::Up { name, clock } => door(screen, name, clock),
    };
    if matches!(scene, Scene::Up { .. }) && !screen.text_screen {
        arrow(&mut canvas, screen.pointer);
    }
    canvas.0
}

fn lines_on(ground: Rgb888, ink: Rgb888, lines: &[String]) -> Canvas {
    let mut canvas = Canvas::plain(ground);
    let mut y = 8;
    for line in lines.iter().skip(lines.len().saturating_sub(ROWS)) {
        let line: String = line.chars().take(COLUMNS).collect();
        canvas.text(8, y, &line, &FONT_8X13, ink);
        y += ROW;
    }
    canvas
}

/// A hill from one foot over its top to the other, in columns: the library's triangles overflow at this size.
fn ridge(canvas: &mut Canvas, (from, top, to): (i32, i32, i32), height: i32, colour: Rgb888) {
    let ground = i32::from(HEIGHT);
    for x in from..to {
        let (run, length) = if x < top {
            (x - from, top - from)
        } else {
            (to - x, to - top)
        };
        let rise = (ground - height) * run / length.max(1);
        canvas.fill((x, ground - rise, 1, rise.unsigned_abs()), colour);
    }
}

/// Where somebody signs in.
fn door(screen: &Screen, name: &str, clock: &str) -> Canvas {
    let mut canvas = Canvas::plain(DEEP);
    ridge(&mut canvas, (0, 250, 640), 250, SEA);
    ridge(&mut canvas, (180, 520, 640), 310, NIGHT);
    canvas.text(16, 12, name, &FONT_8X13, FOAM);
    canvas.text(560, 12, clock, &FONT_8X13, FOAM);
    canvas.text(210, 100, "Pilot Linux 12", &FONT_10X20, FOAM);
    canvas.text(210, 154, "Name", &FONT_8X13, HAZE);
    canvas.field(NAME, &screen.name, screen.field == Field::Name);
    canvas.text(210, 210, "Password", &FONT_8X13, HAZE);
    canvas.field(
        PASSWORD,
        &"*".repeat(screen.password),
        screen.field == Field::Password,
    );
    let button = RoundedRectangle::with_equal_corners(area(BUTTON), Size::new(4, 4));
    let Ok(()) = button
        .into_styled(PrimitiveStyle::with_fill(ROPE))
        .draw(&mut canvas);
    canvas.text(BUTTON.0 + 24, BUTTON.1 + 9, "Sign in", &FONT_8X13, FOAM);
    let keyboard = format!("Keyboard: {}  (F2 changes it)", screen.layout.word());
    canvas.text(210, 316, &keyboard, &FONT_8X13, HAZE);
    canvas
}

/// What somebody sees after signing in: a sheet of notes that takes what is typed.
fn desk(screen: &Screen, name: &str, clock: &str) -> Canvas {
    let mut canvas = Canvas::plain(SEA);
    canvas.fill((0, 0, u32::from(WIDTH), 26), NIGHT);
    canvas.text(
        12,
        7,
        &format!("{} on {name}", screen.name),
        &FONT_8X13,
        FOAM,
    );
    canvas.text(560, 7, clock, &FONT_8X13, FOAM);
    canvas.fill((50, 56, 540, 300), FOAM);
    canvas.fill((50, 56, 540, 22), DEEP);
    canvas.text(60, 60, "Notes", &FONT_8X13, FOAM);
    let mut y = 88;
    let rows = screen
        .text
        .split('\n')
        .flat_map(wrapped)
        .collect::<Vec<_>>();
    for row in rows.iter().skip(rows.len().saturating_sub(19)) {
        canvas.text(62, y, row, &FONT_8X13, NIGHT);
        y += ROW;
    }
    let end = rows
        .last()
        .map_or(0, |r| i32::try_from(r.chars().count()).unwrap_or(0));
    canvas.fill((62 + end * 8, y - ROW, 2, 13), ROPE);
    canvas
}

fn wrapped(line: &str) -> Vec<String> {
    let all: Vec<char> = line.chars().collect();
    if all.is_empty() {
        return vec![String::new()];
    }
    all.chunks(64).map(|c| c.iter().collect()).collect()
}

fn arrow(canvas: &mut Canvas, (x, y): (u16, u16)) {
    let (x, y) = (i32::from(x), i32::from(y));
    let shape = Triangle::new(
        Point::new(x, y),
        Point::new(x, y + 14),
        Point::new(x + 9, y + 10),
    );
    let Ok(()) = shape
        .into_styled(PrimitiveStyle::with_fill(FOAM))
        .draw(canvas);
    let Ok(()) = shape
        .into_styled(PrimitiveStyle::with_stroke(NIGHT, 1))
        .draw(canvas);
}

/// The picture as a PNG file.
pub(crate) fn png(picture: &[u32]) -> Vec<u8> {
    let mut out = Vec::new();
    let mut encoder = png::Encoder::new(&mut out, u32::from(WIDTH), u32::from(HEIGHT));
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    let bytes: Vec<u8> = picture
        .iter()
        .flat_map(|p| p.to_be_bytes().into_iter().skip(1))
        .collect();
    let written = encoder
        .write_header()
        .and_then(|mut w| w.write_image_data(&bytes));
    if let Err(error) = written {
        tracing::warn!(%error, "a picture was not encoded");
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn up() -> Scene {
        Scene::Up {
            name: "db".into(),
            clock: "10:00:00".into(),
        }
    }

    #[test]
    fn what_is_typed_and_pointed_at_is_seen() {
        let mut screen = Screen::default();
        let empty = paint(&screen, &up(), &[]);
        assert_eq!(empty.len(), usize::from(WIDTH) * usize::from(HEIGHT));
        screen.name = "ann".into();
        let named = paint(&screen, &up(), &[]);
        assert_ne!(empty, named);
        screen.point(215, 275, true);
        assert_eq!(hit((215, 275)), Some(Spot::Button));
        assert!(screen.signed_in, "clicked");
        let desk = paint(&screen, &up(), &[]);
        screen.text_screen = true;
        let text = paint(&screen, &up(), &["login: ".into()]);
        assert!(desk != named && text != desk);
        let crash = paint(&screen, &Scene::Crashed(vec!["stopped".into()]), &[]);
        assert!(
            crash.contains(&word_of(LAMP)),
            "also while the second screen is shown"
        );
    }

    #[test]
    fn a_png_has_the_size_of_the_screen() {
        let bytes = png(&paint(&Screen::default(), &up(), &[]));
        let read = png::Decoder::new(std::io::Cursor::new(bytes))
            .read_info()
            .unwrap();
        assert_eq!((read.info().width, read.info().height), (640, 400));
    }
}
