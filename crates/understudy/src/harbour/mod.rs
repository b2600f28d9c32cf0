//! The demo's scenery: three shots of a night ferry crossing a harbour with a lighthouse, made by code as glTF 2.0.
//!
//! Between them the three files use the ways glTF has of holding data: a buffer beside the file, a binary container and
//! a data URI.

mod mesh;
mod pack;
mod props;

use glam::{Quat, Vec3};

use mesh::Shape;
use pack::{BufferStorage, CameraLook, PackedLens, Packer};

/// A generated file and its name.
pub type MadeFile = (&'static str, Vec<u8>);

/// All files of the demo's `scenes` folder. The same bytes every time.
pub fn scenes() -> Vec<MadeFile> {
    let (crossing, sea) = crossing().finish(BufferStorage::Beside("crossing.bin"));
    let (lighthouse, _) = lighthouse().finish(BufferStorage::Binary);
    let (arrival, _) = arrival().finish(BufferStorage::Inside);
    vec![("crossing.gltf", crossing), ("crossing.bin", sea), ("lighthouse.glb", lighthouse), ("arrival.gltf", arrival)]
}

/// Four seconds: the ferry crosses in front of the lighthouse.
fn crossing() -> Packer {
    let mut scene = Packer::new("crossing");
    props::night(&mut scene);
    props::town(&mut scene, Vec3::new(-40.0, 0.0, -150.0), 26);
    props::lighthouse(&mut scene, Vec3::new(34.0, 0.0, -58.0), 4.0, 0.75);
    props::quay(&mut scene, Vec3::new(0.0, 0.0, 12.0));
    let ferry = props::ferry(&mut scene);
    scene.slide(ferry, &[(0.0, Vec3::new(-26.0, 0.0, -24.0)), (4.0, Vec3::new(20.0, 0.0, -30.0))]);
    scene.turn(
        ferry,
        &[0.0f32, 1.0, 2.0, 3.0, 4.0]
            .map(|t| (t, Quat::from_euler(glam::EulerRot::YXZ, 0.13, 0.03 * (t * 1.7).sin(), 0.01 * (t * 2.3).cos()))),
    );
    props::buoy(&mut scene, Vec3::new(-7.0, 0.0, -9.0), 0.0, 4.0);
    props::buoy(&mut scene, Vec3::new(9.0, 0.0, -13.0), 0.4, 4.0);
    scene.camera(
        None,
        "quay",
        CameraLook { from: Vec3::new(-4.0, 3.4, 11.0), to: Vec3::new(3.0, 4.2, -30.0) },
        PackedLens::perspective(0.72).within(0.1, 900.0),
    );
    scene.camera(
        Some(ferry),
        "mast",
        CameraLook { from: Vec3::new(-7.0, 15.5, 0.0), to: Vec3::new(18.0, 4.5, -7.0) },
        PackedLens::perspective(0.95),
    );
    scene
}

/// Two seconds: the lamp turns, seen from the cliff and from above, as on a chart.
fn lighthouse() -> Packer {
    let mut scene = Packer::new("lighthouse");
    props::night(&mut scene);
    props::town(&mut scene, Vec3::new(60.0, 0.0, -170.0), 18);
    props::lighthouse(&mut scene, Vec3::ZERO, 2.0, 1.0);
    props::buoy(&mut scene, Vec3::new(-9.0, 0.0, 9.0), 0.2, 2.0);
    let ferry = props::ferry(&mut scene);
    scene.slide(ferry, &[(0.0, Vec3::new(-62.0, 0.0, -48.0)), (2.0, Vec3::new(-50.0, 0.0, -50.0))]);
    scene.camera(
        None,
        "cliff",
        CameraLook { from: Vec3::new(-17.0, 6.0, 27.0), to: Vec3::new(-3.0, 8.2, 0.0) },
        PackedLens::perspective(0.70).within(0.1, 900.0),
    );
    scene.camera(
        None,
        "chart",
        CameraLook { from: Vec3::new(-20.0, 90.0, -14.0), to: Vec3::new(-20.0, 0.0, -14.01) },
        PackedLens::orthographic(42.0),
    );
    scene
}

/// Two seconds: the ferry comes alongside between the buoys.
fn arrival() -> Packer {
    let mut scene = Packer::new("arrival");
    props::night(&mut scene);
    props::town(&mut scene, Vec3::new(-10.0, 0.0, -120.0), 30);
    props::lighthouse(&mut scene, Vec3::new(-52.0, 0.0, -95.0), 2.0, 0.5);
    props::quay(&mut scene, Vec3::new(0.0, 0.0, 6.0));
    let ferry = props::ferry(&mut scene);
    scene.turn(ferry, &[(0.0, Quat::from_rotation_y(0.5)), (2.0, Quat::from_rotation_y(0.12))]);
    scene.slide(ferry, &[(0.0, Vec3::new(-9.0, 0.0, -23.0)), (2.0, Vec3::new(1.0, 0.0, -11.5))]);
    for (at, phase) in [(-13.0, 0.0), (-4.0, 0.5), (15.0, 0.9)] {
        props::buoy(&mut scene, Vec3::new(at, 0.0, -5.5 - phase * 6.0), phase, 2.0);
    }
    scene.camera(
        None,
        "pier",
        CameraLook { from: Vec3::new(15.0, 4.2, 7.5), to: Vec3::new(-1.0, 4.0, -15.0) },
        PackedLens::perspective(0.8),
    );
    scene.camera(
        Some(ferry),
        "bridge",
        CameraLook { from: Vec3::new(4.6, 8.9, 0.0), to: Vec3::new(22.0, 3.5, 1.5) },
        PackedLens::perspective(1.0),
    );
    scene
}

/// A mesh under construction, by name.
fn shape() -> Shape {
    Shape::default()
}
