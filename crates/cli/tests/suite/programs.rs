//! Programs of others, exporters, and the proof of what an adapter claims.

use std::collections::BTreeSet;
use std::os::unix::fs::PermissionsExt;

use crate::support::{Project, SMALL, has};

const EXAMPLES: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/examples/adapters");

fn example(project: &Project, name: &str) {
    project.write(&format!("adapters/{name}.toml"), std::fs::read(format!("{EXAMPLES}/{name}.toml")).unwrap());
}

fn executable(project: &Project, name: &str, text: &str) {
    project.write(name, text);
    std::fs::set_permissions(project.path(name), std::fs::Permissions::from_mode(0o755)).unwrap();
}

fn pictures(project: &Project) -> BTreeSet<String> {
    project.files("renders").into_iter().filter(|name| !name.starts_with(".truepath")).collect()
}

/// A chart of the tide: a line that rises frame by frame.
fn tide(frame: i64) -> String {
    format!(
        "<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 64 36'><rect width='64' height='36' fill='#102030'/>\
         <rect y='{}' width='64' height='36' fill='#3070a0'/></svg>",
        30 - frame
    )
}

/// A PDF of some empty pages, put together by hand (ISO 32000-1, 7.5).
fn chart(pages: usize) -> Vec<u8> {
    let mut objects = vec!["<< /Type /Catalog /Pages 2 0 R >>".to_owned()];
    let kids: Vec<String> = (0..pages).map(|page| format!("{} 0 R", page + 3)).collect();
    objects.push(format!("<< /Type /Pages /Count {pages} /Kids [{}] >>", kids.join(" ")));
    let page =
        |at: usize| format!("<< /Type /Page /Parent 2 0 R /MediaBox [0 0 64 36] /Contents {} 0 R >>", 3 + pages + at);
    objects.extend((0..pages).map(page));
    // On each page the tide stands higher.
    let content = |at: usize| format!("0 0 64 {} re f\n", 2 * at + 1);
    let stream = |text: String| format!("<< /Length {} >>\nstream\n{text}endstream", text.len());
    objects.extend((0..pages).map(content).map(stream));
    let mut pdf = "%PDF-1.4\n".to_owned();
    let mut places = Vec::new();
    for (at, object) in objects.iter().enumerate() {
        places.push(pdf.len());
        pdf.push_str(&format!("{} 0 obj\n{object}\nendobj\n", at + 1));
    }
    let table = pdf.len();
    pdf.push_str(&format!("xref\n0 {}\n0000000000 65535 f \n", objects.len() + 1));
    places.iter().for_each(|place| pdf.push_str(&format!("{place:010} 00000 n \n")));
    pdf.push_str(&format!("trailer\n<< /Size {} /Root 1 0 R >>\nstartxref\n{table}\n%%EOF\n", objects.len() + 1));
    pdf.into_bytes()
}

fn sheet(adapter: &str, scene: &str, frames: &str, more: &str) -> String {
    format!(
        "sheet = 1\n[roots]\nrenders = \"renders\"\n[[job]]\nname = \"chart\"\nscene = \"{scene}\"\nadapter = \"{adapter}\"\n\
         frames = \"{frames}\"\nsize = \"128x72\"\npath = \"{{renders}}/{{job}}/{{job}}.{{frame:4}}.png\"\n{more}"
    )
}

/// From sheet to verified frames, by `run` and by a script.
fn whole_way(project: &Project, expected: &[i64]) {
    let names: BTreeSet<String> = expected.iter().map(|frame| format!("chart/chart.{frame:04}.png")).collect();
    project.say("check --strict").ended(0);
    project.say("run").ended(0);
    assert_eq!(pictures(project), names);
    project.say("verify").ended(0);
    std::fs::remove_dir_all(project.path("renders")).unwrap();
    project.say("build -o r.sh").ended(0);
    let output = std::process::Command::new("sh").arg(project.path("r.sh")).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(pictures(project), names);
    project.say("verify").ended(0);
}

#[test]
fn a_picture_a_call_from_vector_drawings() {
    if !has("rsvg-convert") {
        return;
    }
    let project = Project::with(&sheet("rsvg-convert", "charts/tide.0001.svg", "1-5,9", "native.stem = \"tide.\"\n"));
    example(&project, "rsvg-convert");
    (1..=11).for_each(|frame| project.write(&format!("charts/tide.{frame:04}.svg"), tide(frame)));
    whole_way(&project, &[1, 2, 3, 4, 5, 9]);
    let proof = "adapter prove rsvg-convert --scene charts/tide.0001.svg --set native.stem=tide.";
    let said = project.say(proof).ended(0);
    assert!(said.out.contains("rsvg-convert does what it claims"), "{}", said.out);
    assert_eq!(pictures(&project).len(), 6, "nothing of the proof touches the project");
    // A claim that is not so: this program gives alpha, always.
    let wrong = std::fs::read_to_string(format!("{EXAMPLES}/rsvg-convert.toml")).unwrap();
    project.write(
        "adapters/rsvg-convert.toml",
        wrong.replace("\"{width}\"], [\"--height\", \"{height}\"]", "\"{height}\"], [\"--height\", \"{width}\"]"),
    );
    let said = project.say(proof).ended(1);
    assert!(said.out.contains("failed  frame 9: size is 36x64, should be 64x36"), "{}", said.out);
}

#[test]
fn a_run_of_pages_a_call_with_numbers_of_its_own() {
    if !has("pdftoppm") {
        return;
    }
    let project = Project::with(&sheet("pdftoppm", "charts/harbour.pdf", "2-7,11", "[run]\nchunk = 4\n"));
    example(&project, "pdftoppm");
    project.write("charts/harbour.pdf", chart(12));
    whole_way(&project, &[2, 3, 4, 5, 6, 7, 11]);
    let said = project.say("adapter prove pdftoppm --scene charts/harbour.pdf").ended(0);
    assert!(
        said.out.contains("frames as a range                          \u{2713} held")
            && said.out.contains("does what it claims"),
        "{}",
        said.out
    );
}

#[test]
fn the_encoders_in_the_box_do_what_they_claim() {
    let said = Project::with(SMALL).say("adapter prove built-in").ended(0);
    assert!(said.out.contains("built-in does what it claims: 12 of 12"), "{}", said.out);
    if !has("ffmpeg") {
        return;
    }
    // Every claim takes a minute and a half; a few codecs of different habits stand for the rest.
    if std::env::var("TRUEPATH_TORTURE").is_ok_and(|size| size == "full") {
        let said = Project::with(SMALL).say("adapter prove ffmpeg").ended(0);
        assert!(said.out.contains("ffmpeg does what it claims: 104 of 104"), "{}", said.out);
    }
    let text = include_str!("../../../core/src/adapter/ffmpeg.toml");
    let (before, rest) = text.split_once("codecs = [").unwrap();
    let after = rest.split_once("\n]\n").unwrap().1;
    let few = format!("{before}codecs = [\"h264\", \"prores-4444\", \"ffv1\", \"png\"]\n{after}");
    let project = Project::with(SMALL);
    project.write("adapters/few.toml", few.replace("name = \"ffmpeg\"", "name = \"few\""));
    let said = project.say("adapter prove few").ended(0);
    assert!(said.out.contains("few does what it claims: 39 of 39"), "{}", said.out);
}

#[test]
fn the_understudy_does_what_it_claims_and_every_wrong_claim_is_named() {
    let project = Project::with(SMALL);
    let said = project.say("adapter prove understudy").ended(0);
    assert!(said.out.ends_with("understudy does what it claims: 48 of 48\n"), "{}", said.out);
    assert_eq!(project.files("").iter().filter(|name| name.contains("out/")).count(), 0);
    let own =
        include_str!("../../../core/src/adapter/understudy.toml").replace("name = \"understudy\"", "name = \"wrong\"");
    for (right, wrong, row, why) in [
        ("[accepts]", "[words]\nbits.half = \"17f\"\n[accepts]", "exr half bits", "were not written, exit code 2"),
        ("\"{width}x{height}\"", "\"{height}x{width}\"", "png 8 bits", "frame 9: size is 36x64, should be 64x36"),
        (
            "[\"--frames\", \"{frames}\"]",
            "\"--frames\", \"1-13\"",
            "frames as a list ",
            "it wrote files that were not requested: tiny_beauty.0001.png",
        ),
        (
            "writes = [\"{out}\"]",
            "writes = [\"{out_stem}-{frame}.png\"]",
            "png 8 bits",
            "were not written, exit code 0; it wrote tiny_beauty.0009.png",
        ),
        ("[\"--pass-bits\", \"{bits}\"]", "[\"--pass-bits\", \"8\", \"{bits}\"]", "png 16 bits", "were not written"),
        ("bits = [\"8\", \"16\", \"half\", \"float\"]", "", "held", ""),
    ] {
        let project = Project::with(SMALL);
        // A setting that reaches the program and is ignored there.
        let text = own.replace(right, wrong) + "\n[env]\nASKED = \"{frames}\"\n";
        assert_ne!(text, own, "{right}");
        project.write("adapters/wrong.toml", text);
        let said = project.say("adapter prove wrong");
        if why.is_empty() {
            assert_eq!(said.code, 0, "a narrower list than the types themselves changes nothing: {}", said.out);
            continue;
        }
        let line = said.out.lines().find(|line| line.starts_with(row)).unwrap_or_default();
        assert!(said.code == 1 && line.contains("failed") && line.contains(why), "{wrong}:\n{line}\n{}", said.out);
    }
}

#[test]
fn an_export_comes_first_and_only_when_its_scene_has_changed() {
    let sheet = SMALL.replace(
        "scene = \"scenes/crossing.gltf\"\ncamera = \"quay\"\nframes = \"1-24\"",
        "scene = \"scenes/tower.scn\"\ncamera = \"cliff\"\nframes = \"1-4\"\nexport = \"glb\"",
    );
    let project = Project::with(&sheet);
    project.write("scenes/tower.scn", std::fs::read(project.path("scenes/lighthouse.glb")).unwrap());
    executable(
        &project,
        "tools/export",
        "#!/bin/sh\necho exporting\necho one >> exported\n[ ! -e broken ] || exit 1\ncp \"$1\" \"$2\"\n",
    );
    project.write(
        "adapters/glb.toml",
        "adapter = 1\nname = \"glb\"\nkind = \"exporter\"\nprogram = \"tools/export\"\narguments = [\"{scene}\", \"{out}\"]\n[out]\nwrites = [\"{scene}.glb\"]\n",
    );
    let bad = std::fs::read_to_string(project.path("adapters/glb.toml")).unwrap();
    project.write("adapters/glb.toml", bad.replace("{scene}.glb", "{out_stem}.glb"));
    project.say("check").ended(0);
    let exported = || std::fs::read_to_string(project.path("exported")).unwrap_or_default().lines().count();
    let build = project.say("build --to json").ended(0).json();
    let steps = build["calls"].as_array().unwrap();
    assert_eq!((&steps[0]["id"], &steps[1]["needs"][0]), (&"export-tower-1".into(), &"export-tower-1".into()));
    project.write("broken", "");
    let said = project.say("run").ended(3);
    assert!(said.err.contains("the export of crossing did not write"), "{}", said.err);
    assert!(pictures(&project).is_empty());
    std::fs::remove_file(project.path("broken")).unwrap();
    project.say("run").ended(0);
    assert_eq!((pictures(&project).len(), exported()), (4, 2));
    project.say("run --existing replace").ended(0);
    assert_eq!(exported(), 2, "nothing has changed");
    let mut scene = std::fs::read(project.path("scenes/tower.scn")).unwrap();
    scene.extend(b"    ");
    project.write("scenes/tower.scn", scene);
    project.say("run --existing replace");
    assert_eq!(exported(), 3, "another scene, another product");
    // A script does the same, in order.
    let script = Project::with(&sheet.replace("\"1-4\"", "\"1-2\""));
    script.write("scenes/tower.scn", std::fs::read(script.path("scenes/lighthouse.glb")).unwrap());
    executable(&script, "tools/export", "#!/bin/sh\ncp \"$1\" \"$2\"\n");
    script.write("adapters/glb.toml", std::fs::read(project.path("adapters/glb.toml")).unwrap());
    script.say("build -o r.sh").ended(0);
    let output = std::process::Command::new("sh").arg(script.path("r.sh")).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(pictures(&script).len(), 2);
    let said = script.say("adapter prove glb --scene scenes/tower.scn").ended(0);
    assert!(said.out.contains("makes {out_stem}.glb  \u{2713} held"), "{}", said.out);
    for (right, wrong, found) in [
        ("export = \"glb\"", "export = \"understudy\"", "`export` must name an exporter"),
        ("export = \"glb\"", "export = \"glbb\"", "write \"glb\""),
    ] {
        script.write("truepath.toml", sheet.replace(right, wrong));
        assert!(script.say("check").ended(1).out.contains(found), "{wrong}");
    }
}

#[test]
fn what_an_adapter_needs_is_looked_at_before_anything_runs() {
    let own =
        include_str!("../../../core/src/adapter/understudy.toml").replace("name = \"understudy\"", "name = \"own\"");
    let project = Project::with(&SMALL.replace("adapter = \"understudy\"", "adapter = \"own\""));
    project.write("adapters/own.toml", format!("{own}\n[needs]\nrun = [[\"test\", \"-e\", \"licence\"]]\n"));
    let said = project.say("run").ended(4);
    assert!(said.err.contains("own needs the command `test -e licence` to succeed"), "{}", said.err);
    assert!(!project.path("renders").exists());
    project.write("licence", "");
    project.say("run").ended(0);
    project.write("adapters/own.toml", format!("{own}\n[needs]\nenv = [\"BUOY_SEAT\"]\nfiles = [\"seat.txt\"]\n"));
    let said = project.say("run").ended(4);
    assert!(said.err.contains("BUOY_SEAT") && said.err.contains("seat.txt"), "{}", said.err);
}

#[test]
fn words_environment_and_native_settings_reach_the_program() {
    let project = Project::with(&SMALL.replace(
        "camera = \"quay\"",
        "camera = \"quay\"\nnative.dusk = \"late & cold\"\nvars.weather = \"fog\"\nenv.TIDE = \"low\"\nsamples = 9",
    ));
    executable(&project, "tools/show", "#!/bin/sh\nprintf '%s|' \"$@\" \"$TIDE\" \"$PLACE\" >> shown\necho >> shown\n");
    project.write(
        "adapters/show.toml",
        "adapter = 1\nname = \"show\"\nprogram = { linux = \"tools/show\", macos = \"tools/show\" }\n\
         arguments = [\"{job}\", [\"-c\", \"{camera}\"], [\"-v\", \"{view}\"], \"{frame:3}\", \"{width}\", \"{height}\", \"{fps}\", \"{bits}\", \"{channels}\", \"{samples}\", \"{out_stem}\"]\n\
         variable = [\"-D\", \"{key}={value}\"]\nnative = [\"--{key}\", \"{value}\"]\n[frames]\nper = \"frame\"\n\
         [words]\nbits.8 = \"byte\"\nchannels.rgb = \"RGB\"\nsamples.9 = \"nine\"\ncamera.quay = \"Quay 1\"\n[env]\nPLACE = \"{scene_folder}\"\n",
    );
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    project.write("truepath.toml", sheet.replace("\"understudy\"", "\"show\"").replace("\"1-24\"", "\"7\""));
    project.say("run").ended(3);
    let shown = std::fs::read_to_string(project.path("shown")).unwrap();
    let folder = project.path("scenes").display().to_string();
    let expected = format!(
        "crossing|-c|Quay 1|007|32|18|24|byte|RGB|nine|crossing_beauty.0007|-D|weather=fog|--dusk|late & cold|low|{folder}|"
    );
    assert_eq!(shown.lines().next().unwrap(), expected);
}

#[test]
fn a_mistake_in_an_adapter_is_shown_at_its_place_and_a_new_one_is_sound() {
    let project = Project::with(SMALL);
    project.write(
        "adapters/bad.toml",
        "adapter = 1\nname = \"bad\"\nprogram = \"x\"\narguments = [\"{scen}\", [\"{frame}\"], \"{value}\"]\n[frames]\nper = \"rnage\"\n\
         [out]\nnumber = \"$\"\n[acepts]\ntypes = []\n[log]\nwrote = '(?<file>.+)'\nproblem = '('\n[words]\nbitz.half = \"x\"\n",
    );
    let said = project.say("check --json").ended(1).json();
    let found: Vec<(String, i64)> = said["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| (f["check"].as_str().unwrap().to_owned(), f["at"]["line"].as_i64().unwrap()))
        .collect();
    let expected = [
        ("token-unknown", 4),
        ("value-not-understood", 6),
        ("value-not-understood", 8),
        ("unknown-key", 9),
        ("value-not-understood", 12),
        ("value-not-understood", 13),
        ("unknown-key", 15),
        // What is an error comes first.
        ("argument-never-filled", 4),
        ("argument-never-filled", 4),
    ];
    assert_eq!(found, expected.map(|(check, line)| (check.to_owned(), line)));
    std::fs::remove_file(project.path("adapters/bad.toml")).unwrap();
    project.say("adapter new buoy --program truepath").ended(0);
    project.say("adapter new buoy").ended(2);
    project.say("adapter new a/b").ended(2);
    let said = project.say("adapter list").ended(0);
    assert!(said.out.contains("buoy") && said.err.is_empty(), "{}{}", said.out, said.err);
    let shown = project.say("adapter show buoy --json").ended(0).json();
    assert_eq!(shown["claims"]["types"]["yes"], serde_json::json!(["png"]));
    assert!(shown["claims"]["settings"]["no"].as_array().unwrap().contains(&"device".into()));
    assert!(project.say("adapter show buy").ended(2).err.contains("write buoy"));
}

/// What the project's `r.cmd` says under Wine, once it has ended well.
fn under_wine(project: &Project) -> (String, String) {
    let prefix = tempfile::tempdir().unwrap();
    let output = std::process::Command::new("wine")
        .args(["cmd", "/c", "r.cmd"])
        .current_dir(project.path(""))
        .env("WINEDEBUG", "-all")
        .env("WINEPREFIX", prefix.path())
        .output()
        .unwrap();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let (out, err) = (text(&output.stdout), text(&output.stderr));
    assert!(output.status.success(), "{out}\n{err}");
    (out, err)
}

#[test]
fn cmd_scripts_do_the_same_under_wine() {
    if !has("wine") {
        return;
    }
    // What Wine's own cmd does faithfully; every other rule is held against what is documented.
    let project = Project::with(
        &sheet("batch", "scenes/crossing.gltf", "3-9/2", "fps = 24\n")
            .replace("{job}/{job}.", "it's 50% & more/{job} no.")
            .replace("renders\"\n[[job", "renders (all)\"\n[[job"),
    );
    project.write("tools/render.bat", "@echo off\r\necho frame %~2 >\"%~1\"\r\necho wrote %~1\r\nexit /b 1\r\n");
    project.write(
        "adapters/batch.toml",
        "adapter = 1\nname = \"batch\"\nprogram = \"tools/render.bat\"\narguments = [\"{out}\", \"{frame}\", \"{width}x{height}\", \"{scene}\", \"{fps}\"]\n[frames]\nper = \"frame\"\n[log]\nwrote = '^wrote (?<path>.+)$'\n",
    );
    project.say("build --to cmd --pause -o r.cmd").ended(0);
    assert!(std::fs::read_to_string(project.path("r.cmd")).unwrap().contains("\r\npause\r\n"));
    project.say("build --to cmd -o r.cmd").ended(0);
    let (out, err) = under_wine(&project);
    let made: Vec<String> = project.files("renders (all)").into_iter().collect();
    assert_eq!(made, [3, 5, 7, 9].map(|frame| format!("it's 50% & more/chart no.{frame:04}.png")), "{out}\n{err}");
    assert!(out.contains("[4 of 4]") && err.contains("note: all files are there"), "{out}\n{err}");
}

#[test]
fn cmd_scripts_write_files_for_a_program_and_take_by_products_away() {
    if !has("wine") {
        return;
    }
    // Wine drops an exclamation mark of a value where cmd does not look at it again.
    let odd = "50% & more <x> | ^ up (\\\"q\\\") it's";
    let project = Project::with(
        &sheet("batch", "scenes/crossing.gltf", "3-5/2", &format!("fps = 24\nnative.note = \"{odd}\"\n"))
            .replace("renders\"\n[[job", "renders & all\"\n[[job"),
    );
    // It leaves what it was given where the test finds it, and two files besides.
    project.write(
        "tools/render.bat",
        "@echo off\r\necho frame >\"%~1\"\r\ntype \"%~2\" >>\"%~dp0given.txt\"\r\ncd >>\"%~dp0started.txt\"\r\necho x >\"%~dp1a.log\"\r\necho x >\"%~dp1b.tmp\"\r\n",
    );
    project.write(
        "adapters/batch.toml",
        r#"adapter = 1
name = "batch"
program = "tools/render.bat"
folder = "{scene_folder}"
arguments = ["{out}", "{write.job}", "{frame}", "{scene}", "{fps}", "{width}x{height}"]
[frames]
per = "frame"
[out]
writes = ["{out}"]
also = ["{any}.tmp"]
keep = ["{any}.log"]
[write.job]
file = "job.json"
quote = "json"
text = '''
{{ "out": {out},
? "none": {view},
"note": {native.note} }}
'''
"#,
    );
    project.say("build --to cmd -o r.cmd").ended(0);
    let (out, err) = under_wine(&project);
    assert_eq!(project.files("renders & all").len(), 2, "{:?}\n{out}\n{err}", project.files("renders & all"));
    let given = std::fs::read_to_string(project.path("tools/given.txt")).unwrap();
    let given: Vec<serde_json::Value> = serde_json::Deserializer::from_str(&given)
        .into_iter()
        .collect::<Result<_, _>>()
        .unwrap_or_else(|e| panic!("{e}: {given}"));
    let staged = |one: &serde_json::Value| one["out"].as_str().unwrap().contains("renders & all/.truepath/stage");
    assert!(given.len() == 2 && given.iter().all(staged), "{given:?}");
    assert!(given.iter().all(|one| one["note"] == odd.replace('\\', "") && one.get("none").is_none()), "{given:?}");
    let started = std::fs::read_to_string(project.path("tools/started.txt")).unwrap();
    assert!(started.lines().all(|line| line.trim_end().ends_with("scenes")), "{started}");
    let logs = project.files(".truepath/truepath/logs");
    assert_eq!(logs.iter().filter(|name| name.ends_with(".files/a.log")).count(), 2, "{logs:?}");
}
