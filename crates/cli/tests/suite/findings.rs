//! What checks say: places, numbers, and nothing that is not so.

use crate::support::{Project, SMALL};

#[test]
fn three_mistakes_give_three_findings_at_their_places() {
    let sheet =
        SMALL.replace(".{frame:4}", "").replace("\"quay\"", "\"quai\"").replace("fps = 24", "fps = 24\nsampels = 3");
    let project = Project::with(&sheet);
    let found = project.say("check --json").ended(1).json();
    let place = |at: &serde_json::Value| {
        (at["line"].as_u64().unwrap(), at["column"].as_u64().unwrap(), at["end_column"].as_u64().unwrap())
    };
    let rows: Vec<_> = found["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| (f["check"].as_str().unwrap().to_owned(), place(&f["at"])))
        .collect();
    let expected =
        [("unknown-key", (14, 1, 8)), ("frame-token-missing", (17, 9, 43)), ("camera-not-in-scene", (22, 11, 15))];
    assert_eq!(rows, expected.map(|(check, at)| (check.to_owned(), at)));
    assert_eq!([&found["errors"], &found["warnings"]], [3, 0]);
    assert_eq!(found["findings"][2]["fix"]["write"], "quay");
    assert_eq!(found["findings"][0]["at"]["file"], project.path("truepath.toml").to_str().unwrap());
    project.say("run").ended(1);
}

#[test]
fn one_frame_of_two_billion_on_one_name_is_found() {
    let sheet = SMALL.replace("\"1-24\"", "\"1-1000000000\"").replace("{job}/{job}_{pass}", "night").replace(
        "[run]",
        "\n[[job]]\nname = \"far\"\nscene = \"scenes/crossing.gltf\"\nframes = \"1000000000-2000000000\"\n\n[run]",
    );
    let project = Project::with(&sheet);
    let found = project.say("check --offline --json").ended(1).json();
    let meets: Vec<&str> = found["findings"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|f| f["check"] == "names-meet")
        .map(|f| f["message"].as_str().unwrap())
        .collect();
    assert_eq!(meets, ["crossing/beauty and far/beauty both write renders/night.1000000000.png"]);
    project.write("truepath.toml", sheet.replace("1000000000-2", "1000000001-2"));
    let found = project.say("check --offline --json").json();
    assert!(found["findings"].as_array().unwrap().iter().all(|f| f["check"] != "names-meet"), "{found}");
}

#[test]
fn one_cause_in_many_jobs_is_one_finding() {
    let jobs: String =
        (0..40).map(|n| format!("[[job]]\nname = \"j{n}\"\nscene = \"scenes/crossing.gltf\"\n")).collect();
    let sheet = SMALL.replace("{job}_{pass}", "{job}_{shto}").replace("[run]", &format!("{jobs}\n[run]"));
    let text = Project::with(&sheet).say("check").ended(1).out;
    assert_eq!(text.matches("token-unknown]").count(), 1, "{text}");
}

#[test]
fn what_cannot_be_read_ends_with_two() {
    let project = Project::with(SMALL);
    project.write("truepath.toml", "sheet = \n[job");
    let found = project.say("check --json").ended(2).json();
    assert!(found["findings"].as_array().unwrap().iter().all(|f| f["check"] == "not-toml"), "{found}");
    for command in ["names", "run", "build", "verify"] {
        project.say(command).ended(2);
    }
    project.write("truepath.toml", b"sheet = 1 # \xff");
    assert!(project.say("check").ended(2).err.contains("not UTF-8"));
    std::fs::remove_file(project.path("truepath.toml")).unwrap();
    assert!(project.say("names").ended(2).err.contains("truepath new"));
    project.say("explain no-such-check").ended(2);
    project.say("frobnicate").ended(2);
}

#[test]
fn a_starter_names_the_scene_it_finds_and_is_sound() {
    let project = Project::with(SMALL);
    project.say("new").ended(2);
    std::fs::remove_file(project.path("truepath.toml")).unwrap();
    project.say("new").ended(0);
    let text = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    assert!(text.contains("scene = \"scenes/arrival.gltf\"") && text.contains("camera = \"pier\""), "{text}");
    assert_eq!(project.say("check --strict").ended(0).out, "\u{2713} truepath.toml: no problems found\n");
    project.call(&["run", "--frames", "1", "--set", "size=\"64x36\"", "--final"]).ended(0);
    project.say("new empty").ended(0);
    assert!(project.path("empty/renders").is_dir());
    project.say("check -f empty/truepath.toml").ended(1);
}

#[test]
fn the_command_line_is_a_layer_like_any_other() {
    let project = Project::with(SMALL);
    let names = |words: &str| project.say(&format!("names --json {words}")).json()["series"][0].clone();
    assert_eq!(names("--scale 50")["width"], 16);
    assert_eq!(names("--set size=64x36")["height"], 36);
    assert_eq!(names("--set camera=mast")["camera"], "mast");
    assert_eq!(names("--frames all/8 crossing")["frames"], "1-17/8");
    assert_eq!(
        names("--set frames=5 --set shift=100")["first"],
        project.path("renders/crossing/crossing_beauty.0105.png").to_str().unwrap()
    );
    assert!(project.say("names --set colour=green").err.contains("--set colour:1:11"));
    assert!(project.say("names corssing").ended(2).err.contains("write crossing"));
}

#[test]
fn frames_made_of_something_else_are_named_until_they_are_made_again() {
    let project = Project::with(
        &SMALL.replace("\"1-24\"", "\"1-6\"").replace("camera = \"quay\"", "camera = \"quay\"\nsamples = 1"),
    );
    project.say("run").ended(0);
    project.say("check --strict").ended(0);
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    // A setting that changes no picture.
    project.write("truepath.toml", sheet.replace("samples = 1", "samples = 1\nthreads = 1"));
    project.say("check --strict").ended(0);
    project.write("truepath.toml", sheet.replace("samples = 1", "samples = 4"));
    let said = project.say("check --strict").ended(1);
    assert!(
        said.out
            .contains("frames 1-6 of crossing/beauty were rendered from a different scene or with different settings"),
        "{}",
        said.out
    );
    project.say("check --strict --offline").ended(0);
    project.say("run --existing replace").ended(0);
    project.say("check --strict").ended(0);
    let mut scene = std::fs::read(project.path("scenes/crossing.gltf")).unwrap();
    scene.push(b'\n');
    project.write("scenes/crossing.gltf", scene);
    assert!(project.say("check").ended(0).out.contains("frames-stale"));
}
