//! The rasteriser: triangles to samples to pixels, in bands of rows on all threads. The same input gives the same bytes
//! on any number of threads.

use glam::{Mat3, Mat4, Vec2, Vec3, Vec4, Vec4Swizzles};
use rayon::iter::{IndexedParallelIterator, ParallelIterator};
use rayon::slice::ParallelSliceMut;

use crate::scene::{Camera, Lens, Primitive, Scene, SceneLight};

/// Rows of pixels that one thread draws at a time.
const BAND: usize = 16;
/// Light from everywhere, so that nothing is quite black.
const AMBIENT: Vec3 = Vec3::new(0.10, 0.12, 0.17);
const FOG: Vec3 = Vec3::new(0.16, 0.19, 0.25);

/// Everything one picture needs beside the scene.
pub struct View<'a> {
    pub camera: &'a Camera,
    pub world: &'a [Mat4],
    pub width: usize,
    pub height: usize,
    /// Samples per pixel along one side.
    pub side: usize,
    pub fog: bool,
}

/// A rendered frame, row by row from the top, linear light.
#[derive(Clone, Copy, Default)]
pub struct RasterPixel {
    pub beauty: Vec4,
    /// Distance along the view axis in scene units; the far plane (or 1000) where nothing is.
    pub depth: f32,
    /// World space, unit length; zero where nothing is.
    pub normal: Vec3,
    /// How much of the pixel is covered by lit surfaces, 0 to 1.
    pub mask: f32,
}

/// Depth where nothing is, and white in integer depth pictures.
pub fn horizon(camera: &Camera) -> f32 {
    camera.far.unwrap_or(1000.0)
}

#[derive(Clone, Copy)]
struct Vertex {
    view: Vec3,
    world: Vec3,
    normal: Vec3,
    colour: Vec4,
}

impl Vertex {
    fn lerp(&self, other: &Vertex, part: f32) -> Vertex {
        Vertex {
            view: self.view.lerp(other.view, part),
            world: self.world.lerp(other.world, part),
            normal: self.normal.lerp(other.normal, part),
            colour: self.colour.lerp(other.colour, part),
        }
    }
}

struct Triangle<'a> {
    screen: [Vec2; 3],
    over_w: Vec3,
    corners: [Vertex; 3],
    material: &'a Primitive,
}

#[derive(Clone, Copy)]
struct RasterSample {
    colour: Vec4,
    depth: f32,
    normal: Vec3,
    lit: bool,
}

/// Lights in world space: direction towards the light or position, colour, reach.
enum Lamp {
    Far { towards: Vec3, colour: Vec3 },
    Near { at: Vec3, colour: Vec3, reach: Option<f32> },
}

/// What sees the rows that are done.
type OnRows<'t> = &'t mut dyn FnMut(&[RasterPixel]);

/// Draws one frame: `width * height` pixels.
pub fn draw(scene: &Scene, view: &View) -> Vec<RasterPixel> {
    paint(scene, view, Vec::new(), None)
}

/// Draws the rest of a frame whose first rows are `done`, some rows at a time; `told` sees what there is after each.
pub fn draw_from(scene: &Scene, view: &View, done: Vec<RasterPixel>, told: OnRows<'_>) -> Vec<RasterPixel> {
    paint(scene, view, done, Some(told))
}

fn paint(scene: &Scene, view: &View, mut done: Vec<RasterPixel>, mut told: Option<OnRows<'_>>) -> Vec<RasterPixel> {
    let lamps = lamps(scene, view.world);
    let (solid, mut clear) = triangles(scene, view);
    clear.sort_by(|a, b| reach(b).total_cmp(&reach(a)));
    let order: Vec<&Triangle> = solid.iter().chain(&clear).collect();
    let (from, whole) = (done.len(), view.width * view.height);
    done.resize(whole, RasterPixel::default());
    let step = if told.is_some() { view.width * BAND } else { whole };
    for start in (from..whole).step_by(step.max(1)) {
        let end = (start + step).min(whole);
        done[start..end].par_chunks_mut(view.width * BAND).enumerate().for_each(|(band, rows)| {
            draw_band(view, &order, &lamps, start / view.width + band * BAND, rows);
        });
        if let Some(told) = told.as_mut().filter(|_| end < whole) {
            told(&done[..end]);
        }
    }
    done
}

fn reach(triangle: &Triangle) -> f32 {
    triangle.corners.iter().map(|corner| -corner.view.z).sum()
}

fn lamps(scene: &Scene, world: &[Mat4]) -> Vec<Lamp> {
    let found = scene.nodes.iter().zip(world).filter_map(|(node, matrix)| {
        Some(match node.light? {
            SceneLight::Directional { colour } => {
                Lamp::Far { towards: matrix.transform_vector3(Vec3::Z).normalize_or_zero(), colour }
            }
            SceneLight::Point { colour, reach } => Lamp::Near { at: matrix.w_axis.xyz(), colour, reach },
        })
    });
    let mut lamps: Vec<Lamp> = found.collect();
    if lamps.is_empty() {
        lamps.push(Lamp::Far { towards: Vec3::new(0.4, 0.8, 0.45).normalize(), colour: Vec3::splat(0.9) });
    }
    lamps
}

/// Solid and see-through triangles in front of the near plane, in sample coordinates.
fn triangles<'a>(scene: &'a Scene, view: &View) -> (Vec<Triangle<'a>>, Vec<Triangle<'a>>) {
    let eye = view.world[view.camera.node].inverse();
    let mut lists = (Vec::new(), Vec::new());
    for (node, matrix) in scene.nodes.iter().zip(view.world) {
        let Some(primitives) = node.mesh.and_then(|mesh| scene.meshes.get(mesh)) else { continue };
        let turn = Mat3::from_mat4(*matrix).inverse().transpose();
        for primitive in primitives {
            let list = if primitive.blend { &mut lists.1 } else { &mut lists.0 };
            for triangle in &primitive.triangles {
                let [a, b, c] = triangle.map(|corner| &primitive.corners[corner as usize]);
                let face = (b.position - a.position).cross(c.position - a.position);
                let corners = [a, b, c].map(|corner| {
                    let world = matrix.transform_point3(corner.position);
                    let normal = (turn * corner.normal.unwrap_or(face)).normalize_or_zero();
                    Vertex { view: eye.transform_point3(world), world, normal, colour: corner.colour }
                });
                project(view, &corners, primitive, list);
            }
        }
    }
    lists
}

/// Cuts a triangle at the near plane and puts what is left on the screen.
fn project<'a>(view: &View, corners: &[Vertex; 3], material: &'a Primitive, list: &mut Vec<Triangle<'a>>) {
    if corners.iter().any(|corner| !corner.view.is_finite() || corner.view.abs().max_element() > 1e6) {
        return;
    }
    let inside = |corner: &Vertex| -corner.view.z - view.camera.near;
    let mut kept: Vec<Vertex> = Vec::with_capacity(4);
    for (at, corner) in corners.iter().enumerate() {
        let next = &corners[(at + 1) % 3];
        let (here, there) = (inside(corner), inside(next));
        if here >= 0.0 {
            kept.push(*corner);
        }
        if (here >= 0.0) != (there >= 0.0) {
            kept.push(corner.lerp(next, here / (here - there)));
        }
    }
    let (columns, rows) = ((view.width * view.side) as f32, (view.height * view.side) as f32);
    let screen = |corner: &Vertex| {
        let (half, w) = match view.camera.lens {
            Lens::Perspective { opening } => ((opening / 2.0).tan(), -corner.view.z),
            Lens::Orthographic { half_height } => (half_height, 1.0),
        };
        let place = Vec2::new(corner.view.x, -corner.view.y) / (half * w) * (rows / 2.0);
        (place + Vec2::new(columns, rows) / 2.0, 1.0 / w)
    };
    for at in 2..kept.len() {
        let corners = [kept[0], kept[at - 1], kept[at]];
        let on = corners.each_ref().map(screen);
        let over_w = Vec3::new(on[0].1, on[1].1, on[2].1);
        list.push(Triangle { screen: on.map(|(place, _)| place), over_w, corners, material });
    }
}

fn draw_band(view: &View, triangles: &[&Triangle], lamps: &[Lamp], first_row: usize, pixels: &mut [RasterPixel]) {
    let (columns, side) = (view.width * view.side, view.side);
    let rows = pixels.len() / view.width * side;
    let far = horizon(view.camera);
    let empty = RasterSample { colour: Vec4::ZERO, depth: f32::INFINITY, normal: Vec3::ZERO, lit: false };
    let mut samples = vec![empty; columns * rows];
    for triangle in triangles {
        let band = Band { first_row: first_row * side, columns, samples: &mut samples };
        fill(view, triangle, lamps, band);
    }
    for (at, pixel) in pixels.iter_mut().enumerate() {
        let (row, column) = (at / view.width * side, at % view.width * side);
        let share = 1.0 / (side * side) as f32;
        let mut sum = RasterPixel { depth: f32::INFINITY, ..RasterPixel::default() };
        for y in row..row + side {
            for sample in &samples[y * columns + column..][..side] {
                sum.beauty += sample.colour * share;
                sum.normal += sample.normal;
                sum.depth = sum.depth.min(sample.depth);
                sum.mask += if sample.lit { share } else { 0.0 };
            }
        }
        sum.depth = sum.depth.min(far);
        sum.normal = sum.normal.normalize_or_zero();
        *pixel = sum;
    }
}

/// Some rows of samples, the highest first.
struct Band<'b> {
    first_row: usize,
    columns: usize,
    samples: &'b mut [RasterSample],
}

/// Where a ray meets a triangle: the weights of its corners, and the distance from the camera.
struct Hit {
    weights: Vec3,
    depth: f32,
}

fn fill(view: &View, triangle: &Triangle, lamps: &[Lamp], band: Band<'_>) {
    let Band { first_row, columns, samples } = band;
    let [a, b, c] = triangle.screen;
    let area = (b - a).perp_dot(c - a);
    let (low, high) = (a.min(b).min(c), a.max(b).max(c));
    let rows = samples.len() / columns;
    if !area.is_finite() || area.abs() < 1e-9 || high.x < 0.0 || high.y < first_row as f32 {
        return;
    }
    let last = |edge: f32, most: usize| if edge < 0.0 { 0 } else { (edge.ceil() as usize).min(most) };
    let (left, right) = (last(low.x.floor(), columns), last(high.x, columns));
    let top = last(low.y.floor() - first_row as f32, rows);
    let bottom = last(high.y - first_row as f32, rows);
    for row in top..bottom {
        for column in left..right {
            let at = Vec2::new(column as f32 + 0.5, (row + first_row) as f32 + 0.5);
            let share =
                Vec3::new((b - at).perp_dot(c - at), (c - at).perp_dot(a - at), (a - at).perp_dot(b - at)) / area;
            if share.min_element() < 0.0 {
                continue;
            }
            let weights = share * triangle.over_w;
            let weights = weights / weights.dot(Vec3::ONE);
            let sample = &mut samples[row * columns + column];
            let depth: f32 = -(0..3).map(|i| triangle.corners[i].view.z * weights[i]).sum::<f32>();
            if depth < sample.depth && depth <= view.camera.far.unwrap_or(f32::INFINITY) {
                shade(view, triangle, lamps, &Hit { weights, depth }, sample);
            }
        }
    }
}

fn shade(view: &View, triangle: &Triangle, lamps: &[Lamp], hit: &Hit, sample: &mut RasterSample) {
    let Hit { weights, depth } = *hit;
    let corners = &triangle.corners;
    let colour = corners[0].colour * weights.x + corners[1].colour * weights.y + corners[2].colour * weights.z;
    let point = corners[0].world * weights.x + corners[1].world * weights.y + corners[2].world * weights.z;
    let mut normal = corners[0].normal * weights.x + corners[1].normal * weights.y + corners[2].normal * weights.z;
    normal = normal.normalize_or_zero();
    let eye = view.world[view.camera.node].w_axis.xyz();
    if normal.dot(eye - point) < 0.0 {
        normal = -normal;
    }
    let material = triangle.material;
    let mut light = material.emissive;
    light += if material.unlit { colour.xyz() } else { colour.xyz() * gathered(lamps, point, normal) };
    if view.fog {
        light = light.lerp(FOG, 1.0 - (-depth * 0.022).exp());
    }
    if material.blend {
        let alpha = colour.w.clamp(0.0, 1.0);
        let over = (light * alpha).extend(alpha);
        sample.colour = over + sample.colour * (1.0 - alpha);
    } else {
        *sample = RasterSample { colour: light.extend(1.0), depth, normal, lit: !material.unlit };
    }
}

fn gathered(lamps: &[Lamp], point: Vec3, normal: Vec3) -> Vec3 {
    lamps.iter().fold(AMBIENT, |sum, lamp| match lamp {
        Lamp::Far { towards, colour } => sum + *colour * normal.dot(*towards).max(0.0),
        Lamp::Near { at, colour, reach } => {
            let way = *at - point;
            let distance = way.length();
            let fade = reach.map_or(1.0, |reach| (1.0 - (distance / reach).powi(4)).clamp(0.0, 1.0));
            sum + *colour * (fade * normal.dot(way / distance.max(1e-3)).max(0.0) / distance.max(0.3).powi(2))
        }
    })
}
