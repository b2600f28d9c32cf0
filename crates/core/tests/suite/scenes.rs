//! Facts of real USD files: the same harbour as text and in binary, and a package. They were written by another program.

use std::collections::BTreeSet;

use truepath_core::scene::{self, Facts, Unread};
use truepath_core::sheet::Size;

fn bytes(name: &str) -> Vec<u8> {
    match name {
        "harbour.usda" => include_bytes!("scenes/harbour.usda").to_vec(),
        "harbour.usdc" => include_bytes!("scenes/harbour.usdc").to_vec(),
        _ => include_bytes!("scenes/small.usdz").to_vec(),
    }
}

fn facts(name: &str) -> Facts {
    scene::read(name, &bytes(name)).unwrap()
}

fn set(list: &[String]) -> BTreeSet<&str> {
    list.iter().map(String::as_str).collect()
}

#[test]
fn text_and_binary_have_the_same_facts() {
    let (text, binary) = (facts("harbour.usda"), facts("harbour.usdc"));
    for facts in [&text, &binary] {
        assert_eq!(set(facts.cameras.as_deref().unwrap()), BTreeSet::from(["quay", "belfry", "redcam"]), "no overs");
        assert_eq!(facts.span, Some((1001, 1048)));
        assert_eq!(facts.fps.unwrap().to_string(), "24000/1001");
        assert_eq!(facts.size, Some(Size { width: 1920, height: 1080 }));
        assert_eq!(set(&facts.layers), BTreeSet::from(["./sets/light.usda", "./sets/ferry.usdc", "./sets/lost.usdc"]));
        let named = ["./tex/water.png", "./tex/light.png", "./tex/none.png"];
        let all: BTreeSet<&str> = set(&facts.layers).into_iter().chain(named).collect();
        assert_eq!(set(&facts.resources), all);
        assert!(facts.camera_paths.contains(&"/Harbour/Tower/belfry".to_owned()), "{:?}", facts.camera_paths);
        let [film] = &facts.products[..] else { panic!("only what the settings name: {:?}", facts.products) };
        assert_eq!((film.name.as_str(), film.file.as_deref()), ("film", Some("film.####.exr")));
        assert_eq!(
            (film.camera.as_deref(), &film.variables[..]),
            (Some("quay"), &["color".into(), "depth".into()][..])
        );
    }
    // The common extension says nothing of the form.
    for name in ["harbour.usda", "harbour.usdc"] {
        assert_eq!(scene::read("x.usd", &bytes(name)).unwrap(), facts(name));
    }
}

#[test]
fn a_package_holds_its_own_files() {
    let facts = facts("small.usdz");
    assert_eq!(set(facts.cameras.as_deref().unwrap()), BTreeSet::from(["quay", "bridge"]), "of its layer, too");
    assert!(facts.resources.is_empty() && facts.layers.is_empty() && !facts.more_cameras, "{facts:?}");
}

#[test]
fn what_is_cut_off_is_damaged_and_says_so() {
    for name in ["harbour.usdc", "small.usdz"] {
        let whole = bytes(name);
        for end in (0..whole.len() - 1).step_by(7) {
            if let Err(Unread::OtherFormat) = scene::read(name, &whole[..end]) {
                panic!("{name} of {end} bytes is still {name}");
            }
        }
        assert!(matches!(scene::read(name, &whole[..whole.len() / 2]), Err(Unread::Damaged(_))));
    }
    assert!(matches!(scene::read("x.usd", b"neither"), Err(Unread::Damaged(_))));
}
