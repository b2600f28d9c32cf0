//! The understudy draws what glTF says: projection, hierarchy, animation, and every file type it claims.
#![allow(clippy::unwrap_used)]

use std::path::Path;

use clap::Parser;
use truepath_understudy::{UnderstudyCommand, harbour, run};

#[derive(Parser)]
struct Call {
    #[command(subcommand)]
    command: UnderstudyCommand,
}

fn render(scene: &Path, words: &str) -> u8 {
    let words = words.split_whitespace().map(str::to_owned);
    run(Call::try_parse_from(
        ["x".to_owned(), "render".to_owned(), scene.display().to_string()].into_iter().chain(words),
    )
    .unwrap()
    .command)
}

fn grey(path: &Path) -> Vec<u8> {
    let mut reader =
        png::Decoder::new(std::io::BufReader::new(std::fs::File::open(path).unwrap())).read_info().unwrap();
    let mut bytes = vec![0; reader.output_buffer_size().unwrap()];
    reader.next_frame(&mut bytes).unwrap();
    bytes
}

/// A square of 2x2 units on a child node, 4 units before an orthographic camera that sees 4 units in height; not indexed,
/// without normals; it moves one unit to the right in a second and is hidden, in one step, from half a second on.
fn square() -> String {
    let corners: [[f32; 3]; 6] =
        [[-1., -1., 0.], [1., -1., 0.], [1., 1., 0.], [-1., -1., 0.], [1., 1., 0.], [-1., 1., 0.]];
    let floats: Vec<f32> = corners
        .concat()
        .into_iter()
        .chain([0., 1.])
        .chain([0., 0., 0., 1., 0., 0.])
        .chain([0., 0.5])
        .chain([1., 1., 1., 0., 0., 0.])
        .collect();
    let bytes: Vec<u8> = floats.iter().flat_map(|f| f.to_le_bytes()).collect();
    let text = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, &bytes);
    let view =
        |at: usize, count: usize| format!(r#"{{"buffer":0,"byteOffset":{},"byteLength":{}}}"#, at * 4, count * 4);
    let accessor = |view: usize, count: usize, kind: &str, more: &str| {
        format!(r#"{{"bufferView":{view},"componentType":5126,"count":{count},"type":"{kind}"{more}}}"#)
    };
    format!(
        r#"{{"asset":{{"version":"2.0"}},"scene":0,"scenes":[{{"nodes":[0,2]}}],
        "nodes":[{{"translation":[0,0,-2],"children":[1]}},{{"translation":[0,0,-4],"mesh":0}},{{"name":"top","camera":0}}],
        "cameras":[{{"type":"orthographic","orthographic":{{"xmag":2,"ymag":2,"znear":0.1,"zfar":10}}}}],
        "meshes":[{{"primitives":[{{"attributes":{{"POSITION":0}}}}]}}],
        "animations":[{{"channels":[{{"sampler":0,"target":{{"node":0,"path":"translation"}}}},{{"sampler":1,"target":{{"node":1,"path":"scale"}}}}],
          "samplers":[{{"input":1,"output":2}},{{"input":3,"output":4,"interpolation":"STEP"}}]}}],
        "accessors":[{},{},{},{},{}],"bufferViews":[{},{},{},{},{}],
        "buffers":[{{"byteLength":{},"uri":"data:application/octet-stream;base64,{text}"}}]}}"#,
        accessor(0, 6, "VEC3", r#","min":[-1,-1,0],"max":[1,1,0]"#),
        accessor(1, 2, "SCALAR", r#","min":[0],"max":[1]"#),
        accessor(2, 2, "VEC3", ""),
        accessor(3, 2, "SCALAR", r#","min":[0],"max":[0.5]"#),
        accessor(4, 2, "VEC3", ""),
        view(0, 18),
        view(18, 2),
        view(20, 6),
        view(26, 2),
        view(28, 6),
        bytes.len()
    )
}

#[test]
fn a_square_is_where_projection_hierarchy_and_animation_put_it() {
    let folder = tempfile::tempdir().unwrap();
    let scene = folder.path().join("square.gltf");
    // The parent's animation replaces its rest place: the square is 4 units away, not 6.
    std::fs::write(&scene, square()).unwrap();
    let out = |name: &str| folder.path().join(name);
    let words = format!(
        "--fps 8 --size 40x20 --samples 1 --pass mask={} --pass depth={} --channels grey",
        out("m.##.png").display(),
        out("d.##.png").display()
    );
    assert_eq!(render(&scene, &words), 0);
    let mask = |frame: usize| grey(&out(&format!("m.{frame:02}.png")));
    let covered = |bytes: &[u8]| {
        bytes
            .iter()
            .enumerate()
            .filter(|(_, value)| **value == 255)
            .map(|(at, _)| (at % 40, at / 40))
            .collect::<Vec<_>>()
    };
    let first = covered(&mask(1));
    assert_eq!((first.len(), first[0], first[99]), (100, (15, 5), (24, 14)), "2x2 of 8x4 units in the middle");
    let later = covered(&mask(3));
    assert_eq!(
        (later.len(), later[0]),
        (100, (16, 5)),
        "a quarter of a second is a quarter of a unit: 1.25 pixels, sampled at centres"
    );
    assert_eq!((covered(&mask(4)).len(), covered(&mask(5)).len()), (100, 0), "hidden in one step at half a second");
    let depth = grey(&out("d.01.png"));
    assert_eq!((depth[0], depth[10 * 40 + 20]), (255, 102), "nothing is as far as the far plane; 4 of 10 units");
}

#[test]
fn every_type_is_written_and_frames_differ() {
    let folder = tempfile::tempdir().unwrap();
    for (name, bytes) in harbour::scenes() {
        std::fs::write(folder.path().join(name), bytes).unwrap();
    }
    let scene = folder.path().join("crossing.gltf");
    for (name, words) in [
        ("a.##.png", "--bits 16 --channels rgba"),
        ("b.##.jpg", "--quality 70"),
        ("c.##.tif", "--bits float --compression deflate"),
        ("d.##.tiff", "--bits 8 --compression lzw --channels rgb"),
        ("e.##.exr", "--bits half --compression piz"),
        ("f.##.exr", "--bits float --compression zips --channels grey"),
    ] {
        let path = folder.path().join(name).display().to_string();
        assert_eq!(
            render(&scene, &format!("--camera mast --frames 1-49/24 --size 64x36 --pass beauty={path} {words}")),
            0,
            "{name}"
        );
        let frames: Vec<Vec<u8>> =
            ["01", "25", "49"].iter().map(|n| std::fs::read(path.replace("##", n)).unwrap()).collect();
        assert!(frames[0] != frames[1] && frames[1] != frames[2], "{name}");
        assert_eq!(
            render(&scene, &format!("--camera mast --frames 25 --threads 1 --size 64x36 --pass beauty={path} {words}")),
            0
        );
        assert_eq!(
            std::fs::read(path.replace("##", "25")).unwrap(),
            frames[1],
            "{name}: the same on any number of threads"
        );
    }
    for words in [
        "--bits half --pass beauty=x.png",
        "--pass beauty=x.jpg --channels rgba",
        "--pass beauty=x.xyz",
        "--pass nothing=x.png",
        "--frames 5-1 --pass beauty=x.png",
    ] {
        assert_eq!(render(&scene, words), 1, "{words}");
    }
}
