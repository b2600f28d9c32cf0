//! The table of settings against what it says: what changes a picture changes what frames are made of, and nothing else does.

use std::collections::BTreeSet;

use crate::support::{adapter, planned_all};
use truepath_core::plan::matches;
use truepath_core::run::fingerprint::{Fingerprint, Outside};
use truepath_core::sheet::Key;
use truepath_core::sheet::setting::{Changes, KEYS, ValueKind, tables};

/// Two values of a setting that differ, as they are written.
fn pair(key: &Key) -> (&'static str, &'static str) {
    match key {
        Key::Format => return ("\"f\"", "\"g\""),
        Key::Path => return ("\"{out}/{job}_{pass}.{frame:4}.png\"", "\"{out}/b/{job}_{pass}.{frame:4}.png\""),
        Key::Scene => return ("\"x.gltf\"", "\"y.gltf\""),
        Key::Adapter => return ("\"r\"", "\"s\""),
        _ => {}
    }
    match key.row().kind {
        ValueKind::Text | ValueKind::Scalar => ("\"a\"", "\"b\""),
        ValueKind::Count => ("3", "4"),
        ValueKind::Moved => ("0", "1000"),
        ValueKind::Positive => ("50", "100"),
        ValueKind::Flag => ("true", "false"),
        ValueKind::Frames => ("\"1-12\"", "\"1-11\""),
        ValueKind::Fps => ("24", "\"24000/1001\""),
        ValueKind::Size => ("\"16x8\"", "\"32x16\""),
        ValueKind::Region => ("\"0,0,4,4\"", "\"0,0,4,5\""),
        ValueKind::Handles => ("0", "[0, 2]"),
        ValueKind::Layers => ("\"apart\"", "\"together\""),
        ValueKind::Colour => ("\"linear\"", "\"display\""),
        ValueKind::Passes => ("[\"beauty\"]", "[\"depth\"]"),
        ValueKind::Path => unreachable!("above"),
        ValueKind::Version => ("3", "4"),
        ValueKind::Checkpoint => ("{ every = \"20m\" }", "{ every = \"10m\" }"),
    }
}

/// What the first series of a sheet is made of, with one setting given.
fn made(key: &str, value: &str) -> Fingerprint {
    let mut rows = vec![
        ("scene", "\"x.gltf\""),
        ("frames", "\"1-12\""),
        ("size", "\"16x8\""),
        ("format", "\"f\""),
        ("passes", "[\"beauty\", \"depth\"]"),
        ("path", "\"{out}/{job}_{pass}.{frame:4}.png\""),
        ("adapter", "\"r\""),
    ];
    rows.retain(|(name, _)| *name != key);
    rows.push((key, value));
    let body: String = rows.iter().map(|(name, value)| format!("{name} = {value}\n")).collect();
    let sheet = format!(
        "sheet = 1\n[roots]\nout = \"/out\"\n[formats.f]\ntype = \"exr\"\nbits = \"half\"\n[formats.g]\ntype = \"exr\"\nbits = \"float\"\n\
         [[job]]\nname = \"quay\"\n{body}"
    );
    let (plan, findings) = planned_all(&sheet);
    assert!(findings.iter().next().is_none(), "{key} = {value}: {findings:?}");
    let job = &plan.jobs[0];
    let mut renderer = adapter(
        "adapter = 1\nname = \"r\"\nprogram = \"p\"\narguments = [\"{scene}\", \"{out}\"]\nvariable = [\"{key}={value}\"]\nnative = [\"--{key}\", \"{value}\"]\n",
    );
    renderer.name = job.adapter.clone().unwrap();
    // As it is looked up: the bytes of the scene, and what an exporter makes of them.
    let outside = Outside {
        scene: job.scene.as_ref().map(|scene| scene.value.clone()),
        export: job.export.clone().map(Some),
        resources_known: true,
        ..Outside::default()
    };
    Fingerprint::of(&plan, &plan.series[0], (Some(&renderer), None), &outside)
}

#[test]
fn frames_are_made_of_just_the_settings_that_change_a_picture() {
    let mut seen = BTreeSet::new();
    let plain = KEYS.iter().map(|(name, key)| ((*name).to_owned(), key.clone()));
    let named = [Key::Var("a".into()), Key::Env("A".into()), Key::Native("a".into())];
    for (name, key) in plain.chain(named.map(|key| (key.to_string(), key))) {
        let (first, second) = pair(&key);
        let differences = made(&name, second).differences(&made(&name, first).parts);
        let changes = key.row().changes == Changes::Picture;
        assert_eq!(!differences.is_empty(), changes, "{name}: {differences:?}");
        seen.insert(key.row().name);
    }
    assert_eq!(seen.len(), KEYS.len() + tables().len(), "every row of the table was tried");
}

#[test]
fn stars_in_a_jobs_name_cost_no_exponential_time() {
    let (stars, name) = ("*a".repeat(40) + "b", "a".repeat(4000));
    assert!(!matches(&stars, &name) && matches(&stars, &(name.clone() + "b")));
    for (pattern, name, fits) in
        [("crossing/*", "crossing/quay/fog", true), ("c?t", "c\u{e4}t", true), ("[a]", "a", false)]
    {
        assert_eq!(matches(pattern, name), fits, "{pattern}");
    }
}
