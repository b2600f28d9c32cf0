//! The page of every check: its failing sheet fails with exactly the message shown, its clean twin passes.
//! `TRUEPATH_BLESS=1` writes the messages anew.
#![allow(clippy::unwrap_used)]

mod support;

use std::path::Path;

use support::Project;
use truepath_core::diagnostic::CHECKS;

/// The text between a fence that begins with `head` and its end, and what stands behind the head.
fn block<'p>(page: &'p str, head: &str) -> (&'p str, &'p str) {
    let start = page.find(&format!("```{head}")).unwrap_or_else(|| panic!("no {head} in {page}"));
    let rest = &page[start + 3 + head.len()..];
    let (info, body) = rest.split_once('\n').unwrap();
    (info.trim(), &body[..body.find("```").unwrap()])
}

#[test]
fn every_page_fails_and_passes_as_it_says() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/checks");
    let written = std::fs::read_dir(&folder).unwrap().count();
    assert_eq!(written, CHECKS.len(), "a page for every check, and a check for every page");
    let mut wrong = Vec::new();
    for check in CHECKS {
        let path = folder.join(format!("{}.md", check.slug));
        let page = std::fs::read_to_string(&path).unwrap();
        let (args, fails) = block(&page, "toml fails");
        let (_, says) = block(&page, "text");
        let (clean_args, passes) = block(&page, "toml passes");
        let project = Project::with(fails);
        project.write("studio.toml", "[defaults]\nsamples = 4\n");
        project.write("scenes/damaged.gltf", "{ not a scene");
        project.write("scenes/harbour.usda", "#usda 1.0\ndef Camera \"quay\" {}\n");
        project.write("scenes/alone/crossing.gltf", std::fs::read(project.path("scenes/crossing.gltf")).unwrap());
        let said = project.say(&format!("check {args}"));
        let slugs: Vec<String> = project.say(&format!("check --json {args}")).json()["findings"]
            .as_array()
            .unwrap()
            .iter()
            .map(|f| f["check"].as_str().unwrap().to_owned())
            .collect();
        assert!(slugs.contains(&check.slug.to_owned()), "{}: found {slugs:?}\n{}", check.slug, said.out);
        let out = said.out.replace(&format!("{}/", project.path("").display()).replace("//", "/"), "");
        if std::env::var_os("TRUEPATH_BLESS").is_some() {
            std::fs::write(&path, page.replace(&format!("```text\n{says}```"), &format!("```text\n{out}```"))).unwrap();
        } else if out != says {
            wrong.push(format!("{}:\n{out}", check.slug));
        }
        project.write("truepath.toml", passes);
        let clean = project.say(&format!("check --strict {clean_args}")).ended(0);
        assert_eq!(clean.out, "truepath.toml: nothing to complain about\n", "{}", check.slug);
        assert_eq!(project.call(&["explain", check.slug]).ended(0).out, check.page);
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
