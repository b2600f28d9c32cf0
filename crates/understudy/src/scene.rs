//! What the understudy knows of a scene once it is loaded: nothing here refers to the file any more.

use glam::{Mat4, Quat, Vec3, Vec4};

/// A loaded scene.
#[derive(Default)]
pub struct Scene {
    pub nodes: Vec<Node>,
    pub meshes: Vec<Vec<Primitive>>,
    pub cameras: Vec<Camera>,
    pub motions: Vec<Motion>,
    /// Times of the first and the last key in seconds, of whatever moves.
    pub keys: Option<(f32, f32)>,
}

impl Scene {
    /// The frame on which a key is: `round(seconds x fps)`, one later where the first one is at 0.
    pub fn frame(&self, seconds: f32, fps: f64) -> i64 {
        let frame = |seconds: f32| (f64::from(seconds) * fps).round() as i64;
        frame(seconds) + i64::from(self.keys.is_none_or(|(first, _)| frame(first) == 0))
    }

    /// The time of a frame, held at both ends.
    pub fn time(&self, frame: i64, fps: f64) -> f32 {
        let Some((first, last)) = self.keys else { return 0.0 };
        let after = (frame - self.frame(first, fps)) as f64 / fps;
        (f64::from(first) + after).clamp(f64::from(first), f64::from(last)) as f32
    }
}

/// A node with its own transform; parents always come before their children.
pub struct Node {
    pub parent: Option<usize>,
    pub rest: Pose,
    pub mesh: Option<usize>,
    pub light: Option<SceneLight>,
}

#[derive(Clone, Copy)]
pub struct Pose {
    pub translation: Vec3,
    pub rotation: Quat,
    pub scale: Vec3,
}

impl Pose {
    pub fn matrix(&self) -> Mat4 {
        Mat4::from_scale_rotation_translation(self.scale, self.rotation, self.translation)
    }
}

/// Triangles that share a material.
pub struct Primitive {
    pub corners: Vec<Corner>,
    pub triangles: Vec<[u32; 3]>,
    pub emissive: Vec3,
    pub unlit: bool,
    pub blend: bool,
}

/// A vertex in the mesh's own space. Without a normal the face's own is used.
pub struct Corner {
    pub position: Vec3,
    pub normal: Option<Vec3>,
    pub colour: Vec4,
}

/// A camera and the node it hangs on.
pub struct Camera {
    pub name: String,
    pub node: usize,
    pub lens: Lens,
    pub near: f32,
    /// None: nothing is too far.
    pub far: Option<f32>,
}

#[derive(Clone, Copy)]
pub enum Lens {
    /// Vertical opening in radians.
    Perspective { opening: f32 },
    /// Half the height of the view.
    Orthographic { half_height: f32 },
}

#[derive(Clone, Copy)]
pub enum SceneLight {
    /// Shines along the node's -Z.
    Directional {
        colour: Vec3,
    },
    Point {
        colour: Vec3,
        reach: Option<f32>,
    },
}

/// One animated property of one node.
pub struct Motion {
    pub node: usize,
    pub times: Vec<f32>,
    pub step: bool,
    pub keys: Keys,
}

pub enum Keys {
    Translation(Vec<Vec3>),
    Rotation(Vec<Quat>),
    Scale(Vec<Vec3>),
}
