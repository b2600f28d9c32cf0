//! Damaged input of every kind ends with a sentence and a documented code, never with a panic.

use crate::support::{Project, SMALL, Said};

/// The same odd numbers in every run.
struct Odd(u64);

impl Odd {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.0 >> 33) as usize) % most.max(1)
    }

    /// Some bytes changed, doubled, taken out, or the end cut off.
    fn damage(&mut self, bytes: &[u8]) -> Vec<u8> {
        let mut bytes = bytes.to_vec();
        for _ in 0..=self.below(4) {
            let at = self.below(bytes.len());
            match self.below(5) {
                0 => bytes[at] = self.below(256) as u8,
                1 => bytes.truncate(at.max(1)),
                2 => bytes.splice(at..(at + self.below(20)).min(bytes.len()), []).for_each(drop),
                3 => bytes[at] = b"0123456789-{}[]\",.e"[self.below(19)],
                _ => {
                    let piece = bytes[at..(at + 12).min(bytes.len())].to_vec();
                    bytes.splice(at..at, piece);
                }
            }
            if bytes.is_empty() {
                bytes.push(0);
            }
        }
        bytes
    }
}

#[track_caller]
fn no_panic(said: &Said, what: &[u8]) {
    let known = [0, 1, 2, 3, 4].contains(&said.code);
    assert!(known && !said.err.contains("panicked"), "{}\n{}\n{}", said.code, said.err, String::from_utf8_lossy(what));
}

#[test]
fn damaged_sheets_are_said() {
    let project = Project::with(SMALL);
    let mut odd = Odd(7);
    for round in 0..300 {
        let bytes = odd.damage(SMALL.as_bytes());
        project.write("truepath.toml", &bytes);
        let words = ["check --offline", "names", "check --json", "build --to json"][round % 4];
        no_panic(&project.say(words), &bytes);
    }
}

#[test]
fn damaged_scenes_are_said() {
    let project = Project::with(SMALL);
    let mut odd = Odd(11);
    for (name, rounds) in [("crossing.gltf", 160), ("lighthouse.glb", 60)] {
        let whole = std::fs::read(project.path("scenes").join(name)).unwrap();
        for _ in 0..rounds {
            // The text of a container is at its head.
            let cut = whole.len().min(20_000);
            let mut bytes = odd.damage(&whole[..cut]);
            bytes.extend(&whole[cut..]);
            project.write(&format!("scenes/{name}"), &bytes);
            no_panic(&project.say(&format!("check --set scene=scenes/{name}")), &bytes[..bytes.len().min(200)]);
            no_panic(
                &project.say(&format!(
                    "understudy render scenes/{name} --frames 1-2 --size 16x9 --samples 1 --pass beauty=out.#.png"
                )),
                &bytes[..bytes.len().min(200)],
            );
        }
        project.write(&format!("scenes/{name}"), &whole);
    }
}

#[test]
fn a_node_that_is_its_own_ancestor_and_an_empty_scene_are_harmless() {
    let project = Project::with(SMALL);
    let circle = r#"{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0]}],"nodes":[{"children":[1]},{"children":[0],"camera":0,"name":"c"}],
        "cameras":[{"type":"perspective","perspective":{"yfov":1.0,"znear":0.1}}]}"#;
    project.write("scenes/circle.gltf", circle);
    project.say("understudy render scenes/circle.gltf --frames 1 --size 8x8 --pass beauty=out.png").ended(0);
    project.write("scenes/empty.gltf", r#"{"asset":{"version":"2.0"}}"#);
    let said = project.say("understudy render scenes/empty.gltf --frames 1 --size 8x8 --pass beauty=out.png").ended(1);
    assert!(said.err.starts_with("error: no camera"), "{}", said.err);
}
