//! Where every node is at a time: glTF 2.0 animation with linear and step interpolation, clamped at both ends.

use glam::{Mat4, Quat, Vec3};

use crate::scene::{Keys, Motion, Pose, Scene};

/// World matrices of all nodes at `seconds`.
pub fn world(scene: &Scene, seconds: f32) -> Vec<Mat4> {
    let mut poses: Vec<Pose> = scene.nodes.iter().map(|node| node.rest).collect();
    for motion in &scene.motions {
        apply(motion, seconds, &mut poses[motion.node]);
    }
    let mut world: Vec<Mat4> = Vec::with_capacity(poses.len());
    for (node, pose) in scene.nodes.iter().zip(&poses) {
        let own = pose.matrix();
        world.push(node.parent.map_or(own, |parent| world[parent] * own));
    }
    world
}

fn apply(motion: &Motion, seconds: f32, pose: &mut Pose) {
    let (from, to, part) = place(motion, seconds);
    match &motion.keys {
        Keys::Translation(keys) => mix(keys, from, to, |a: Vec3, b| pose.translation = a.lerp(b, part)),
        Keys::Scale(keys) => mix(keys, from, to, |a: Vec3, b| pose.scale = a.lerp(b, part)),
        Keys::Rotation(keys) => mix(keys, from, to, |a: Quat, b| pose.rotation = a.slerp(b, part)),
    }
}

fn mix<T: Copy>(keys: &[T], from: usize, to: usize, set: impl FnOnce(T, T)) {
    if let (Some(a), Some(b)) = (keys.get(from), keys.get(to)) {
        set(*a, *b);
    }
}

/// The two keys around `seconds` and how far between them it lies, 0 to 1.
fn place(motion: &Motion, seconds: f32) -> (usize, usize, f32) {
    let after = motion.times.partition_point(|time| *time <= seconds);
    let last = motion.times.len().saturating_sub(1);
    let from = after.saturating_sub(1);
    let to = if after == 0 { 0 } else { after.min(last) };
    if motion.step || from == to {
        return (from, from, 0.0);
    }
    let part = (seconds - motion.times[from]) / (motion.times[to] - motion.times[from]);
    (from, to, if part.is_finite() { part.clamp(0.0, 1.0) } else { 0.0 })
}
