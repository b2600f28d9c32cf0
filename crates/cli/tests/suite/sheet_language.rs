//! The sheet's language as the built program speaks it: layers, modes, tokens, pins, facts, and whose file is whose.

use crate::support::{Project, SMALL};

/// The example of the guide, with the studio's own sheet that it names.
fn example() -> Project {
    let project = Project::with(include_str!("../../../../docs/examples/night-ferry.toml"));
    project.write("studio.toml", include_str!("../../../../docs/examples/studio.toml"));
    project
}

fn series(project: &Project, words: &str) -> Vec<serde_json::Value> {
    project.say(&format!("names --json {words}")).json()["series"].as_array().unwrap().clone()
}

#[test]
fn the_example_gives_four_jobs_eight_sequences_and_four_movies_and_no_finding() {
    let project = example();
    let said = project.say("check --offline --strict --all-modes").ended(0).out;
    assert!(said.starts_with("\u{2713} truepath.toml: no problems found\n") && !said.contains("error"), "{said}");
    let all = series(&project, "");
    let distinct =
        |key: &str| all.iter().map(|one| one[key].as_str().unwrap()).collect::<std::collections::BTreeSet<_>>().len();
    let kind = |kind: &str| all.iter().filter(|one| one["kind"] == kind).count();
    assert_eq!((distinct("job"), kind("sequence"), kind("movie"), distinct("pattern")), (4, 8, 4, 12));
    let movie = all.iter().find(|one| one["series"] == "crossing/quay/fog/crossing-review").unwrap();
    assert_eq!([&movie["first"], &movie["type"]], ["/mnt/review/nf010_quay_fog_v003.mp4", "mp4"]);
    let draft = series(&project, "--mode draft crossing/mast/clear");
    assert_eq!([&draft[0]["series"], &draft[0]["frames"]], ["crossing/mast/clear/beauty@draft", "1-89/8"]);
    assert_eq!(draft[0]["width"], 320);
    assert!(draft[2]["pattern"].as_str().unwrap().ends_with("_v003-draft.mp4"));
}

#[test]
fn every_layer_wins_over_the_one_before_it_and_why_names_its_place() {
    let project =
        Project::with(&SMALL.replace("sheet = 1\n", "sheet = 1\nfrom = [\"studio/low.toml\", \"studio/high.toml\"]\n"));
    let mut sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    project.write("studio/low.toml", "[defaults]\nsamples = 1\n");
    let samples = |words: &str| {
        let why = project.say(&format!("names --why {words}")).out;
        why.lines()
            .find(|line| line.trim_start().starts_with("samples"))
            .map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "))
            .unwrap_or_default()
    };
    project.write("studio/high.toml", "");
    assert_eq!(samples(""), "samples 1 defaults studio/low.toml:2");
    project.write("studio/high.toml", "[defaults]\nsamples = 2\n");
    assert_eq!(samples(""), "samples 2 defaults studio/high.toml:2");
    let mut add = |from: &str, to: &str| {
        sheet = sheet.replacen(from, to, 1);
        project.write("truepath.toml", &sheet);
    };
    add("fps = 24\n", "fps = 24\nsamples = 3\n");
    assert_eq!(samples(""), "samples 3 defaults truepath.toml:15");
    add("[[job]]\n", "[bases.low]\nsamples = 4\n\n[bases.high]\nlike = \"low\"\n\n[[job]]\nlike = \"high\"\n");
    assert_eq!(samples(""), "samples 4 base truepath.toml:21 over 3 (defaults truepath.toml:15)");
    add("like = \"low\"\n", "like = \"low\"\nsamples = 5\n");
    assert_eq!(
        samples(""),
        "samples 5 base truepath.toml:25 over 4 (base truepath.toml:21), 3 (defaults truepath.toml:15)"
    );
    add("camera = \"quay\"\n", "camera = \"quay\"\nsamples = 6\n");
    assert!(samples("").starts_with("samples 6 job truepath.toml:32 over 5 (base truepath.toml:25)"));
    add("samples = 6\n", "samples = 6\neach = { samples = [7] }\n");
    assert!(samples("").starts_with("samples 7 each truepath.toml:33 over 6 (job"));
    add("each = { samples = [7] }\n", "");
    add(
        "[checks]",
        "[modes.few]\nsamples = 8\npath = \"{renders}/few.{frame}.png\"\n[modes.more]\nleave = [\"samples\"]\n\n[checks]",
    );
    assert!(samples("--mode few").starts_with("samples 8 mode truepath.toml:36 over 6 (job"));
    assert!(samples("--mode few --set samples=9").starts_with("samples 9 command line --set samples:1 over 8 (mode"));
    assert!(samples("--mode few --mode more").starts_with("samples not set, the scene decides over 8 (mode"));
}

#[test]
fn names_are_compared_in_every_mode() {
    let drafted = SMALL.replace("[checks]", "[modes.draft]\nscale = 50\n\n[checks]");
    let project = Project::with(&drafted);
    let found = project.say("check --json").ended(1).json();
    let message = found["findings"][0]["message"].as_str().unwrap();
    assert!(message.starts_with("crossing/beauty and crossing/beauty@draft both write"), "{message}");
    project.say("run").ended(1);
    project.write("truepath.toml", drafted.replace("scale = 50", "scale = 50\nfinal = true"));
    project.say("check --strict").ended(0);
    assert_eq!(series(&project, "--mode draft")[0]["width"], 16);
    project.write("truepath.toml", drafted.replace("{job}_{pass}.", "{job}_{pass}{-mode}."));
    project.say("check --strict").ended(0);
    project.say("run --mode draft --frames first").ended(0);
    assert!(project.path("renders/crossing/crossing_beauty-draft.0001.png").exists());
    assert!(project.say("check --mode drift").ended(2).err.contains("write --mode draft"));
}

#[test]
fn several_sheets_are_one_queue() {
    let project = Project::with(SMALL);
    project.write("second.toml", SMALL.replace("\"crossing\"", "\"late\"").replace("1-24", "1-3"));
    project.write("third.toml", SMALL);
    let both = project.say("names --json -f truepath.toml -f second.toml").ended(0).json();
    assert_eq!(
        both["series"].as_array().unwrap().iter().map(|one| one["series"].as_str().unwrap()).collect::<Vec<_>>(),
        ["crossing/beauty", "late/beauty"]
    );
    let twice = project.say("check --json -f truepath.toml -f third.toml").ended(1).json();
    assert!(
        twice["findings"][0]["message"].as_str().unwrap().starts_with("crossing/beauty and crossing/beauty both write"),
        "{twice}"
    );
    project.say("run -f truepath.toml -f second.toml").ended(0);
    project.say("verify -f truepath.toml -f second.toml").ended(0);
    assert!(project.path(".truepath/second/journal").is_dir());
}

#[test]
fn versions_and_clocks_are_pinned_until_asked_anew() {
    let sheet = SMALL
        .replace("{job}/{job}_{pass}", "{job}/{version}/{job}_{date:%Y}_{host|slug}")
        .replace("fps = 24", "fps = 24\nversion = \"next\"");
    let project = Project::with(&sheet);
    let version = |words: &str| {
        series(&project, words)[0]["pattern"].as_str().unwrap().split('/').rev().nth(1).unwrap().to_owned()
    };
    assert_eq!(version(""), "v001");
    assert!(project.say("names").out.contains("pins them"));
    project.write("renders/crossing/v007/x.txt", "");
    assert_eq!(version(""), "v008");
    assert!(!project.path(".truepath").exists(), "looking pins nothing");
    project.say("run --frames 1").ended(0);
    assert_eq!(version(""), "v008", "the version just rendered is pinned");
    assert!(!project.say("names").out.contains("pins"));
    project.say("verify --frames 1").ended(0);
    project.say("run --frames 2").ended(0);
    project.say("run --frames 1 --anew").ended(0);
    assert_eq!(version(""), "v009");
    project.write("truepath.toml", sheet.replace("\"next\"", "\"latest\""));
    project.say("run --frames 2 --anew").ended(0);
    assert!(project.files("renders/crossing/v009").len() == 2, "{:?}", project.files("renders"));
    let empty = Project::with(&sheet.replace("\"next\"", "\"latest\""));
    assert!(empty.say("check").ended(1).out.contains("`{version}` has no value"));
}

/// What a call prints at a moment in seconds since 1970.
fn at(project: &Project, second: i64, words: &str) -> crate::support::Said {
    let mut command = project.command();
    command.args(words.split_whitespace()).env("SOURCE_DATE_EPOCH", second.to_string()).env("TZ", "UTC");
    crate::support::Said::from(command.output().unwrap())
}

#[test]
fn each_version_has_the_day_of_its_own_first_run() {
    const DAY: i64 = 86_400;
    let sheet = SMALL
        .replace("{renders}/{job}/", "{renders}/{date}/{version}/")
        .replace("\"1-24\"", "\"1-2\"")
        .replace("fps = 24", "fps = 24\nversion = \"next\"")
        + "\n[modes.draft]\nscale = 50\npath = \"{renders}/draft/{date}/{version}/{job}.{frame:4}.{ext}\"\n";
    let project = Project::with(&sheet);
    let folder = |second: i64, words: &str| {
        let said = at(&project, second, &format!("names --json {words}")).ended(0).json();
        let first = said["series"][0]["first"].as_str().unwrap().to_owned();
        let parts: Vec<&str> = first.rsplit('/').collect();
        format!("{}/{}", parts[2], parts[1])
    };
    at(&project, DAY * 10, "run").ended(0);
    assert_eq!(folder(DAY * 12, ""), "1970-01-11/v001", "the day of the first run, two days later");
    let said = at(&project, DAY * 12, "names").ended(0).out;
    assert!(said.contains("pinned: version 1, first run 1970-01-11 00:00, 2 days ago"), "{said}");
    // A draft is pinned apart, and so is its version.
    assert_eq!(folder(DAY * 12, "--mode draft"), "1970-01-13/v001");
    at(&project, DAY * 12, "run --mode draft").ended(0);
    assert_eq!(folder(DAY * 20, "--mode draft"), "1970-01-13/v001");
    assert_eq!(folder(DAY * 20, ""), "1970-01-11/v001");
    // The next version has a day of its own, and is one above that of the other day's folder.
    at(&project, DAY * 14, "run --anew version").ended(0);
    assert_eq!(folder(DAY * 20, ""), "1970-01-15/v002");
    at(&project, DAY * 20, "verify").ended(0);
    // The day alone: the same version again under today's.
    at(&project, DAY * 16, "build --anew clock -o r.sh").ended(0);
    assert_eq!(folder(DAY * 20, ""), "1970-01-17/v002");
    at(&project, DAY * 18, "run --anew --frames 1").ended(0);
    assert_eq!(folder(DAY * 20, ""), "1970-01-19/v003");
    // Whose the files of earlier versions are, and which may go, is known in whatever day's folder they lie.
    let first = "renders/1970-01-11/v001/crossing_beauty.0001.png";
    let whose = at(&project, DAY * 20, &format!("whose {first}")).ended(0).out;
    assert!(whose.starts_with("\u{2713} crossing, pass beauty, version 1, frame 1  "), "{whose}");
    let away = at(&project, DAY * 20, "clean --keep 1").ended(0).out;
    assert!(away.contains("1970-01-11/v001"), "{away}");
    assert!(!away.contains("v003"), "{away}");
    // The version before still has its own day.
    project.write("truepath.toml", sheet.replace("version = \"next\"", "version = 1"));
    assert_eq!(folder(DAY * 20, ""), "1970-01-11/v001");
    // A job that was not asked for is not pinned by the way.
    let two = sheet.replace(
        "[checks]",
        "[[job]]\nname = \"late\"\nscene = \"scenes/crossing.gltf\"\ncamera = \"quay\"\nframes = \"5-6\"\n\n[checks]",
    );
    project.write("truepath.toml", two.replace("{version}/{job}", "{version}/{job}/{job}"));
    at(&project, DAY * 30, "run crossing").ended(0);
    assert_eq!(folder(DAY * 31, "late"), "v001/late");
    assert!(at(&project, DAY * 31, "names late").out.contains("pins"));
}

#[test]
fn scenes_by_a_pattern_give_a_job_each() {
    let sheet =
        SMALL.replace("name = \"crossing\"\nscene = \"scenes/crossing.gltf\"", "each = { scene = \"scenes/*.gltf\" }");
    let project = Project::with(&sheet.replace("\"1-24\"", "\"1-2\""));
    let scene = std::fs::read(project.path("scenes/crossing.gltf")).unwrap();
    project.write("scenes/arrival.gltf", &scene);
    project.write("scenes/arrival.gltf.facts.toml", "fps = 24\n");
    let names = |words: &str| {
        series(&project, words).iter().map(|one| one["job"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(names(""), ["arrival", "crossing"]);
    project.say("run").ended(0);
    project.say("verify").ended(0);
    assert_eq!(project.say("check --offline").ended(0).out, "\u{2713} truepath.toml: no problems found\n");
    // A name of the job's own, a list with a pattern in it, and a scene that two patterns fit.
    let named = SMALL.replace("name = \"crossing\"\nscene = \"scenes/crossing.gltf\"", "name = \"all\"\neach = { scene = [\"scenes/arr*.gltf\", \"scenes/*.gltf\"], camera = [\"quay\", \"mast\"] }").replace("camera = \"quay\"\n", "").replace("{job}/{job}", "{job}/{scene}/{camera}");
    project.write("truepath.toml", named);
    assert_eq!(names(""), ["all/arrival/quay", "all/arrival/mast", "all/crossing/quay", "all/crossing/mast"]);
    project.write("truepath.toml", sheet.replace("scenes/*.gltf", "scenes/*.nothing"));
    let said = project.say("check").ended(1).out;
    assert!(said.contains("scene-missing") && said.contains("no scene matches `scenes/*.nothing`"), "{said}");
}

#[test]
fn facts_come_from_scenes_and_from_beside_them() {
    let project = Project::with(SMALL);
    project.write("scenes/harbour.usda", "#usda 1.0\n(\n startTimeCode = 101\n endTimeCode = 148\n timeCodesPerSecond = 24\n)\ndef Camera \"crane\" {}\ndef \"x\" (references = @./lost.usda@) {}\n");
    let facts = project.say("scene --json scenes/harbour.usda scenes/crossing.gltf --fps 24").ended(1).json();
    let (usda, gltf) = (&facts["scenes"][0], &facts["scenes"][1]);
    assert_eq!(
        (&usda["frames"], &usda["cameras"][0], &usda["missing"][0]),
        (&"101-148".into(), &"crane".into(), &"./lost.usda".into())
    );
    assert_eq!(
        (&gltf["frames"], &gltf["cameras"][1], &gltf["resources"][0]),
        (&"1-96".into(), &"mast".into(), &"crossing.bin".into())
    );
    project.write("scenes/closed.scn", [7u8; 64]);
    // Only what holds the facts is read: a container's tail may be of any size, and so may a closed scene.
    let lighthouse = project.path("scenes/lighthouse.glb");
    for file in [&lighthouse, &project.path("scenes/closed.scn")] {
        std::fs::File::options().write(true).open(file).unwrap().set_len(1 << 34).unwrap();
    }
    assert!(project.say("scene scenes/lighthouse.glb --fps 24").ended(0).out.contains("1-48"));
    let unknown = project.say("scene scenes/closed.scn").ended(0).out;
    assert!(unknown.contains("no facts file") && unknown.matches("unknown").count() >= 4, "{unknown}");
    project.write(
        "scenes/closed.scn.facts.toml",
        "cameras = [\"deck\"]\nframes = \"5-8\"\nfps = 25\nsize = \"64x36\"\nresources = [\"closed.scn\"]\n",
    );
    assert!(project.say("scene scenes/closed.scn").ended(0).out.contains("5-8"));
    project.write(
        "truepath.toml",
        SMALL
            .replace("crossing.gltf", "closed.scn")
            .replace("frames = \"1-24\"\n", "")
            .replace("fps = 24\nsize = \"32x18\"\n", ""),
    );
    let known = &series(&project, "")[0];
    assert_eq!((&known["frames"], &known["fps"], &known["width"]), (&"5-8".into(), &"25".into(), &64.into()));
    assert!(project.say("check").ended(1).out.contains("no camera `quay`"));
    project.write("scenes/closed.scn.facts.toml", "camras = [\"deck\"]\n");
    assert!(project.say("check").ended(1).out.contains("write `cameras`"));
}

#[test]
fn a_renderer_is_asked_once_for_what_only_it_can_read() {
    use std::os::unix::fs::PermissionsExt;
    let project = Project::with(
        &SMALL
            .replace("crossing.gltf", "closed.scn")
            .replace("\"understudy\"", "\"closed\"")
            .replace("frames = \"1-24\"\n", ""),
    );
    project.write("scenes/closed.scn", "opaque");
    project.write("bin/closed", "#!/bin/sh\necho asked >> asked.txt\necho 'welcome aboard'\necho '{\"cameras\":[\"quay\"],\"frames\":\"3-7\",\"fps\":24,\"resources\":[]}'\n");
    std::fs::set_permissions(project.path("bin/closed"), std::fs::Permissions::from_mode(0o755)).unwrap();
    project.write(
        "adapters/closed.toml",
        "adapter = 1\nname = \"closed\"\nkind = \"renderer\"\nprogram = \"bin/closed\"\narguments = [\"{scene}\", \"{frames}\", \"{out}\", \"{camera}\", \"{width}x{height}\", \"{fps}\", \"{bits}\", \"{channels}\"]\n[facts]\narguments = [\"facts\", \"{scene}\"]\n",
    );
    // It came with the folder: nobody starts it unasked.
    let quiet = project.say("names --json");
    assert!(quiet.err.contains("not trusted yet: closed") && !project.path("asked.txt").exists(), "{}", quiet.err);
    assert!(project.say("trust").ended(0).out.contains("trusted: "));
    assert_eq!(series(&project, "")[0]["frames"], "3-7");
    project.say("check").ended(0);
    assert_eq!(std::fs::read_to_string(project.path("asked.txt")).unwrap(), "asked\n", "the answer is kept");
    project.write("scenes/closed.scn", "opaque, and changed");
    series(&project, "");
    assert_eq!(std::fs::read_to_string(project.path("asked.txt")).unwrap(), "asked\nasked\n");
    project.write("scenes/closed.scn", "another");
    assert_eq!(project.say("check --offline").ended(0).out, "\u{2713} truepath.toml: no problems found\n");
    assert_eq!(std::fs::read_to_string(project.path("asked.txt")).unwrap(), "asked\nasked\n", "offline asks nobody");
    project.write("adapters/closed.toml", "adapter = 1\nname = \"closed\"\nprogramm = \"x\"\n");
    assert!(project.say("check").ended(1).out.contains("adapters/closed.toml:3:1"));
}

#[test]
fn the_machine_file_says_where_things_are_and_nothing_else() {
    let project = Project::with(SMALL);
    let fast = project.path("fast").display().to_string();
    project.write("config/truepath/config.toml", format!("workers = 2\n[roots]\nrenders = \"{fast}\"\n"));
    assert!(series(&project, "")[0]["first"].as_str().unwrap().starts_with(&fast));
    project.say("run --frames 1-2").ended(0);
    assert!(project.path("fast/crossing/crossing_beauty.0002.png").exists());
    project.write("config/truepath/config.toml", "chunk = 3\n");
    let said = project.say("check").ended(1).out;
    assert!(
        said.contains("config/truepath/config.toml:1:1") && said.contains("unknown key `chunk` in the machine file"),
        "{said}"
    );
}

#[test]
fn a_job_that_is_not_enabled_waits_until_it_is_named() {
    let project = Project::with(&SMALL.replace(
        "[checks]",
        "[[job]]\nname = \"later\"\nscene = \"scenes/arrival.gltf\"\nframes = 1\nenabled = false\n\n[checks]",
    ));
    let jobs = |words: &str| {
        series(&project, words).iter().map(|one| one["job"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(jobs(""), ["crossing"]);
    assert_eq!(jobs("later"), ["later"]);
    assert_eq!(jobs("cross* lat?r"), ["crossing", "later"]);
    assert_eq!(jobs("--camera quay --pass beauty"), ["crossing"]);
    project.say("names --camera nobody").ended(2);
}

#[test]
fn whose_knows_every_planned_name_and_says_what_does_not_fit() {
    let project = example();
    for line in project.say("names --all --mode draft").ended(0).out.lines().step_by(5) {
        project.call(&["whose", "--mode", "draft", line]).ended(0);
    }
    let one = |path: &str| project.call(&["whose", "--json", path]).json()["files"][0].clone();
    let found = one("renders/nf010/v003/depth/nf010_mast_fog_depth_v003.0042.exr");
    assert_eq!(
        [&found["series"], &found["camera"], &found["pass"], &found["values"]["weather"]],
        ["crossing/mast/fog/depth", "mast", "depth", "fog"]
    );
    assert_eq!((found["frame"].as_i64(), found["version"].as_i64()), (Some(42), Some(3)));
    let movie = one("R:\\review\\nf010_quay_clear_v003.mp4");
    assert_eq!(
        [&movie["series"], &movie["path"]],
        ["crossing/quay/clear/crossing-review", "/mnt/review/nf010_quay_clear_v003.mp4"]
    );
    for (path, why) in [
        (
            "renders/nf010/v003/depth/nf010_mast_fog_depth_v003.0142.exr",
            "crossing/mast/fog has no frame 142: its frames are 1-96",
        ),
        ("renders/nf010/v003/depth/nf010_mast_fog_depth_v003.042.exr", "written 042"),
        ("renders/nf010/v003/depth/nf010_Mast_fog_depth_v003.0042.exr", "upper and lower case differ"),
        (
            "renders/nf010/v002/depth/nf010_mast_fog_depth_v002.0042.exr",
            "the version differs: v002, the sheet has v003",
        ),
        ("renders/nf010/v003/depht/nf010_mast_fog_depth_v003.0042.exr", "depht does not match; this series has depth"),
        ("/elsewhere/x.exr", "no name in this sheet is similar"),
    ] {
        let said = project.call(&["whose", path]).ended(1);
        assert!(said.out.contains(why), "{path}: {}", said.out);
        assert_eq!(one(path)["job"], serde_json::Value::Null);
    }
}

#[test]
fn frames_sizes_and_rates_are_taken_as_written() {
    let project = Project::with(SMALL);
    let with = |from: &str, to: &str| {
        project.write("truepath.toml", SMALL.replace(from, to));
        series(&project, "")[0].clone()
    };
    assert_eq!(
        with("\"1-24\"", "\"-3-2\"\nshift = -10")["first"],
        project.path("renders/crossing/crossing_beauty.-0013.png").to_str().unwrap()
    );
    assert_eq!(with("\"1-24\"", "\"10-20/5\"\nhandles = [2, 3]")["frames"], "8-10,15,20-23");
    assert_eq!(with("\"32x18\"", "\"33x19\"\nscale = 50")["width"], 17);
    assert_eq!(with("fps = 24", "fps = 29.97")["fps"], "30000/1001");
    assert_eq!(with("frames = \"1-24\"", "frames = \"scene except 1-90\"")["frames"], "91-96");
    assert_eq!(with("\"1-24\"", "\"1-1000000000\"")["count"], 1_000_000_000);
    for (from, to) in [
        ("32x18\"", "32x18\"\nregion = \"10%,0%,95%,50%\""),
        ("fps = 24", "fps = 0"),
        ("\"1-24\"", "\"all/2\""),
        ("24\"", "24\"\nversion = \"newest\""),
    ] {
        project.write("truepath.toml", SMALL.replace(from, to));
        project.say("check").ended(1);
    }
}

#[test]
fn a_renderer_that_hangs_is_ended_and_commands_run_afterwards() {
    let sheet = SMALL
        .replace("[run]", "[run]\nretries = 0\nafter = [[\"sh\", \"-c\", \"echo $0 > outcome.txt\", \"{outcome}\"]]");
    let project = Project::with(&sheet);
    project.say("run --frames 1").ended(0);
    assert_eq!(std::fs::read_to_string(project.path("outcome.txt")).unwrap(), "complete\n");
    project.write("truepath.toml", sheet.replace("[run]", "[run]\nsilence = \"400ms\""));
    // 64 samples of a large picture take far longer than the sheet allows for a sign of life.
    let said = project.say("run --frames 2 --set size=\"9000x9000\" --set samples=64 --final").ended(3);
    assert!(said.err.contains("no output and no new frame for 400ms"), "{}", said.err);
    assert_eq!(std::fs::read_to_string(project.path("outcome.txt")).unwrap(), "incomplete\n");
}

#[test]
fn tokens_and_zero_ended_paths_are_shown() {
    let project = Project::with(SMALL);
    let tokens = project.say("names --tokens").ended(0).out;
    for (name, value) in
        [("camera", "quay"), ("ext", "png"), ("width", "32"), ("scene", "crossing"), ("version", "no value")]
    {
        let row = tokens.lines().find(|line| line.split_whitespace().next() == Some(name)).unwrap();
        assert_eq!(row.split_whitespace().skip(1).collect::<Vec<_>>().join(" "), value);
    }
    let zero = project.say("names --all -0").ended(0).out;
    assert_eq!((zero.matches('\0').count(), zero.matches('\n').count()), (24, 0));
}

#[test]
fn a_new_sheet_has_a_job_for_every_scene_and_says_what_it_left_out() {
    let project = Project::with(SMALL);
    let scene = std::fs::read(project.path("scenes/crossing.gltf")).unwrap();
    for name in ["Night Ferry.gltf", "crossing.gltf", "crossing.glb"] {
        project.write(&format!("plain/scenes/{name}"), &scene);
        project.write(&format!("strict/scenes/{name}"), &scene);
    }
    let bin = std::fs::read(project.path("scenes/crossing.bin")).unwrap();
    for folder in ["plain", "strict"] {
        project.write(&format!("{folder}/scenes/crossing.bin"), &bin);
        project.write(&format!("{folder}/scenes/quay.usda"), "#usda 1.0\n");
        project.write(&format!("{folder}/scenes/torn.gltf"), "{");
    }
    project.write(
        "strict/studio.toml",
        "[roots]\nreview = \"review\"\nout = \"out\"\n[defaults]\nadapter = \"understudy\"\nfps = 24\nsize = \"32x18\"\n\
         [policy]\nwithin = [\"out\"]\ntokens = [\"version\", \"shot\"]\nspelling = \"[a-z0-9._-]+\"\n",
    );
    for (words, folder, first) in
        [("", "plain", "Night Ferry"), (" --from strict/studio.toml", "strict", "night-ferry")]
    {
        let said = project.say(&format!("new {folder}{words}")).ended(0).out;
        for left in ["quay.usda: understudy cannot read .usda", "torn.gltf: "] {
            assert!(said.contains(left), "{said}");
        }
        assert_eq!(said.matches("has the same name").count(), 1, "{said}");
        let said = project.say(&format!("check -f {folder}")).ended(0).out;
        assert!(said.ends_with("no problems found\n"), "{folder}: {said}");
        let names = project.say(&format!("names --json -f {folder}")).ended(0).json();
        let jobs: std::collections::BTreeSet<&str> =
            names["series"].as_array().unwrap().iter().map(|one| one["job"].as_str().unwrap()).collect();
        assert_eq!(jobs, [first, "crossing"].into(), "{folder}");
    }
}
