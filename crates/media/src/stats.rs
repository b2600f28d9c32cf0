//! Sums over the samples of a picture, made row by row in the sample type of its file.

use truepath_core::picture::{Cell, Content, MOST_CELLS, SMALLEST_CELL};

/// Samples that are summed side by side: whole pixels of one to four channels, and whole vectors of every machine.
const LANES: usize = 48;

/// A sample as its file has it.
pub trait Sample: Copy + PartialOrd {
    /// The sum of some of them.
    type Sum: Copy + Default + std::ops::AddAssign;
    /// Below and above all others.
    const ENDS: (Self, Self);
    /// For a sum.
    fn summed(self) -> Self::Sum;
    /// A sum as a number that never overflows.
    fn wide(sum: Self::Sum) -> f64;
    /// As it stands in the file.
    fn value(self) -> f32;
    /// On a scale from 0 to 255.
    fn level(value: f64) -> u8;
    /// Whether there are such that are infinite or no numbers.
    const CAN_BE_UNFIT: bool = false;
    /// Whether it is infinite, or no number.
    fn unfit(self) -> (bool, bool) {
        (false, false)
    }
}

macro_rules! whole {
    ($kind:ty, $white:expr) => {
        impl Sample for $kind {
            type Sum = u64;
            const ENDS: (Self, Self) = (<$kind>::MIN, <$kind>::MAX);
            fn summed(self) -> u64 {
                u64::from(self)
            }
            fn wide(sum: u64) -> f64 {
                sum as f64
            }
            fn value(self) -> f32 {
                self as f32
            }
            fn level(value: f64) -> u8 {
                (value * 255.0 / $white + 0.5) as u8
            }
        }
    };
}

impl Sample for u8 {
    // A cell has far fewer than 2^24 samples of one lane.
    type Sum = u32;
    const ENDS: (u8, u8) = (0, 255);
    fn summed(self) -> u32 {
        u32::from(self)
    }
    fn wide(sum: u32) -> f64 {
        f64::from(sum)
    }
    fn value(self) -> f32 {
        f32::from(self)
    }
    fn level(value: f64) -> u8 {
        (value + 0.5) as u8
    }
}

whole!(u16, 65_535.0);
whole!(u32, 4_294_967_295.0);

impl Sample for f32 {
    type Sum = f32;
    const ENDS: (f32, f32) = (f32::NEG_INFINITY, f32::INFINITY);
    fn summed(self) -> f32 {
        self
    }
    fn wide(sum: f32) -> f64 {
        f64::from(sum)
    }
    fn value(self) -> f32 {
        self
    }
    /// Light has no upper end: half the scale is white.
    fn level(value: f64) -> u8 {
        let value = value.max(0.0);
        if value.is_finite() { (255.0 * value / (1.0 + value) + 0.5) as u8 } else { 255 }
    }
    const CAN_BE_UNFIT: bool = true;
    fn unfit(self) -> (bool, bool) {
        (self.is_infinite(), self.is_nan())
    }
}

/// One cell while its rows come in.
#[derive(Clone)]
struct CellSums<T: Sample> {
    low: [T; LANES],
    high: [T; LANES],
    sum: [T::Sum; LANES],
}

impl<T: Sample> CellSums<T> {
    fn new() -> CellSums<T> {
        CellSums { low: [T::ENDS.1; LANES], high: [T::ENDS.0; LANES], sum: [T::Sum::default(); LANES] }
    }

    fn add(&mut self, samples: &[T]) {
        let mut whole = samples.chunks_exact(LANES);
        for lanes in &mut whole {
            let Ok(lanes) = <&[T; LANES]>::try_from(lanes) else { continue };
            // Arrays of a length that is known, counted through: that becomes a few vector instructions.
            #[allow(clippy::needless_range_loop)]
            for at in 0..LANES {
                let value = lanes[at];
                self.low[at] = if value < self.low[at] { value } else { self.low[at] };
                self.high[at] = if value > self.high[at] { value } else { self.high[at] };
                self.sum[at] += value.summed();
            }
        }
        let own = self.low.iter_mut().zip(&mut self.high).zip(&mut self.sum);
        for (((low, high), sum), value) in own.zip(whole.remainder()) {
            *low = if *value < *low { *value } else { *low };
            *high = if *value > *high { *value } else { *high };
            *sum += value.summed();
        }
    }
}

/// What a channel shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shows {
    Colour,
    Alpha,
    /// Neither: only whether it holds numbers.
    Data,
}

/// One channel of one cell.
#[derive(Clone, Copy)]
struct Ends {
    low: f32,
    high: f32,
    /// Mean, low and high on a scale from 0 to 255.
    levels: [u8; 3],
}

/// A channel whose rows are all in.
pub struct Channel {
    cells: Vec<Ends>,
    columns: usize,
    samples: u64,
    infinite: bool,
    no_number: bool,
}

/// Samples of some channels, pixel by pixel, as their rows come in from the top.
pub struct StatsPlane<T: Sample> {
    width: usize,
    height: usize,
    cell: (usize, usize),
    open: Vec<CellSums<T>>,
    /// Rows that are in.
    rows: usize,
    channels: Vec<Channel>,
}

impl<T: Sample> StatsPlane<T> {
    /// For a picture of so many pixels with one to four channels.
    pub fn new(width: usize, height: usize, channels: usize) -> StatsPlane<T> {
        // The row of a cell is whole lanes, so that each lane has one channel.
        let (across, down) = (LANES / channels, SMALLEST_CELL);
        let side = |pixels: usize, unit: usize| pixels.div_ceil(MOST_CELLS).div_ceil(unit).max(1) * unit;
        StatsPlane::with_cells(width, height, channels, (side(width, across), side(height, down)))
    }

    /// With cells of so many pixels: of one channel any number, else such that their rows are whole lanes.
    pub fn with_cells(width: usize, height: usize, channels: usize, cell: (usize, usize)) -> StatsPlane<T> {
        let columns = width.div_ceil(cell.0).max(1);
        let channel = || Channel { cells: Vec::new(), columns, samples: 0, infinite: false, no_number: false };
        StatsPlane {
            width,
            height,
            cell,
            open: vec![CellSums::new(); columns],
            rows: 0,
            channels: (0..channels).map(|_| channel()).collect(),
        }
    }

    /// Takes in the next row.
    pub fn row(&mut self, samples: &[T]) {
        let channels = self.channels.len();
        for (sums, samples) in self.open.iter_mut().zip(samples.chunks(self.cell.0 * channels)) {
            sums.add(samples);
        }
        if T::CAN_BE_UNFIT && samples.iter().any(|value| value.unfit() != (false, false)) {
            for (at, value) in samples.iter().enumerate() {
                let (infinite, no_number) = value.unfit();
                let known = &mut self.channels[at % channels];
                (known.infinite, known.no_number) = (known.infinite | infinite, known.no_number | no_number);
            }
        }
        self.rows += 1;
        if self.rows.is_multiple_of(self.cell.1) || self.rows == self.height {
            self.close();
        }
    }

    /// A row of cells is complete.
    fn close(&mut self) {
        let rows = (self.rows - 1) % self.cell.1 + 1;
        let channels = self.channels.len();
        for (column, sums) in self.open.iter_mut().enumerate() {
            let pixels = (self.width - column * self.cell.0).min(self.cell.0) * rows;
            for (at, channel) in self.channels.iter_mut().enumerate() {
                let (mut low, mut high, mut sum) = (T::ENDS.1, T::ENDS.0, 0.0);
                for lane in (at..LANES).step_by(channels) {
                    low = if sums.low[lane] < low { sums.low[lane] } else { low };
                    high = if sums.high[lane] > high { sums.high[lane] } else { high };
                    sum += T::wide(sums.sum[lane]);
                }
                channel.samples += pixels as u64;
                channel.cells.push(Ends {
                    low: low.value(),
                    high: high.value(),
                    levels: [sum / pixels as f64, f64::from(low.value()), f64::from(high.value())].map(T::level),
                });
            }
            *sums = CellSums::new();
        }
    }

    /// All rows are in.
    pub fn end(self) -> Vec<Channel> {
        self.channels
    }
}

/// What all channels of a picture come to. `sum` is a digest of their samples.
pub fn content(channels: &[(Channel, Shows)], sum: u64) -> Content {
    let of = |wanted: Shows| channels.iter().filter(move |(_, shows)| *shows == wanted).map(|(channel, _)| channel);
    let span = |channel: &Channel| {
        let spans = channel.cells.iter().map(|cell| (cell.low, cell.high));
        spans.reduce(|a, b| (if b.0 < a.0 { b.0 } else { a.0 }, if b.1 > a.1 { b.1 } else { a.1 }))
    };
    let spans: Vec<(f32, f32)> = of(Shows::Colour).filter_map(span).collect();
    let mut content = Content {
        samples: of(Shows::Colour).map(|channel| channel.samples).sum(),
        infinite: of(Shows::Colour).any(|channel| channel.infinite),
        no_number: channels.iter().any(|(channel, _)| channel.no_number),
        colour: spans.iter().copied().reduce(|a, b| (a.0.min(b.0), a.1.max(b.1))),
        one_colour: !spans.is_empty() && spans.iter().all(|(low, high)| low == high),
        alpha: of(Shows::Alpha).next().and_then(span),
        columns: 1,
        cells: Vec::new(),
        sum,
    };
    let Some(first) = of(Shows::Colour).next() else { return content };
    // Channels of one grid are put together.
    let alike: Vec<&Channel> = of(Shows::Colour)
        .filter(|channel| (channel.columns, channel.cells.len()) == (first.columns, first.cells.len()))
        .collect();
    content.columns = first.columns;
    let cell = |at: usize| {
        let own = || alike.iter().map(|channel| channel.cells[at]);
        Cell {
            mean: (own().map(|ends| u32::from(ends.levels[0])).sum::<u32>() / alike.len() as u32) as u8,
            low: own().map(|ends| ends.levels[1]).min().unwrap_or(0),
            high: own().map(|ends| ends.levels[2]).max().unwrap_or(0),
            flat: own().all(|ends| ends.low == ends.high),
            black: own().all(|ends| (ends.low, ends.high) == (0.0, 0.0)),
        }
    };
    content.cells = (0..first.cells.len()).map(cell).collect();
    content
}

/// What whole pixels come to: colours, and alpha last where there is one.
pub fn of_pixels<T: Sample>((width, height): (usize, usize), channels: usize, samples: &[T], sum: u64) -> Content {
    let mut plane = StatsPlane::new(width, height, channels);
    samples.chunks_exact((width * channels).max(1)).take(height).for_each(|row| plane.row(row));
    content(&shown(plane.end()), sum)
}

/// Channels of pixels with what each shows: of two or four the last is alpha.
pub fn shown(channels: Vec<Channel>) -> Vec<(Channel, Shows)> {
    let count = channels.len();
    let shows = |at: usize| if count.is_multiple_of(2) && at + 1 == count { Shows::Alpha } else { Shows::Colour };
    channels.into_iter().enumerate().map(|(at, channel)| (channel, shows(at))).collect()
}
