//! Members of a shared run that do not mean the same: other parts of a sheet, other calls, other settings, other versions, and a
//! sheet that is edited under way.

use std::collections::BTreeMap;
use std::process::{Child, Stdio};

use crate::support::{Project, SMALL, Said, UNDERSTUDY, planned, rendered, until};

/// Members end only by what they say of themselves, however busy this machine is.
fn sheet() -> String {
    SMALL.replace("[run]", "[run]\ntakeover = \"3000s\"").replace("chunk = 6", "chunk = 4")
}

/// A member, with what it says in a file.
fn member(project: &Project, name: &str, words: &str) -> Child {
    let said = std::fs::File::create(project.path(name)).unwrap();
    let mut command = project.command();
    command.args(["run", "--share"]).args(words.split_whitespace());
    command.stdout(Stdio::null()).stderr(said).spawn().unwrap()
}

fn said(project: &Project, name: &str) -> String {
    std::fs::read_to_string(project.path(name)).unwrap_or_default()
}

/// How often each file landed, over all journals.
fn landings(project: &Project) -> BTreeMap<(String, i64), usize> {
    let mut times = BTreeMap::new();
    for name in project.files(".truepath/truepath/journal") {
        let text = std::fs::read_to_string(project.path(".truepath/truepath/journal").join(name)).unwrap();
        for line in text.lines().filter(|line| line.starts_with("{\"event\":\"landed\"")) {
            let line: serde_json::Value = serde_json::from_str(line).unwrap();
            let file = (line["series"].as_str().unwrap().to_owned(), line["frame"].as_i64().unwrap());
            *times.entry(file).or_default() += 1;
        }
    }
    times
}

/// A sheet whose renderer waits until a file `go` is there, and whose jobs are two.
fn gated(sheet: &str) -> Project {
    let twin = "\n[[job]]\nname = \"twin\"\nscene = \"scenes/crossing.gltf\"\ncamera = \"mast\"\nframes = \"1-24\"\n";
    let project = Project::with(&format!("{}{twin}", sheet.replace("\"understudy\"", "\"gated\"")));
    let program = env!("CARGO_BIN_EXE_truepath");
    project.script("gated", &format!("case $* in *--frames*) echo $$ >> began; while [ ! -e go ]; do sleep 0.02; done ;; esac\nexec '{program}' \"$@\"\n"));
    let adapter = UNDERSTUDY
        .replace("name = \"understudy\"", "name = \"gated\"")
        .replace("program = \"truepath\"", "program = \"bin/gated\"");
    project.write("adapters/gated.toml", adapter);
    project
}

fn began(project: &Project) -> usize {
    said(project, "began").lines().count()
}

#[test]
fn members_with_four_selections_render_every_frame_once() {
    let project = gated(&sheet());
    let frames = if std::env::var("TRUEPATH_TORTURE").is_ok_and(|how| how == "full") { 500 } else { 24 };
    let text = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    project.write("truepath.toml", text.replace("\"1-24\"", &format!("\"1-{frames}\"")));
    let ways = ["", "--chunk 3", "crossing --frames 5-20 --chunk 5", "twin --chunk 7"];
    let mut members = Vec::new();
    for (at, words) in ways.iter().enumerate() {
        members.push(member(&project, &format!("member{at}"), words));
        until("a call of it, or what the others have", || {
            began(&project) > at || said(&project, &format!("member{at}")).contains("another plan")
        });
    }
    project.write("go", "");
    for (at, member) in members.iter_mut().enumerate() {
        assert_eq!(member.wait().unwrap().code(), Some(0), "{}", said(&project, &format!("member{at}")));
    }
    assert_eq!(rendered(&project), planned(&project));
    let times = landings(&project);
    assert!(times.len() == 2 * frames && times.values().all(|count| *count == 1), "{times:?}");
    project.say("verify --deep").ended(0);
    let words = said(&project, "member1");
    assert!(
        words.contains(
            "shares this sheet with another plan (calls of 4 frames instead of 3): frames are shared one by one"
        ),
        "{words}"
    );
    let words = said(&project, "member3");
    assert!(words.contains("calls of 4 frames instead of 7; also crossing/beauty"), "{words}");
}

#[test]
fn members_that_would_mix_settings_or_versions_are_refused_with_the_difference() {
    let project = gated(&sheet());
    let mut first = member(&project, "first", "");
    until("a call", || began(&project) > 0);
    let refused = project.say("run --share --final --set samples=2").ended_in(&[1, 2, 4]);
    let words = "renders frames 1-24 of crossing/beauty with other settings: samples not given there, 2 here";
    assert!(refused.err.contains(words), "{}", refused.err);
    assert!(refused.err.contains("process ") && refused.err.contains("on this machine"), "{}", refused.err);
    // Another scene, in the same words of the sheet.
    let scene = std::fs::read(project.path("scenes/crossing.gltf")).unwrap();
    project.write("scenes/crossing.gltf", [&scene[..], b" "].concat());
    let refused = project.say("run --share").ended_in(&[1, 2, 4]);
    assert!(refused.err.contains("scene bytes"), "{}", refused.err);
    project.write("scenes/crossing.gltf", scene);
    // Another version is told, and refused where the sheet says so.
    let adapter = std::fs::read_to_string(project.path("adapters/gated.toml")).unwrap();
    let program = project.path("bin/gated");
    let body = std::fs::read_to_string(&program).unwrap();
    project.write(
        "bin/gated",
        body.replace("case $* in", "case $* in *--version*) echo truepath 9.9; exit ;; esac\ncase $* in"),
    );
    assert!(adapter.contains("version"), "{adapter}");
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    project.write("truepath.toml", sheet.replace("[checks]", "[policy]\none_version = true\n\n[checks]"));
    let refused = project.say("run --share").ended_in(&[1, 2, 4]);
    assert!(
        refused.err.contains(
            "renders with gated truepath 0.1.0, and this machine has truepath 9.9; [policy] one_version = true"
        ),
        "{}",
        refused.err
    );
    project.write("truepath.toml", &sheet);
    let mut second = member(&project, "second", "");
    until("the note", || said(&project, "second").contains("note: process "));
    project.write("go", "");
    // What one rendered is stale for the other, whose program is another.
    assert_eq!((first.wait().unwrap().code(), second.wait().unwrap().code()), (Some(1), Some(1)));
    assert!(said(&project, "second").contains("renderer version truepath 9.9, was truepath 0.1.0"));
    assert!(landings(&project).values().all(|count| *count == 1));
}

#[test]
fn a_sheet_that_is_edited_under_way_is_told_and_what_began_goes_on() {
    let project = gated(&sheet());
    let mut first = member(&project, "first", "");
    until("a call", || began(&project) > 0);
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    let edited = sheet
        .replace("chunk = 4", "chunk = 5")
        .replace("frames = \"1-24\"\n\n[checks]", "frames = \"1-26\"\n\n[checks]");
    assert_ne!(edited, sheet);
    project.write("truepath.toml", edited);
    // A member with the new sheet has calls of its own, and shares.
    let mut second = member(&project, "second", "");
    until("the other plan", || said(&project, "second").contains("another plan"));
    project.write("go", "");
    assert!(first.wait().unwrap().success() && second.wait().unwrap().success());
    let words = said(&project, "first");
    assert!(words.contains("edited") && words.contains("truepath.toml: calls of 5 frames instead of 4"), "{words}");
    assert!(
        words.contains("frames 1-26 of crossing/beauty instead of 1-24")
            && words.contains("this run goes on with what it read"),
        "{words}"
    );
    let times = landings(&project);
    assert!(times.len() == 50 && times.values().all(|count| *count == 1), "{times:?}");
    // Calls that were handed out before keep their names, whatever the sheet says of chunks now.
    let document = project.say("build --guarded --to json").ended(0).json();
    let words: Vec<String> = document["calls"][0]["arguments"]
        .as_array()
        .unwrap()
        .iter()
        .map(|word| word.as_str().unwrap().to_owned())
        .collect();
    project.write(
        "truepath.toml",
        std::fs::read_to_string(project.path("truepath.toml")).unwrap().replace("chunk = 5", "chunk = 9"),
    );
    project.call(&words.iter().map(String::as_str).collect::<Vec<_>>()).ended(0);
}

#[test]
fn two_machines_try_a_folder_and_leave_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let project = Project::with(SMALL);
    let start = |words: &[&str]| {
        let mut command = project.command();
        command.arg("share-test").arg(folder.path()).args(words);
        command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    };
    let (one, other) = (start(&[]), start(&["--json"]));
    let said = Said::from(one.wait_with_output().unwrap()).ended(0);
    assert!(said.out.contains("200 names that both asked for: none was given to both"), "{}", said.out);
    let json = Said::from(other.wait_with_output().unwrap()).ended(0).json();
    assert!(json["will_do"] == true && json["names"]["twice"] == 0 && json["takeover"].is_number(), "{json}");
    let alone = Said::from(start(&["--wait", "0s"]).wait_with_output().unwrap()).ended(4);
    assert!(alone.err.contains("no other machine was seen"), "{}", alone.err);
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    // A link in the place of its folder is not followed.
    std::os::unix::fs::symlink(project.path(""), folder.path().join(".truepath-share-test")).unwrap();
    let said = Said::from(start(&["--wait", "0s"]).wait_with_output().unwrap()).ended(4);
    assert!(said.err.contains("is a link"), "{}", said.err);
}
