//! Solids and sheets with vertex colours.

use std::ops::Range;

use glam::{Vec3, Vec4};

#[derive(Default)]
pub struct Shape {
    pub positions: Vec<Vec3>,
    pub colours: Vec<Vec4>,
    pub indices: Vec<u32>,
}

impl Shape {
    /// Four corners in order around the face, each with its own colour.
    pub fn sheet(mut self, corners: [Vec3; 4], colours: [Vec4; 4]) -> Shape {
        let base = self.positions.len() as u32;
        self.positions.extend(corners);
        self.colours.extend(colours);
        self.indices.extend([0, 1, 2, 0, 2, 3].map(|i| base + i));
        self
    }

    pub fn quad(self, corners: [Vec3; 4], colour: Vec4) -> Shape {
        self.sheet(corners, [colour; 4])
    }

    /// A box between two corners.
    pub fn block(self, low: Vec3, high: Vec3, colour: Vec4) -> Shape {
        self.prism(&[(low.x, low.z), (high.x, low.z), (high.x, high.z), (low.x, high.z)], low.y..high.y, 1.0, colour)
    }

    /// An outline in x and z pulled up from `low` to `high`; its top is `taper` times as large.
    pub fn prism(mut self, outline: &[(f32, f32)], height: Range<f32>, taper: f32, colour: Vec4) -> Shape {
        let (low, high) = (height.start, height.end);
        let corner = |at: usize, y: f32, grow: f32| Vec3::new(outline[at].0 * grow, y, outline[at].1 * grow);
        for at in 0..outline.len() {
            let next = (at + 1) % outline.len();
            self = self.quad(
                [corner(at, low, 1.0), corner(next, low, 1.0), corner(next, high, taper), corner(at, high, taper)],
                colour,
            );
        }
        let base = self.positions.len() as u32;
        self.positions.extend((0..outline.len()).map(|at| corner(at, high, taper)));
        self.colours.extend(outline.iter().map(|_| colour));
        self.indices.extend((2..outline.len() as u32).flat_map(|at| [base, base + at - 1, base + at]));
        self
    }

    /// A round tower around the Y axis.
    pub fn tower(self, radius: f32, height: Range<f32>, taper: f32, colour: Vec4) -> Shape {
        let sides = 20;
        let round = |at: usize| std::f32::consts::TAU * at as f32 / sides as f32;
        let outline: Vec<(f32, f32)> =
            (0..sides).map(|at| (radius * round(at).cos(), radius * round(at).sin())).collect();
        self.prism(&outline, height, taper, colour)
    }

    /// The same shape elsewhere.
    pub fn moved(mut self, by: Vec3) -> Shape {
        self.positions.iter_mut().for_each(|position| *position += by);
        self
    }

    pub fn and(mut self, other: Shape) -> Shape {
        let base = self.positions.len() as u32;
        self.positions.extend(other.positions);
        self.colours.extend(other.colours);
        self.indices.extend(other.indices.iter().map(|i| base + i));
        self
    }
}

/// An opaque colour.
pub fn rgb(r: f32, g: f32, b: f32) -> Vec4 {
    Vec4::new(r, g, b, 1.0)
}
