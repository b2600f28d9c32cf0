//! What stands and floats in the harbour.

use std::f32::consts::TAU;

use glam::{Quat, Vec3, Vec4};

use super::mesh::{Shape, rgb};
use super::pack::{Packer, Surface};
use super::shape;

const WARM: Vec4 = Vec4::new(1.0, 0.78, 0.42, 1.0);

/// A fixed scatter: the same numbers in every run, between 0 and 1.
fn scatter(seed: u32) -> f32 {
    let mixed = seed.wrapping_mul(0x9E37_79B9) ^ (seed.wrapping_mul(0x85EB_CA6B) >> 13);
    (mixed.wrapping_mul(0xC2B2_AE35) >> 8) as f32 / (1 << 24) as f32
}

/// Sky, stars, moon, water and moonlight.
pub fn night(scene: &mut Packer) {
    let (zenith, horizon) = (rgb(0.004, 0.007, 0.026), rgb(0.055, 0.072, 0.135));
    let point = |turn: f32, rise: f32| Vec3::new(turn.cos() * rise.cos(), rise.sin(), turn.sin() * rise.cos());
    let mut sky = shape();
    let (slices, rings) = (40, 10);
    for slice in 0..slices {
        for ring in 0..rings {
            let turn = |at: usize| TAU * at as f32 / slices as f32;
            let rise = |at: usize| -0.05 + 1.62 * (at as f32 / rings as f32).powf(1.6);
            let tone = |at: usize| horizon.lerp(zenith, (at as f32 / rings as f32).powf(0.5));
            let corner = |s: usize, r: usize| point(turn(s), rise(r)) * 600.0;
            sky = sky.sheet(
                [corner(slice, ring), corner(slice + 1, ring), corner(slice + 1, ring + 1), corner(slice, ring + 1)],
                [tone(ring), tone(ring), tone(ring + 1), tone(ring + 1)],
            );
        }
    }
    for star in 0..420u32 {
        let at = point(scatter(star * 3) * TAU, 0.04 + scatter(star * 3 + 1).powi(2) * 1.2) * 560.0;
        sky = sky.and(disc(
            at,
            0.35 + 0.75 * scatter(star * 3 + 2).powi(3),
            4,
            rgb(0.75, 0.8, 0.95) * (0.25 + 0.75 * scatter(star * 7)),
        ));
    }
    let moon = Vec3::new(-0.30, 0.21, -0.93).normalize();
    sky = sky.and(disc(moon * 540.0, 13.0, 28, rgb(0.93, 0.92, 0.82)));
    scene.part(None, "sky", &sky, Surface::Glow);
    scene.part(None, "water", &water(), Surface::Lit);
    let mut glade = shape();
    for stripe in 0..60u32 {
        let way = 14.0 + stripe as f32 * 5.5;
        let middle = Vec3::new(moon.x, 0.0, moon.z).normalize() * way
            + Vec3::new((scatter(stripe) - 0.5) * way * 0.09, 0.03, 0.0);
        let (wide, deep) = (way * (0.02 + 0.05 * scatter(stripe + 900)), 0.35 + way * 0.004);
        let soft = Vec4::new(0.75, 0.78, 0.72, 0.0);
        let bright = Vec4::new(0.75, 0.78, 0.72, 0.30);
        let corner = |x: f32, z: f32| middle + Vec3::new(x * wide, 0.0, z * deep);
        glade = glade.sheet(
            [corner(-1.0, -1.0), corner(0.0, -1.0), corner(0.0, 1.0), corner(-1.0, 1.0)],
            [soft, bright, bright, soft],
        );
        glade = glade.sheet(
            [corner(0.0, -1.0), corner(1.0, -1.0), corner(1.0, 1.0), corner(0.0, 1.0)],
            [bright, soft, soft, bright],
        );
    }
    scene.part(None, "moon-glade", &glade, Surface::Haze);
    scene.moonlight(moon + Vec3::new(0.0, 0.35, 0.5), Vec3::new(0.30, 0.34, 0.44));
}

fn water() -> Shape {
    let mut water = shape();
    let step = 7.0;
    for row in -30..30i32 {
        for column in -30..30i32 {
            let corner = |dx: i32, dz: i32| {
                let (x, z) = (column + dx, row + dz);
                let wave = 0.22 * ((x as f32 * 1.9).sin() + (z as f32 * 1.3 + x as f32 * 0.7).cos()) - 0.45;
                Vec3::new(x as f32 * step, wave.min(-0.04), z as f32 * step)
            };
            let tone = rgb(0.035, 0.062, 0.105) * (0.8 + 0.4 * scatter((row * 61 + column + 4000) as u32));
            water = water.quad([corner(0, 0), corner(0, 1), corner(1, 1), corner(1, 0)], tone);
        }
    }
    water
}

/// A disc that faces the origin.
fn disc(at: Vec3, radius: f32, sides: u32, colour: Vec4) -> Shape {
    let side = at.cross(Vec3::Y).normalize() * radius;
    let up = side.cross(at).normalize() * radius;
    let mut disc = Shape { positions: vec![at], colours: vec![colour], indices: Vec::new() };
    for corner in 0..sides {
        let turn = TAU * corner as f32 / sides as f32;
        disc.positions.push(at + side * turn.cos() + up * turn.sin());
        disc.colours.push(colour);
        disc.indices.extend([0, 1 + corner, 1 + (corner + 1) % sides]);
    }
    disc
}

/// A streak of light on the water in front of a lamp.
fn streak(at: Vec3, width: f32, length: f32, colour: Vec4) -> Shape {
    let corner = |x: f32, z: f32| Vec3::new(at.x + x * width, 0.02, at.z + z * length);
    let (near, far) = (colour, colour * Vec4::new(1.0, 1.0, 1.0, 0.0));
    shape().sheet([corner(-0.5, 0.0), corner(0.5, 0.0), corner(0.8, 1.0), corner(-0.8, 1.0)], [near, near, far, far])
}

/// Houses along the far shore with some windows lit.
pub fn town(scene: &mut Packer, at: Vec3, houses: u32) {
    let mut walls = shape().block(Vec3::new(-130.0, -1.0, -16.0), Vec3::new(130.0, 1.6, 2.0), rgb(0.10, 0.10, 0.12));
    let (mut windows, mut streaks) = (shape(), shape());
    for house in 0..houses {
        let x = (house as f32 - houses as f32 / 2.0) * 8.4 + 3.0 * scatter(house);
        let (wide, tall) = (2.2 + 1.6 * scatter(house + 50), 4.0 + 8.0 * scatter(house + 90).powi(2));
        walls = walls.block(
            Vec3::new(x - wide, 0.0, -6.0),
            Vec3::new(x + wide, tall, 0.0),
            rgb(0.16, 0.15, 0.17) * (0.6 + 0.6 * scatter(house + 7)),
        );
        for pane in 0..14u32 {
            if scatter(house * 31 + pane) < 0.42 {
                let corner =
                    Vec3::new(x - wide + 0.6 + (pane % 4) as f32 * wide * 0.45, 1.8 + (pane / 4) as f32 * 2.0, 0.05);
                if corner.y + 0.8 < tall && corner.x + 0.7 < x + wide {
                    let (across, up) = (Vec3::X * 0.7, Vec3::Y * 0.8);
                    windows = windows.quad(
                        [corner, corner + across, corner + across + up, corner + up],
                        WARM * (0.4 + 0.6 * scatter(pane + house)),
                    );
                }
            }
        }
        streaks = streaks.and(streak(
            Vec3::new(x, 0.0, 3.0),
            1.6,
            22.0 + 20.0 * scatter(house + 3),
            Vec4::new(1.0, 0.7, 0.35, 0.20),
        ));
    }
    for (name, shape, surface) in [
        ("town", walls, Surface::Lit),
        ("town-windows", windows, Surface::Glow),
        ("town-streaks", streaks, Surface::Haze),
    ] {
        scene.part(None, name, &shape.moved(at), surface);
    }
}

/// A banded tower on a rock; its two beams turn `turns` times in `seconds`.
pub fn lighthouse(scene: &mut Packer, at: Vec3, seconds: f32, turns: f32) {
    let foot = scene.node(None, "lighthouse", at);
    let rock: Vec<(f32, f32)> = (0..11u32)
        .map(|i| (TAU * i as f32 / 11.0, 6.4 + 2.4 * scatter(i + 5)))
        .map(|(t, r)| (r * t.cos(), r * t.sin()))
        .collect();
    let mut tower = shape().prism(&rock, -1.0..2.2, 0.62, rgb(0.17, 0.16, 0.16));
    let (white, red) = (rgb(0.80, 0.79, 0.75), rgb(0.62, 0.08, 0.06));
    for band in 0..5 {
        let (low, radius) = (2.2 + band as f32 * 2.2, 1.75 - band as f32 * 0.13);
        tower = tower.tower(radius, low..low + 2.2, (radius - 0.13) / radius, if band % 2 == 0 { white } else { red });
    }
    tower = tower.tower(1.75, 13.2..13.5, 1.0, rgb(0.2, 0.2, 0.22)).tower(1.05, 15.3..16.5, 0.05, red);
    scene.part(Some(foot), "tower", &tower, Surface::Lit);
    scene.part(Some(foot), "lantern", &shape().tower(0.72, 13.5..15.3, 1.0, rgb(1.0, 0.93, 0.66)), Surface::Glow);
    let lamp = scene.node(Some(foot), "turning-lamp", Vec3::new(0.0, 14.4, 0.0));
    let mut beam = shape();
    for side in [1.0f32, -1.0] {
        for (spread, alpha) in [(0.035, 0.34), (0.075, 0.17), (0.13, 0.09)] {
            let length = 95.0;
            let (near, far) = (Vec4::new(1.0, 0.93, 0.68, alpha), Vec4::new(1.0, 0.93, 0.68, 0.0));
            for (y, z) in [(1.0, 0.0), (0.0, 1.0)] {
                let edge = |x: f32, s: f32| Vec3::new(side * x, -0.02 * x + s * y * x * spread, s * z * x * spread);
                beam = beam.sheet(
                    [edge(1.0, -1.0), edge(length, -1.0), edge(length, 1.0), edge(1.0, 1.0)],
                    [near, far, far, near],
                );
            }
        }
    }
    scene.part(Some(lamp), "beam", &beam, Surface::Haze);
    let steps = (turns * 8.0).ceil().max(1.0) as u32;
    let key = |i: u32| {
        (seconds * i as f32 / steps as f32, Quat::from_rotation_y(0.5 + TAU * turns * i as f32 / steps as f32))
    };
    scene.turn(lamp, &(0..=steps).map(key).collect::<Vec<_>>());
    scene.lamp(Some(foot), Vec3::new(0.0, 14.4, 2.5), Vec3::new(60.0, 52.0, 34.0), 60.0);
    scene.lamp(Some(foot), Vec3::new(-4.5, 4.5, 6.0), Vec3::new(16.0, 11.0, 6.0), 25.0);
    scene.part(
        Some(foot),
        "lantern-streak",
        &streak(Vec3::new(0.0, 0.0, 8.0), 2.2, 34.0, Vec4::new(1.0, 0.9, 0.6, 0.24)),
        Surface::Haze,
    );
}

/// The ferry, bow towards +X; returns its node.
pub fn ferry(scene: &mut Packer) -> usize {
    let ferry = scene.node(None, "ferry", Vec3::ZERO);
    let outline =
        |long: f32, wide: f32| [(-long, -wide), (long * 0.7, -wide), (long, 0.0), (long * 0.7, wide), (-long, wide)];
    let (dark, white) = (rgb(0.06, 0.11, 0.22), rgb(0.74, 0.75, 0.76));
    let deck = |long: f32, wide: f32, height, colour| shape().prism(&outline(long, wide), height, 0.985, colour);
    let solid = deck(10.6, 2.9, -0.6..1.6, dark)
        .and(deck(10.9, 3.0, 1.6..2.3, rgb(0.55, 0.10, 0.08)))
        .and(deck(8.6, 2.6, 2.3..4.5, white).moved(Vec3::new(-0.8, 0.0, 0.0)))
        .and(deck(6.4, 2.3, 4.5..6.5, white).moved(Vec3::new(-0.9, 0.0, 0.0)))
        .and(deck(2.2, 2.2, 6.5..8.1, white).moved(Vec3::new(2.6, 0.0, 0.0)))
        .and(shape().tower(0.85, 6.5..10.2, 0.82, rgb(0.62, 0.12, 0.08)).moved(Vec3::new(-4.4, 0.0, 0.0)))
        .and(shape().tower(0.10, 8.1..12.4, 0.6, rgb(0.5, 0.5, 0.52)).moved(Vec3::new(2.0, 0.0, 0.0)));
    scene.part(Some(ferry), "hull", &solid, Surface::Lit);
    let (mut lights, mut streaks) = (shape(), shape());
    for (row, (count, from, y, z)) in
        [(15, -8.6, 2.95, 2.62), (11, -6.6, 5.05, 2.32), (3, 1.1, 7.0, 2.22)].into_iter().enumerate()
    {
        for window in 0..count {
            let x = from + window as f32 * 0.98;
            let dim = 0.62 + 0.38 * scatter((row * 40 + window) as u32);
            for face in [z, -z] {
                let corner = |dx: f32, dy: f32| Vec3::new(x + dx, y + dy, face);
                lights = lights
                    .quad([corner(0.0, 0.0), corner(0.62, 0.0), corner(0.62, 0.82), corner(0.0, 0.82)], WARM * dim);
            }
            if row == 0 {
                for way in [1.0, -1.0] {
                    streaks = streaks.and(streak(
                        Vec3::new(x + 0.3, 0.0, way * 3.1),
                        0.5,
                        way * (6.0 + 5.0 * dim),
                        Vec4::new(1.0, 0.72, 0.34, 0.36),
                    ));
                }
            }
        }
    }
    for (at, colour) in [
        ((2.0, 12.4, 0.0), rgb(1.0, 0.97, 0.9)),
        ((8.2, 3.0, 2.5), rgb(0.15, 1.0, 0.35)),
        ((8.2, 3.0, -2.5), rgb(1.0, 0.12, 0.1)),
        ((-9.8, 3.3, 0.0), rgb(1.0, 0.97, 0.9)),
    ] {
        let at = Vec3::from(at);
        lights = lights.block(at - Vec3::splat(0.17), at + Vec3::splat(0.17), colour);
    }
    scene.part(Some(ferry), "ferry-lights", &lights, Surface::Glow);
    scene.part(Some(ferry), "ferry-streaks", &streaks, Surface::Haze);
    scene.lamp(Some(ferry), Vec3::new(-1.0, 7.6, 6.5), Vec3::new(26.0, 21.0, 13.0), 26.0);
    ferry
}

/// A buoy that bobs, with a light that blinks.
pub fn buoy(scene: &mut Packer, at: Vec3, phase: f32, seconds: f32) {
    let node = scene.node(None, "buoy", at);
    let body = shape().tower(0.85, -0.4..0.35, 0.9, rgb(0.08, 0.3, 0.14)).and(shape().tower(
        0.5,
        0.35..2.1,
        0.3,
        rgb(0.10, 0.42, 0.18),
    ));
    scene.part(Some(node), "buoy-body", &body, Surface::Lit);
    let light =
        scene.part(Some(node), "buoy-light", &shape().tower(0.2, 2.1..2.5, 0.8, rgb(0.4, 1.0, 0.5)), Surface::Glow);
    let steps = (seconds * 4.0) as u32;
    let time = |i: u32| seconds * i as f32 / steps as f32;
    scene.slide(
        node,
        &(0..=steps).map(|i| (time(i), at + Vec3::Y * 0.28 * ((time(i) + phase) * 3.1).sin())).collect::<Vec<_>>(),
    );
    scene.turn(
        node,
        &(0..=steps)
            .map(|i| (time(i), Quat::from_rotation_z(0.13 * ((time(i) + phase) * 2.3).cos())))
            .collect::<Vec<_>>(),
    );
    scene.blink(light, &(0..=steps).map(|i| (time(i), (i + (phase * 4.0) as u32) % 4 < 2)).collect::<Vec<_>>());
}

/// A quay with bollards and two lamps, its edge towards -Z.
pub fn quay(scene: &mut Packer, at: Vec3) {
    let mut stone = shape().block(Vec3::new(-60.0, -2.0, -4.0), Vec3::new(60.0, 1.1, 20.0), rgb(0.24, 0.23, 0.22));
    let mut glow = shape();
    for post in 0..9u32 {
        let x = post as f32 * 6.0 - 24.0;
        stone = stone.and(shape().tower(0.28, 1.1..1.75, 1.15, rgb(0.12, 0.12, 0.13)).moved(Vec3::new(x, 0.0, -3.2)));
    }
    let root = scene.node(None, "quay-lamps", at);
    for x in [-11.5f32, 9.5] {
        stone = stone.and(shape().tower(0.09, 1.1..6.0, 0.7, rgb(0.2, 0.2, 0.2)).moved(Vec3::new(x, 0.0, -2.2)));
        glow = glow.block(Vec3::new(x - 0.22, 5.9, -2.42), Vec3::new(x + 0.22, 6.3, -1.98), WARM);
        scene.lamp(Some(root), Vec3::new(x, 5.8, -2.2), Vec3::new(15.0, 11.0, 6.0), 24.0);
    }
    scene.part(None, "quay-stone", &stone.moved(at), Surface::Lit);
    scene.part(None, "quay-glow", &glow.moved(at), Surface::Glow);
}
