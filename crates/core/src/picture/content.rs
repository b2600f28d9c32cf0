//! What the pixels of a picture come to: as much as tells a mistake from a picture, and no more.

/// The most cells along one side of a grid.
pub const MOST_CELLS: usize = 64;
/// The smallest side of a cell in pixels, where the picture is that large.
pub const SMALLEST_CELL: usize = 12;

/// A patch of a picture. Samples are told on a scale from 0 to 255, light without an upper end on a curve.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Cell {
    /// The mean of its colours.
    pub mean: u8,
    /// The lowest and the highest of them.
    pub low: u8,
    /// The highest sample.
    pub high: u8,
    /// Whether all its pixels have one colour.
    pub flat: bool,
    /// Whether every colour sample is zero.
    pub black: bool,
}

/// Sums over all samples of a picture; types whose pixels nobody unpacks leave it empty.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Content {
    /// Colour samples seen.
    pub samples: u64,
    /// Whether a colour sample is infinite.
    pub infinite: bool,
    /// Whether any sample is no number.
    pub no_number: bool,
    /// The lowest and the highest colour sample, as they stand in the file.
    pub colour: Option<(f32, f32)>,
    /// Whether all pixels have one colour.
    pub one_colour: bool,
    /// The lowest and the highest alpha; `None` where there is none.
    pub alpha: Option<(f32, f32)>,
    /// Cells of a row.
    pub columns: usize,
    /// Patches of the picture, row by row from the top.
    pub cells: Vec<Cell>,
    /// A digest of all samples in their order.
    pub sum: u64,
}

impl Content {
    /// A number that two pictures share when they show the same; `None` where nothing was seen.
    #[must_use]
    pub fn digest(&self) -> Option<u64> {
        (self.samples > 0).then_some(self.sum)
    }

    /// The largest share of the picture, from one of its sides on, that is black; 0 to 1.
    #[must_use]
    pub fn black_from_a_side(&self) -> f64 {
        let columns = self.columns.max(1);
        let rows = self.cells.len() / columns;
        if rows == 0 {
            return 0.0;
        }
        let row = |at: usize| self.cells[at * columns..][..columns].iter().all(|cell| cell.black);
        let column = |at: usize| (0..rows).all(|row| self.cells[row * columns + at].black);
        let run = |count: usize, is: &dyn Fn(usize) -> bool| {
            let from_start = (0..count).take_while(|at| is(*at)).count();
            let from_end = (0..count).rev().take_while(|at| is(*at)).count();
            from_start.max(from_end) as f64 / count as f64
        };
        run(rows, &row).max(run(columns, &column))
    }

    /// How far two pictures are from each other: the mean difference of their cells, 0 to 255; `None` where they cannot be
    /// compared.
    #[must_use]
    pub fn distance(&self, other: &Content) -> Option<f64> {
        let same = self.columns == other.columns && self.cells.len() == other.cells.len() && !self.cells.is_empty();
        let sum = || self.cells.iter().zip(&other.cells).map(|(a, b)| u64::from(a.mean.abs_diff(b.mean))).sum::<u64>();
        same.then(|| sum() as f64 / self.cells.len() as f64)
    }
}
