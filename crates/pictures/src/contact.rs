//! A contact sheet: many small pictures on one, with what is missing, broken or odd drawn as such, so that it is seen without
//! colours too.

use crate::canvas::{Area, Canvas, Rgb};
use crate::letters;
use crate::thumbnail::{Thumbnail, ends, fit};
use truepath_core::flaw::Flaw;

/// The ground, and what is written on it.
const GROUND: Rgb = [28, 30, 34];
const PAPER: Rgb = [46, 49, 55];
const INK: Rgb = [226, 228, 232];
const FAINT: Rgb = [150, 155, 163];
/// What is lost, and what wants a look.
const BAD: Rgb = [255, 138, 128];
const ODD: Rgb = [255, 213, 79];

/// Pixels between the sides and between cells.
const MARGIN: usize = 16;
const GAP: usize = 8;
/// Heights of the title, of a row's label and of a caption, in pixels.
const TITLE: usize = 30;
const LABEL: usize = 24;
const CAPTION: usize = 18;
/// The smallest width of a cell in which a caption can still be read.
const NARROWEST: usize = 72;
/// The tallest sheet: many programs show no taller picture.
const TALLEST: usize = 30_000;

/// What stands in a cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mark {
    /// A picture as it should be.
    Good,
    /// A picture that is not as it should be, or that wants a look: in a word.
    Odd(&'static str),
    /// No picture: in a word, such as `missing`.
    Lost(&'static str),
    /// Nothing that is planned.
    Blank,
}

/// One cell.
#[derive(Clone, Debug, PartialEq)]
pub struct ContactCell {
    /// What is written below it: the frame.
    pub caption: String,
    /// What stands in it.
    pub mark: Mark,
}

/// Some pictures that belong together.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Row {
    /// What they are.
    pub label: String,
    /// Its cells; they go on in the next line where there are more than columns.
    pub cells: Vec<ContactCell>,
}

/// A contact sheet.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Contact {
    /// What stands at its top.
    pub title: String,
    /// Its rows.
    pub rows: Vec<Row>,
}

/// Where everything stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Layout {
    /// Cells beside each other.
    pub columns: usize,
    /// The most pixels of a picture, across and down.
    pub cell: (usize, usize),
    /// The whole sheet.
    pub size: (usize, usize),
}

impl Contact {
    /// Where everything stands on a sheet of a width, for pictures of an aspect. Without a number of columns, so many that
    /// rows stay whole, and one row alone makes a sheet that is about as wide as a screen.
    ///
    /// # Errors
    /// When cells would be too small to be read, or the sheet too tall to be shown: why.
    pub fn layout(&self, width: usize, columns: Option<usize>, shape: (u32, u32)) -> Result<Layout, Flaw> {
        let longest = self.rows.iter().map(|row| row.cells.len()).max().unwrap_or(0).max(1);
        let room = width.saturating_sub(2 * MARGIN);
        let most = ((room + GAP) / (NARROWEST + GAP)).max(1);
        let aspect = f64::from(shape.0.max(1)) / f64::from(shape.1.max(1));
        let usual = match self.rows.as_slice() {
            [_] => (longest as f64 * 1.6 / aspect).sqrt().ceil() as usize,
            _ => longest,
        };
        let columns = columns.unwrap_or(usual.clamp(1, most)).min(longest);
        let across = (room + GAP) / columns.max(1);
        let across = across.saturating_sub(GAP);
        if columns == 0 || across < NARROWEST {
            return Err(
                format!("{columns} columns in {width} pixels leave only {across} pixels for each picture").into()
            );
        }
        let cell = fit((shape.0 as usize, shape.1 as usize), (across, across * 3));
        let lines: usize = self.rows.iter().map(|row| row.cells.len().div_ceil(columns)).sum();
        let labels = if self.rows.len() > 1 { self.rows.len() * LABEL } else { 0 };
        let height = 2 * MARGIN + TITLE + labels + lines * (cell.1 + CAPTION + GAP);
        if height > TALLEST {
            return Err(format!("the picture would be {height} pixels tall; the limit is {TALLEST}").into());
        }
        Ok(Layout { columns, cell: (across, cell.1), size: (width, height) })
    }

    /// Draws it. `pictures` has for each cell of each row its picture, or nothing where there is none.
    #[must_use]
    pub fn draw(&self, layout: Layout, pictures: &[Vec<Option<Thumbnail>>]) -> Canvas {
        let mut canvas = Canvas::new(layout.size.0, layout.size.1, GROUND);
        let room = layout.size.0 - 2 * MARGIN;
        let title = letters::shortened(&self.title, letters::fitting((room, TITLE - 6)));
        canvas.text(Area::new((MARGIN - 8, MARGIN - 4), (room, TITLE - 6)), &title, INK);
        let mut y = MARGIN + TITLE;
        for (row, pictures) in self.rows.iter().zip(pictures) {
            let ends = ends(pictures.iter().flatten());
            if self.rows.len() > 1 {
                let label = match ends {
                    Some((low, high)) => format!("{}  {}", row.label, between(low, high)),
                    None => row.label.clone(),
                };
                let label = letters::shortened(&label, letters::fitting((room, LABEL - 4)));
                canvas.text(Area::new((MARGIN - 8, y), (room, LABEL - 4)), &label, INK);
                y += LABEL;
            }
            for (at, (cell, picture)) in row.cells.iter().zip(pictures).enumerate() {
                let x = MARGIN + at % layout.columns * (layout.cell.0 + GAP);
                let top = y + at / layout.columns * (layout.cell.1 + CAPTION + GAP);
                draw_cell(&mut canvas, Area::new((x, top), layout.cell), cell, (picture.as_ref(), ends));
            }
            y += row.cells.len().div_ceil(layout.columns) * (layout.cell.1 + CAPTION + GAP);
        }
        canvas
    }
}

/// What the shades of numbers mean.
#[must_use]
pub fn between(low: f32, high: f32) -> String {
    let spelt = |value: f32| format!("{:.3}", value).trim_end_matches('0').trim_end_matches('.').to_owned();
    format!("(black {} to white {})", spelt(low), spelt(high))
}

type Shown<'t> = (Option<&'t Thumbnail>, Option<(f32, f32)>);

fn draw_cell(canvas: &mut Canvas, place: Area, cell: &ContactCell, (picture, ends): Shown<'_>) {
    let below = Area::new((place.x, place.y + place.height + 1), (place.width, CAPTION - 2));
    if cell.mark == Mark::Blank {
        return;
    }
    match picture {
        Some(picture) => {
            let (left, top) = ((place.width - picture.width) / 2, place.height.saturating_sub(picture.height) / 2);
            canvas.paste((place.x + left, place.y + top), (picture.width, picture.height), &picture.rgb(ends));
        }
        None => {
            canvas.fill(place, PAPER);
            let is_missing = cell.mark == Mark::Lost("missing");
            if is_missing { canvas.hatch(place, 12, FAINT) } else { canvas.cross(place, BAD) }
        }
    }
    let (word, colour) = match cell.mark {
        Mark::Good | Mark::Blank => ("", INK),
        Mark::Odd(word) => (word, ODD),
        Mark::Lost(word) => (word, BAD),
    };
    if !word.is_empty() {
        canvas.frame(place, if picture.is_some() { 4 } else { 2 }, colour);
    }
    let caption = letters::shortened(&cell.caption, letters::fitting((place.width, CAPTION - 2)));
    let end = canvas.text(below, &caption, INK);
    let rest = place.width.saturating_sub(end);
    if !word.is_empty() && letters::fitting((rest, CAPTION - 2)) >= word.len() {
        canvas.text(Area::new((place.x + end, below.y), (rest, CAPTION - 2)), word, colour);
    } else if !word.is_empty() {
        // Where it does not fit beside the frame, it stands on the picture.
        let on = Area::new((place.x + 4, place.y + 4), (place.width.saturating_sub(8), CAPTION));
        canvas.fill(on, GROUND);
        canvas.text(on, word, colour);
    }
}

/// Pictures beside each other for the worst frames of a comparison: before, after, and what differs.
#[must_use]
pub fn triples(title: &str, labels: [&str; 3], rows: &[(String, [Thumbnail; 3])], width: usize) -> Canvas {
    let across = (width.saturating_sub(2 * MARGIN + 2 * GAP)) / 3;
    let tall = |row: &(String, [Thumbnail; 3])| row.1.iter().map(|picture| picture.height).max().unwrap_or(0);
    let height = 2 * MARGIN + TITLE + LABEL + rows.iter().map(|row| tall(row) + CAPTION + GAP).sum::<usize>();
    let mut canvas = Canvas::new(width, height, GROUND);
    let room = width - 2 * MARGIN;
    let title = letters::shortened(title, letters::fitting((room, TITLE - 6)));
    canvas.text(Area::new((MARGIN - 8, MARGIN - 4), (room, TITLE - 6)), &title, INK);
    for (at, label) in labels.iter().enumerate() {
        let label = letters::shortened(label, letters::fitting((across, LABEL - 4)));
        canvas.text(Area::new((MARGIN - 6 + at * (across + GAP), MARGIN + TITLE), (across, LABEL - 4)), &label, FAINT);
    }
    let mut y = MARGIN + TITLE + LABEL;
    for row in rows {
        // What is only a number is shown between the ends of both sides, and the difference by itself.
        let sides = ends(row.1[..2].iter());
        for (at, picture) in row.1.iter().enumerate() {
            let rgb = picture.rgb(if at < 2 { sides } else { None });
            canvas.paste((MARGIN + at * (across + GAP), y), (picture.width, picture.height), &rgb);
        }
        let below = Area::new((MARGIN, y + tall(row) + 1), (room, CAPTION - 2));
        canvas.text(below, &letters::shortened(&row.0, letters::fitting((room, CAPTION - 2))), INK);
        y += tall(row) + CAPTION + GAP;
    }
    canvas
}

/// The width of each picture of [`triples`].
#[must_use]
pub fn third(width: usize) -> usize {
    width.saturating_sub(2 * MARGIN + 2 * GAP) / 3
}
