//! Exports of scenes: made once, whole, never replaced while somebody reads them, by members, scripts and queues alike.

use std::collections::BTreeMap;
use std::process::{Child, Command, Stdio};

use crate::support::{Project, SMALL, Said, exporting, rendered, until};

/// An exporter that writes one half, waits until the file `go` is there, and then writes the rest. It counts its starts.
const SLOW: &str = "echo one >> exported\nsize=$(wc -c < \"$1\")\nhead -c $((size / 2)) \"$1\" > \"$2\"\n\
                    while [ ! -e go ]; do sleep 0.02; done\ntail -c +$((size / 2 + 1)) \"$1\" >> \"$2\"\n";

/// A sheet whose members notice the dead at once where they can, and write down how the plan ended.
fn sheet() -> String {
    let after = "[run]\nafter = [[\"sh\", \"-c\", \"echo $0 >> outcomes\", \"{outcome}\"]]\ntakeover = \"3000s\"";
    SMALL.replace("[run]", after).replace("chunk = 6", "chunk = 2")
}

fn exports(project: &Project) -> usize {
    std::fs::read_to_string(project.path("exported")).unwrap_or_default().lines().count()
}

/// What the pictures of 24 frames are when one process renders them.
fn alone() -> BTreeMap<String, Vec<u8>> {
    let project = exporting(SMALL, "1-24", "cp \"$1\" \"$2\"\n");
    project.say("run").ended(0);
    pictures(&project)
}

fn pictures(project: &Project) -> BTreeMap<String, Vec<u8>> {
    rendered(project)
        .into_iter()
        .map(|name| (name.clone(), std::fs::read(project.path("renders").join(name)).unwrap()))
        .collect()
}

/// A member, with what it says in a file.
fn member(project: &Project, at: usize) -> Child {
    let said = std::fs::File::create(project.path(&format!("member{at}"))).unwrap();
    let mut command = project.command();
    command.args(["run", "--share"]).stdout(Stdio::null()).stderr(said).spawn().unwrap()
}

fn has_said(project: &Project, at: usize, words: &str) -> bool {
    std::fs::read_to_string(project.path(&format!("member{at}"))).unwrap_or_default().contains(words)
}

#[test]
fn members_wait_for_one_export_and_all_read_it_whole() {
    let alone = alone();
    let many = std::env::var("TRUEPATH_TORTURE").is_ok_and(|how| how == "full");
    for count in if many { vec![2, 8, 64] } else { vec![2, 8] } {
        let project = exporting(&sheet(), "1-24", SLOW);
        let mut members = vec![member(&project, 0)];
        until("the export", || exports(&project) == 1);
        members.extend((1..count).map(|at| member(&project, at)));
        for at in 1..count {
            until("waiting", || has_said(&project, at, "waiting for export-tower-1, which another member makes"));
        }
        project.write("go", "");
        for (at, member) in members.iter_mut().enumerate() {
            let code = member.wait().unwrap().code();
            assert_eq!(code, Some(0), "{}", std::fs::read_to_string(project.path(&format!("member{at}"))).unwrap());
            assert!(!has_said(&project, at, "gave up"));
        }
        assert_eq!(exports(&project), 1);
        assert!(pictures(&project) == alone, "{count} members");
        project.say("verify --deep").ended(0);
        assert_eq!(std::fs::read_to_string(project.path("outcomes")).unwrap(), "complete\n");
        assert!(!project.files(".truepath/truepath/exports").iter().any(|name| name.contains(".part")));
    }
}

#[test]
fn members_that_start_together_share_the_product_of_a_fast_exporter_between_two_jobs_though_one_is_killed() {
    let twin = "\n[[job]]\nname = \"twin\"\nscene = \"scenes/tower.scn\"\ncamera = \"cliff\"\nframes = \"1-12\"\nexport = \"export\"\n";
    let sheet = format!("{}{twin}", sheet());
    let exporter = "echo one >> exported\ncp \"$1\" \"$2\"\n";
    let alone = {
        let project = exporting(&sheet, "1-24", exporter);
        project.say("run").ended(0);
        pictures(&project)
    };
    let many = std::env::var("TRUEPATH_TORTURE").is_ok_and(|how| how == "full");
    for (count, is_killed) in
        [(2, false), (8, false), (8, true), (64, true)].into_iter().filter(|(n, _)| many || *n < 64)
    {
        let project = exporting(&sheet, "1-24", exporter);
        let mut members: Vec<Child> = (0..count).map(|at| member(&project, at)).collect();
        if is_killed {
            until("a frame", || !rendered(&project).is_empty());
            members[0].kill().unwrap();
        }
        for (at, member) in members.iter_mut().enumerate() {
            let code = member.wait().unwrap().code();
            let said = || std::fs::read_to_string(project.path(&format!("member{at}"))).unwrap();
            assert!(code == Some(0) || (is_killed && at == 0), "{code:?}: {}", said());
            assert!(!has_said(&project, at, "gave up"), "{}", said());
        }
        assert_eq!(exports(&project), 1, "{count} members");
        assert!(pictures(&project) == alone, "{count} members");
        project.say("verify --deep").ended(0);
        assert_eq!(std::fs::read_to_string(project.path("outcomes")).unwrap(), "complete\n", "{count} members");
    }
}

#[test]
fn the_export_of_a_killed_member_is_made_again_and_never_read() {
    let project = exporting(&sheet(), "1-4", SLOW);
    let mut killed = member(&project, 0);
    until("the export", || exports(&project) == 1);
    let mut other = member(&project, 1);
    until("waiting", || has_said(&project, 1, "waiting for export-tower-1"));
    killed.kill().unwrap();
    killed.wait().unwrap();
    until("the second export", || exports(&project) == 2);
    project.write("go", "");
    assert!(other.wait().unwrap().success());
    project.say("verify --deep").ended(0);
    // What it left half done goes with the next run.
    project.say("run").ended(0);
    let left = project.files(".truepath/truepath/exports");
    assert_eq!(left.len(), 2, "the product and what is known of it: {left:?}");
}

#[test]
fn jobs_that_ask_for_the_same_share_one_product_and_it_outlives_edits_of_the_scene() {
    let twin = "\n[[job]]\nname = \"twin\"\nscene = \"scenes/tower.scn\"\ncamera = \"cliff\"\nframes = \"5\"\nexport = \"export\"\n";
    let project = exporting(&format!("{}{twin}", sheet()), "1-4", SLOW);
    project.write("go", "");
    project.say("run").ended(0);
    assert_eq!((exports(&project), rendered(&project).len()), (1, 5));
    let product = || {
        project
            .files(".truepath/truepath/exports")
            .into_iter()
            .filter(|name| name.ends_with("tower.glb"))
            .collect::<Vec<_>>()
    };
    let first = product();
    let before = std::fs::read(project.path(".truepath/truepath/exports").join(&first[0])).unwrap();
    // Another scene is another product beside it: who reads the first one goes on reading it.
    let mut scene = std::fs::read(project.path("scenes/tower.scn")).unwrap();
    scene.extend(b"    ");
    project.write("scenes/tower.scn", &scene);
    let said = project.say("run --existing replace");
    assert!(
        said.code == 3 && said.err.contains("bytes, and its head says"),
        "a product that is too long: {}",
        said.err
    );
    let length = u32::try_from(scene.len()).unwrap().to_le_bytes();
    scene[8..12].copy_from_slice(&length);
    project.write("scenes/tower.scn", &scene);
    project.say("run --existing replace").ended(0);
    assert_eq!(product().len(), 2);
    assert_eq!(std::fs::read(project.path(".truepath/truepath/exports").join(&first[0])).unwrap(), before);
}

#[test]
fn a_scene_that_changes_under_way_and_a_product_that_is_cut_are_not_used() {
    let project = exporting(&sheet(), "1-4", "cp \"$1\" \"$2\"\n[ -e go ] || echo >> \"$1\"\n");
    let said = project.say("run").ended(3);
    assert!(said.err.contains("its scene, or what belongs to it, changed while it was exported"), "{}", said.err);
    assert_eq!(rendered(&project).len(), 0);
    for body in ["head -c 900 \"$1\" > \"$2\"\n", ": > \"$2\"\n", "cp \"$1\" \"$2\"\nexit 1\n", "exit 0\n"] {
        let project = exporting(&sheet(), "1-4", body);
        let said = project.say("run").ended(3);
        assert!(said.err.contains("the export of crossing did not write"), "{body}: {}", said.err);
        assert_eq!((rendered(&project).len(), project.files(".truepath/truepath/exports").len()), (0, 0), "{body}");
    }
}

#[test]
fn an_export_that_was_lost_is_made_again_and_makes_nothing_stale() {
    let project = exporting(&sheet(), "1-4", "echo one >> exported\ncp \"$1\" \"$2\"\n");
    project.say("run --frames 1-2").ended(0);
    let product =
        project.files(".truepath/truepath/exports").into_iter().find(|name| name.ends_with("tower.glb")).unwrap();
    let product = project.path(".truepath/truepath/exports").join(product);
    // One that lost bytes is not read.
    let bytes = std::fs::read(&product).unwrap();
    std::fs::write(&product, &bytes[..bytes.len() - 1]).unwrap();
    project.say("run --frames 3").ended(0);
    assert_eq!((exports(&project), std::fs::read(&product).unwrap() == bytes), (2, true));
    project.say("check").ended(0);
    // Whatever stands where it is looked for is not read, and makes way.
    let about = product.with_file_name(".truepath-product.json");
    for (at, hazard) in ["pipe", "link", "endless", "folder", "noise", "huge"].into_iter().enumerate() {
        for path in [&product, &about] {
            std::fs::remove_file(path).unwrap();
            match hazard {
                "pipe" => assert!(Command::new("mkfifo").arg(path).status().unwrap().success()),
                "link" => std::os::unix::fs::symlink("/nowhere/at/all", path).unwrap(),
                "endless" => std::os::unix::fs::symlink("/dev/zero", path).unwrap(),
                "folder" => std::fs::create_dir(path).unwrap(),
                "noise" => std::fs::write(path, b"\xff{[").unwrap(),
                _ => std::fs::File::create(path).unwrap().set_len(1 << 30).unwrap(),
            }
            project.say("run --existing replace --frames 3").ended(0);
            assert!(std::fs::read(&product).unwrap() == bytes, "{hazard}");
        }
        assert_eq!(exports(&project), 4 + 2 * at, "{hazard}");
    }
    // Exporters write times into their files: no two exports are equal.
    let mut other = bytes;
    *other.last_mut().unwrap() ^= 1;
    project.write("other.glb", other);
    project.write("bin/export", "#!/bin/sh\ncp other.glb \"$2\"\n");
    std::fs::remove_dir_all(project.path(".truepath/truepath/exports")).unwrap();
    project.say("run --frames 4").ended(0);
    let row = project.say("verify --json").ended(0).json()["series"][0].clone();
    assert_eq!((&row["stale"], &row["good"]), (&"".into(), &"1-4".into()), "{row}");
    let said = project.say("check").ended(0).out;
    let words =
        "crossing was rendered from 2 exports of its scene: frame 4 of crossing/beauty from another one than the rest";
    assert!(said.contains("warning[exports-differ]") && said.contains(words), "{said}");
}

#[test]
fn documents_list_exports_and_what_needs_them_and_any_call_makes_its_own() {
    let project = exporting(&sheet(), "1-4", "echo one >> exported\ncp \"$1\" \"$2\"\n");
    let calls = project.say("build --to json --guarded").ended(0).json()["calls"].as_array().unwrap().clone();
    assert_eq!((&calls[0]["kind"], &calls[0]["id"], calls.len()), (&"export".into(), &"export-tower-1".into(), 4));
    assert_eq!(calls[1]["needs"], serde_json::json!(["export-tower-1"]));
    let words = |call: &serde_json::Value| {
        let words: Vec<String> =
            call["arguments"].as_array().unwrap().iter().map(|word| word.as_str().unwrap().to_owned()).collect();
        Said::from(project.command().args(words).output().unwrap())
    };
    // A queue that minds no order.
    words(&calls[2]).ended(0);
    words(&calls[0]).ended(0);
    words(&calls[1]).ended(0);
    assert!(!project.path("outcomes").exists());
    assert_eq!((&calls[3]["kind"], calls[3]["needs"].as_array().unwrap().len()), (&"end".into(), 3));
    for _ in 0..2 {
        words(&calls[3]).ended(0);
        assert_eq!(std::fs::read_to_string(project.path("outcomes")).unwrap(), "complete\n");
    }
    assert_eq!((exports(&project), rendered(&project).len()), (1, 4));
    project.say("run --only export-nothing").ended(2);
    let alone = alone();
    // By a script, guarded and plain; two at once touch each other's nothing.
    for guarded in ["", "--guarded"] {
        let project = exporting(&sheet(), "1-4", SLOW);
        project.say(&format!("build -o r.sh {guarded}")).ended(0);
        let script = |at: usize| {
            let said = std::fs::File::create(project.path(&format!("member{at}"))).unwrap();
            Command::new("sh").arg(project.path("r.sh")).stdout(Stdio::null()).stderr(said).spawn().unwrap()
        };
        let mut both = [script(0), script(1)];
        // Each start of a script has products of its own; calls of True Path share them.
        until("the exports", || exports(&project) == if guarded.is_empty() { 2 } else { 1 });
        project.write("go", "");
        for (at, one) in both.iter_mut().enumerate() {
            let said = |at: usize| std::fs::read_to_string(project.path(&format!("member{at}"))).unwrap();
            assert!(one.wait().unwrap().success(), "{guarded}: {}", said(at));
        }
        assert!(pictures(&project).iter().all(|(name, bytes)| alone[name] == *bytes), "{guarded}");
        assert_eq!(rendered(&project).len(), 4);
        if guarded.is_empty() {
            assert_eq!(project.files(".truepath/truepath/exports").len(), 0, "a script leaves no product");
        }
    }
}

#[test]
fn cmd_and_powershell_export_into_folders_of_their_own() {
    let project = exporting(&sheet(), "1-4", SLOW);
    let cmd = project.say("build --to cmd").ended(0).out;
    assert!(
        cmd.contains("set \"products=%products%/%start%\"") && cmd.contains("rmdir /s /q \"%products:/=\\%\""),
        "{cmd}"
    );
    let powershell = project.say("build --to powershell").ended(0).out;
    assert!(powershell.contains("$products = $products + '/' + $start"), "{powershell}");
}
