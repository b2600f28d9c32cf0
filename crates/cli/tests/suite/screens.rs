//! What a person sees: the block that is drawn over on a terminal, and the tables that answer questions.

use crate::support::terminal::OnTerminal;
use crate::support::{Project, SMALL, odd};
use truepath_core::catalogue::{AUDIO_CODECS, CODECS, CONTAINERS, PICTURES};
use truepath_core::diagnostic::CHECKS;

const WIDTH: u16 = 72;

/// Follows a run on a terminal to its end: every picture of it, and the last one.
fn watched(project: &Project, words: &[&str]) -> (Vec<Vec<String>>, Vec<String>, i32) {
    let mut command = project.command();
    command.args(words);
    let mut run = OnTerminal::start(command, WIDTH, false);
    let code = run.ended();
    let last = run.terminal.seen();
    (run.terminal.pictures, last, code)
}

/// A bar of a block.
fn is_block(line: &str) -> bool {
    line.contains('\u{2501}') || line.contains("\u{2500}\u{2500}")
}

/// A run that takes some seconds.
const SLOW: &str = "size = \"640x360\"\nsamples = 9";

#[test]
fn the_time_left_is_seen_at_every_width_and_a_resize_leaves_nothing_behind() {
    // A long name of the project and of the job: the time left is never what is cut off.
    let sheet = SMALL
        .replace("size = \"32x18\"", SLOW)
        .replace("[roots]", "[project]\nname = \"the night ferry crosses the harbour once more\"\n\n[roots]")
        .replace("name = \"crossing\"", "name = \"crossing-with-a-long-name-of-forty-signs\"");
    // Terminals that break lines anew at another width, and such that do not.
    for (widths, broken_anew) in [([80, 120, 60, 100], true), ([120, 80, 100, 90], false)] {
        let project = Project::with(&sheet);
        let mut command = project.command();
        command.args(["run", "--workers", "2"]);
        let mut run = OnTerminal::start(command, widths[0], false);
        run.terminal.print(b"$ truepath run\r\n");
        for columns in &widths[1..] {
            let drawn = run.terminal.pictures.len() + 3;
            crate::support::until("three more pictures", || {
                run.shown(20);
                run.terminal.pictures.len() >= drawn || run.child.try_wait().unwrap().is_some()
            });
            assert!(run.child.try_wait().unwrap().is_none(), "the run is too short to be resized");
            run.resize(*columns, broken_anew);
        }
        assert_eq!(run.ended(), 0);
        let pictures = &run.terminal.pictures;
        let drawn: Vec<&Vec<String>> =
            pictures.iter().filter(|lines| lines.iter().any(|line| is_block(line))).collect();
        assert!(drawn.len() > 8, "{pictures:#?}");
        for lines in &drawn {
            assert_eq!(lines[0], "$ truepath run", "what was there before stays: {lines:#?}");
            assert_eq!(lines.iter().filter(|line| is_block(line)).count(), 1, "two blocks: {lines:#?}");
            let block: Vec<&String> = lines[1..].iter().filter(|line| !line.is_empty()).collect();
            assert!(block.len() <= 4, "something is left behind: {lines:#?}");
        }
        let timed =
            drawn.iter().filter(|lines| lines.iter().any(|line| is_block(line) && line.contains(" left"))).count();
        assert!(timed * 2 > drawn.len(), "{drawn:#?}");
        // In the end the block is gone.
        assert!(!run.terminal.seen().iter().any(|line| is_block(line)), "{:#?}", run.terminal.seen());
    }
}

#[test]
fn what_answers_a_question_fits_into_eighty_columns() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-12\""));
    project.say("run").ended(0);
    std::fs::remove_file(project.path("renders/crossing/crossing_beauty.0003.png")).unwrap();
    for words in [
        "names",
        "check",
        "explain",
        "status",
        "verify",
        "log crossing",
        "run --help",
        "--help",
        "check --help",
        "build --help",
        "movie --help",
        "types",
        "adapter list",
        "clean --stage",
    ] {
        let mut command = project.command();
        command.args(words.split_whitespace());
        let mut run = OnTerminal::start(command, 80, true);
        run.terminal.resize(1000, false);
        run.ended();
        for line in run.terminal.seen() {
            assert!(line.chars().count() <= 80, "{words}: {line}");
        }
    }
    // Every name shows its root and its own end, however narrow the terminal.
    for columns in [40, 60, 80, 120] {
        let mut command = project.command();
        command.arg("names");
        let mut run = OnTerminal::start(command, columns, true);
        run.terminal.resize(1000, false);
        run.ended();
        let seen = run.terminal.seen().join("\n");
        assert!(seen.contains("renders/") && seen.contains("crossing_beauty.{frame:4}.png"), "{columns}: {seen}");
    }
}

#[test]
fn a_terminal_has_one_block_that_goes_and_failures_that_stay() {
    let sheet = SMALL
        .replace("\"1-24\"", "\"1-12\"")
        .replace("camera = \"quay\"", "camera = \"quay\"\nnative.misbehave = \"cut\"\nnative.at = 3")
        .replace("32x18", "320x180");
    let project = odd(&(sheet + "workers = 2\n"));
    let (pictures, last, code) = watched(&project, &["run"]);
    assert_eq!(code, 3, "{last:#?}");
    let drawn: Vec<&Vec<String>> = pictures.iter().filter(|lines| lines.iter().any(|line| is_block(line))).collect();
    assert!(drawn.len() > 2, "{pictures:#?}");
    for lines in &pictures {
        assert!(lines.iter().filter(|line| is_block(line)).count() <= 1, "two blocks: {lines:#?}");
        // A title, a line for each worker and one that needs attention.
        let block = lines.iter().skip_while(|line| !is_block(line)).filter(|line| !line.is_empty());
        let block: Vec<&String> = block.collect();
        assert!(block.len() <= 4, "{lines:#?}");
        assert!(block.iter().all(|line| line.chars().count() < usize::from(WIDTH)), "{lines:#?}");
    }
    let at_work =
        |lines: &&&Vec<String>| lines.iter().any(|line| line.contains("crossing/beauty") && line.contains("frame "));
    assert!(drawn.iter().any(|lines| at_work(&lines)), "{drawn:#?}");
    assert!(
        drawn.iter().any(|lines| lines.iter().any(|line| line.contains("  ! "))),
        "what failed is in the block: {drawn:#?}"
    );
    // In the end the block is gone; what failed and what is next stand there.
    assert!(!last.iter().any(|line| is_block(line)), "{last:#?}");
    let said = last.join("\n");
    for words in ["failed crossing/beauty frame 3", "11 of 12", "truepath log crossing 3"] {
        assert!(said.contains(words), "{words}: {said}");
    }
    // The second time nothing but the broken frame is called for, and the same is said.
    let (_, again, code) = watched(&project, &["run"]);
    assert!(code == 3 && again.join("\n").contains("0 of 1"), "{again:#?}");
}

#[test]
fn the_catalogue_is_shown_whole_and_by_every_name() {
    let project = Project::with("");
    let all = project.say("types --json").ended(0).json();
    let names = |key: &str| -> Vec<String> {
        all[key].as_array().unwrap().iter().map(|entry| entry["name"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(names("types"), PICTURES.iter().map(|known| known.name).collect::<Vec<_>>());
    assert_eq!(names("containers"), CONTAINERS.iter().map(|known| known.name).collect::<Vec<_>>());
    assert_eq!(names("codecs"), CODECS.iter().map(|known| known.name).collect::<Vec<_>>());
    assert_eq!(names("audio_codecs"), AUDIO_CODECS.iter().map(|known| known.name).collect::<Vec<_>>());
    let overview = project.say("types").ended(0).out;
    for key in ["types", "containers", "codecs", "audio_codecs"] {
        for entry in all[key].as_array().unwrap() {
            let name = entry["name"].as_str().unwrap();
            let row = format!("{name} ");
            assert!(overview.lines().any(|line| line.starts_with(&row)), "{name} in {overview}");
            // Asked by name, every fact has its line, and where it is written.
            let one = project.say(&format!("types {name}")).ended(0).out;
            for (fact, value) in entry.as_object().unwrap() {
                let value = match value {
                    serde_json::Value::String(text) => text.clone(),
                    serde_json::Value::Array(list) => list
                        .first()
                        .map(|item| item.as_str().map_or(item.to_string(), str::to_owned))
                        .unwrap_or_default(),
                    _ => String::new(),
                };
                let told = |line: &str| line.starts_with(&fact.replace('_', " ")) && line.contains(&value);
                assert!(one.lines().any(told), "{fact} {value}: {one}");
            }
        }
    }
    let exr = "name                exr\ntitle               OpenEXR\nextensions          exr\nbits                half, float\n\
        channels            grey, grey-alpha, rgb, rgba\nlayers              yes\n\
        compressions        none, rle, zips, zip, piz, pxr24, b44, b44a, dwaa, dwab\n\
        lossy compressions  pxr24, b44, b44a, dwaa, dwab\nquality             no\nlossy               with some compressions\n\
        pixels              scene-linear\nlargest             2147483647\nsource              OpenEXR file layout, version 2\n";
    assert_eq!(project.say("types EXR").ended(0).out, exr);
    // An extension leads to its type, and a slip of the pen to the name.
    assert!(project.say("types jpg").ended(0).out.contains("name                jpeg\n"));
    assert!(project.say("types prorez").ended(2).err.contains("help: write prores\n"));
    assert!(project.say("types nothing-like-it").ended(2).err.contains("`truepath types` lists them all"));
}

#[test]
fn every_check_explains_itself() {
    let project = Project::with("");
    let list = project.say("explain").ended(0).out;
    let mut level = "";
    for line in list.lines() {
        level = line.strip_suffix('s').filter(|line| ["error", "warning", "note"].contains(line)).unwrap_or(level);
        let Some(check) = CHECKS.iter().find(|check| line.split_whitespace().next() == Some(check.name)) else {
            continue;
        };
        assert_eq!(level, check.level.name(), "{line}");
    }
    let words = list.split_whitespace().collect::<Vec<_>>().join(" ");
    for check in CHECKS {
        let mark = if check.fixes { " [fix]" } else { "" };
        assert!(words.contains(&format!("{} {}{mark}", check.name, check.summary)), "{}", check.name);
    }
    assert!(project.say("explain nams-meet").ended(2).err.contains("help: write names-meet\n"));
}

#[test]
fn an_adapter_says_what_it_carries_and_what_not() {
    let project = Project::with("");
    let list = project.say("adapter list --json").ended(0).json();
    let names: Vec<&str> =
        list["adapters"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["built-in", "ffmpeg", "understudy"]);
    for name in names {
        let (text, facts) = (
            project.say(&format!("adapter show {name}")).ended(0).out,
            project.say(&format!("adapter show {name} --json")).ended(0).json(),
        );
        assert_eq!(facts["name"], name);
        assert!(facts["claims"]["file_options"]["yes"].as_array().is_some_and(|list| list.contains(&"type".into())));
        for (group, both) in facts["claims"].as_object().unwrap() {
            for one in ["yes", "no"].iter().flat_map(|key| both[*key].as_array().unwrap()) {
                let one = one.as_str().unwrap();
                assert!(text.contains(one), "{name} {group} {one}: {text}");
            }
        }
    }
}

#[test]
fn of_one_thing_nothing_is_said_in_the_plural() {
    let one = SMALL.replace("1-24", "1").replace("[checks]", "[checks]\nsequence-of-one = \"off\"");
    let project = Project::with(&format!(
        "{one}\n[modes.draft]\npath = \"{{renders}}/draft/{{job}}_{{pass}}.{{frame:4}}.{{ext}}\"\n"
    ));
    let mut said = String::new();
    let mut hear = |words: &str| {
        let own = project.say(words);
        said.push_str(&format!("$ {words}\n{}{}", own.out, own.err));
    };
    let looks = [
        "check",
        "names",
        "status",
        "verify",
        "verify --deep",
        "estimate",
        "clean --mode draft",
        "clean --stage",
        "log crossing",
    ];
    let picture = project.path("renders/crossing/crossing_beauty.0001.png");
    looks.iter().for_each(|words| hear(words));
    hear("build -o render.sh");
    hear("run --mode draft");
    hear("run");
    looks.iter().for_each(|words| hear(words));
    hear("clean --mode draft --yes");
    hear("verify --to junit");
    hear("verify --folder renders");
    hear("contact -o sheet.png");
    hear("compare crossing --mode draft");
    // Cut, changed, replaced by a stranger's, of another size, and gone.
    let whole = std::fs::read(&picture).unwrap();
    let small = project.path("small.png");
    project
        .say("understudy render scenes/crossing.gltf --frames 1 --size 16x9 --channels rgb --pass beauty=small.png")
        .ended(0);
    for bytes in [&whole[..whole.len() / 2], b"no picture", &std::fs::read(small).unwrap()[..]] {
        std::fs::write(&picture, bytes).unwrap();
        looks.iter().for_each(|words| hear(words));
        hear("verify --to junit");
        hear("verify --folder renders");
        hear("run");
    }
    std::fs::remove_dir_all(project.path(".truepath")).unwrap();
    looks.iter().for_each(|words| hear(words));
    hear("check --all-modes");
    said.push_str(&std::fs::read_to_string(project.path("render.sh")).unwrap());
    let things = "files|frames|jobs|calls|movies|sheets|workers|machines|pictures|starts|errors|warnings|notes|fixes|findings|problems|tasks|members|parts|versions|passes|cameras|scenes|folders|places|sequences|modes|rows|hours|minutes|seconds";
    let plural = regex_lite::Regex::new(&format!(r"(^|[^0-9.,:x/-])1 ({things})\b")).unwrap();
    let verb = regex_lite::Regex::new(r"(^|[^0-9.,:x/-])1 [a-z]+ (are|were|have|do)\b").unwrap();
    let wrong: Vec<&str> = said.lines().filter(|line| plural.is_match(line) || verb.is_match(line)).collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(said.contains("1 file") && said.contains("1 frame") && said.contains("1 job"), "{said}");
}
