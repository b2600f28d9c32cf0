//! What goes wrong in the night: each failure has its own words and its own state, and the next run completes.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use crate::support::{Project, SMALL, Said, UNDERSTUDY, odd, planned, rendered, until};
use truepath_core::run::event::{self, Event};

/// The small project whose renderer is a shell script. `$RENDER` in it is the understudy's own command.
fn scripted(sheet: &str, script: &str) -> Project {
    let project = Project::with(&sheet.replace("\"understudy\"", "\"scripted\""));
    let script = script.replace("$RENDER", &format!("'{}' \"$@\"", env!("CARGO_BIN_EXE_truepath")));
    project.write("bin/render", format!("#!/bin/sh\n{script}\n"));
    std::fs::set_permissions(project.path("bin/render"), std::fs::Permissions::from_mode(0o755)).unwrap();
    project.write("adapters/scripted.toml", UNDERSTUDY.replace("program = \"truepath\"", "program = \"bin/render\""));
    project
}

fn start(project: &Project, words: &[&str]) -> Child {
    project.command().arg("run").args(words).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

fn signal(name: &str, process: u32) {
    Command::new("kill").args([name, &process.to_string()]).status().unwrap();
}

fn events(project: &Project) -> Vec<Event> {
    let folder = ".truepath/truepath/journal";
    let text = |name: String| std::fs::read_to_string(project.path(folder).join(name)).unwrap();
    project.files(folder).into_iter().flat_map(|name| event::read(&text(name)).collect::<Vec<_>>()).collect()
}

fn state(project: &Project, name: &str) -> String {
    project.say("verify --json").json()["series"][0][name].as_str().unwrap().to_owned()
}

#[test]
fn each_misbehaviour_has_its_own_words_and_its_own_state() {
    let lost = "failed crossing/beauty frame 3: ";
    for (how, code, words, good) in [
        ("crash", 3, vec![lost, "was ended by the signal ABRT"], "1-2,4-6"),
        ("hang", 3, vec![lost, "was ended: no frame finished for 2s"], "1-2,4-6"),
        ("cut", 3, vec![lost, "ended with 0; frame 3: the file is cut off"], "1-2,4-6"),
        ("skip", 3, vec!["failed crossing/beauty frame 3: ended with 0\n"], "1-2,4-6"),
        ("size", 3, vec![lost, "size is 16x9, should be 32x18"], "1-2,4-6"),
        (
            "own-names",
            3,
            vec!["frames 1-6: ended with 0; it wrote 6 other files", "stray crossing_1-6 wrote 6 files"],
            "",
        ),
        ("numbers-appended", 3, vec!["it wrote 6 other files", "beauty.####0001.png"], ""),
        ("folder-per-pass", 3, vec!["it wrote 6 other files", "/BEAUTY/"], ""),
        (
            "exit-zero",
            3,
            vec!["failed crossing/beauty frames 1-6: ended with 0", "gave up crossing: 6 starts produced nothing"],
            "",
        ),
        ("exit-one", 0, vec!["odd crossing_1-6 ended with 1, but all its frames landed", "complete"], "1-6"),
        (
            "stray",
            0,
            vec!["stray crossing_1-6 wrote 1 file that the sheet does not plan", "beauty.0007.png", "complete"],
            "1-6",
        ),
        ("again", 0, vec!["odd crossing/beauty frame 3 was written again after it had landed", "complete"], "1-6"),
    ] {
        let sheet = SMALL
            .replace("\"1-24\"", "\"1-6\"")
            .replace("camera = \"quay\"", &format!("camera = \"quay\"\nnative.misbehave = \"{how}\"\nnative.at = 3"));
        // Only one of them needs a limit; a slow machine must not make the others run into it.
        let limit = if how == "hang" { "[run]\nframe_timeout = \"2s\"" } else { "[run]" };
        let project = odd(&sheet.replace("[run]", limit));
        let said = project.say("run").ended(code);
        assert!(words.iter().all(|words| said.err.contains(words)), "{how}: {}", said.err);
        assert_eq!(state(&project, "good"), good, "{how}");
        let strays = project.files("renders/.truepath");
        // What nobody planned, and what was refused of a renderer that says that all is well.
        let kept = ["own-names", "numbers-appended", "folder-per-pass", "stray", "cut", "size"].contains(&how);
        assert_eq!(!strays.is_empty(), kept, "{how} leaves {strays:?}");
        let failed: Vec<Event> =
            events(&project).into_iter().filter(|event| matches!(event, Event::Failed { .. })).collect();
        assert_eq!(failed.is_empty(), code == 0, "{how}: {failed:?}");
        if code == 3 {
            let log = project.say("log crossing").ended(0).out;
            assert!(
                log.contains("missing") && log.contains("the end of") && log.contains("--misbehave"),
                "{how}: {log}"
            );
            assert!(said.err.contains("see why: truepath log crossing "), "{}", said.err);
        }
        // The renderer is put right: what is missing comes out, and nothing else is touched.
        let before = project.stamps("renders");
        project.write(
            "adapters/odd.toml",
            UNDERSTUDY.replace("variable = ", "native = [\"--set\", \"{key}={value}\"]\nvariable = "),
        );
        project.say("run --existing keep");
        assert_eq!(rendered(&project), planned(&project), "{how}");
        let after = project.stamps("renders");
        assert!(before.iter().all(|(name, stamp)| name.starts_with(".truepath") || after[name] == *stamp), "{how}");
    }
}

#[test]
fn no_licence_is_waited_for_and_is_no_failure() {
    let script = "[ $1 = understudy ] && echo x >> tries\n[ $(wc -l < tries) -gt 2 ] || { echo waiting for a seat; exit 1; }\nexec $RENDER";
    let project = scripted(&SMALL.replace("[run]", "[run]\nretries = 0"), script);
    let said = project.say("run --frames 1-4").ended(0);
    assert_eq!(said.err.matches("waiting crossing_1-4: waiting for a seat").count(), 2, "{}", said.err);
    assert!(!events(&project).iter().any(|event| matches!(event, Event::Failed { .. })));
}

#[test]
fn licences_are_counted() {
    let script = "mkdir seat || echo clash >> clash\n$RENDER\nrmdir seat";
    let project = scripted(
        &SMALL.replace("[run]", "[run]\nworkers = 4\nlicences = { seat = 1 }").replace("chunk = 6", "chunk = 2"),
        script,
    );
    let adapter = std::fs::read_to_string(project.path("adapters/scripted.toml")).unwrap();
    project.write("adapters/scripted.toml", format!("{adapter}\n[needs]\nlicences = [\"seat\"]\n"));
    project.say("run").ended(0);
    assert!(!project.path("clash").exists(), "two renderers had one seat");
    // Threads are shared out between the workers.
    let threads = (std::thread::available_parallelism().unwrap().get() / 4).max(1);
    let log = project.files(".truepath/truepath/logs").into_iter().next().unwrap();
    let log = std::fs::read_to_string(project.path(".truepath/truepath/logs").join(log)).unwrap();
    assert!(log.starts_with("$ ") && log.contains(&format!("--threads {threads} ")), "{log}");
}

#[test]
fn interrupts_end_the_current_frame_or_everything_and_leave_nothing_running() {
    // The renderer starts something that would go on for ever.
    let script = "sleep 987654 &\n$RENDER";
    let sheet = SMALL.replace("32x18", "320x180").replace("1-24", "1-90");
    let sleeping =
        || Command::new("pgrep").args(["-f", "^sleep 987654"]).stdout(Stdio::null()).status().unwrap().success();
    for (name, twice) in [("-INT", false), ("-INT", true), ("-TERM", false), ("-HUP", false)] {
        let project = scripted(&sheet, script);
        let run = start(&project, &[]);
        until("a frame", || rendered(&project).len() > 2);
        signal(name, run.id());
        if twice {
            signal(name, run.id());
        }
        let said = Said::from(run.wait_with_output().unwrap()).ended(130);
        assert!(said.err.contains("interrupted. Continue with: truepath run"), "{}", said.err);
        assert!(rendered(&project).len() < 90 && !project.path("renders/.truepath").exists() || twice);
        assert!(!sleeping(), "{name}: something is left running");
    }
    // Killed for good, the run's guard ends what its renderer has started.
    let killed = |guard: bool| {
        // One call of all frames: between two calls nothing would be left to end.
        let project = scripted(&sheet.replace("chunk = 6", "chunk = 90"), script);
        let mut run = start(&project, &[]);
        until("a frame", || rendered(&project).len() > 2);
        if guard {
            let words = ["-KILL", "-P", &run.id().to_string(), "-f", "guard-renderers"];
            assert!(Command::new("pkill").args(words).status().unwrap().success());
        }
        run.kill().unwrap();
        run.wait().unwrap();
        project
    };
    killed(false);
    until("the end of the renderer", || !sleeping());
    // Its guard is killed, too: the next run does it.
    let project = killed(true);
    assert!(sleeping());
    let said = project.say("run --frames 1-20").ended(0);
    assert!(said.err.contains("ended 1 renderer that an interrupted run had left running"), "{}", said.err);
    assert!(!sleeping());
}

#[test]
fn frames_are_stale_by_what_they_were_made_of_and_by_nothing_else() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-4\"").replace("size = ", "samples = 4\nsize = "));
    project.say("run").ended(0);
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    let complete = |what: &str| assert_eq!(project.say("verify").code, 0, "{what}");
    // Time, threads, chunks, the place of the log: none of it changes a picture.
    Command::new("touch").arg(project.path("scenes/crossing.gltf")).status().unwrap();
    complete("a scene that was only touched");
    project.write(
        "truepath.toml",
        sheet.replace("samples = 4", "samples = 4\nthreads = 1").replace("chunk = 6", "chunk = 2"),
    );
    complete("threads and chunks");
    assert!(project.say("run").ended(0).err.contains("nothing to render"));
    project.write("truepath.toml", sheet.replace("samples = 4", "samples = 9"));
    assert_eq!(state(&project, "stale"), "1-4");
    let why = project.say("status --why 3").ended(0).out;
    assert!(why.contains("crossing/beauty frame 3  ! stale") && why.contains("\n  samples 9, was 4\n"), "{why}");
    let kept = project.say("run").ended(1).err;
    assert!(kept.contains("  ! stale crossing/beauty 1-4: samples 9, was 4\n"), "{kept}");
    assert!(kept.contains("not complete: 0 of 4 files good. Fix it: truepath run --existing renew\n"), "{kept}");
    project.say("run --existing renew --frames 2").ended(0);
    let compared = project.say("status --why 2,3").ended(0).out;
    assert!(
        compared.contains("2 and 3 were made from different inputs") && compared.contains("samples: 9 in 2, 4 in 3"),
        "{compared}"
    );
    // The wall clock goes back by years: what landed later is still later.
    let mut run = project.command();
    let said = run.args(["run", "--existing", "renew"]).env("SOURCE_DATE_EPOCH", "1000000000").output().unwrap();
    Said::from(said).ended(0);
    complete("rendered again, by a clock that was set back");
    // A facts file beside the scene is no part of it; the scene's own bytes are.
    let scene = std::fs::read_to_string(project.path("scenes/crossing.gltf")).unwrap();
    project.write("scenes/crossing.gltf", format!("{scene} "));
    assert_eq!(state(&project, "stale"), "1-4");
    assert!(project.say("status --why 1").ended(0).out.contains("scene bytes "));
    project.write("scenes/crossing.gltf", scene);
    // Somebody puts another picture there: whole, as planned, and not what landed.
    let name = |frame: u32| format!("renders/crossing/crossing_beauty.{frame:04}.png");
    let mut bytes = std::fs::read(project.path(&name(2))).unwrap();
    let end = bytes.len() - 12;
    bytes.splice(end..end, *b"\0\0\0\x04tEXta\0bc\xd9\x5c\x10\xb3");
    project.write(&name(1), &bytes);
    assert_eq!([state(&project, "changed"), state(&project, "good")], ["1", "2-4"]);
    let kept = project.say("run").ended(1).err;
    assert!(kept.contains("Fix it: truepath run --existing replace --frames 1 crossing\n"), "{kept}");
    // Without journals everything is foreign, and whole all the same.
    std::fs::remove_dir_all(project.path(".truepath/truepath/journal")).unwrap();
    assert_eq!(state(&project, "foreign"), "1-4");
    complete("foreign frames");
}

#[test]
fn a_deep_look_finds_other_bytes_and_pictures_that_nobody_meant() {
    let sheet = SMALL.replace(
        "type = \"png\"\nbits = 8\nchannels = \"rgb\"",
        "type = \"tiff\"\nbits = 8\nchannels = \"rgb\"\ncompression = \"none\"",
    );
    let project = Project::with(&sheet.replace("\"1-24\"", "\"1-8\""));
    project.say("run").ended(0);
    let deep = |name: &str| project.say("verify --deep --json").json()["series"][0][name].as_str().unwrap().to_owned();
    assert_eq!([deep("good"), deep("odd"), deep("changed")], ["1-8", "", ""]);
    let name = |frame: u32| format!("renders/crossing/crossing_beauty.{frame:04}.tif");
    let bytes = |frame: u32| std::fs::read(project.path(&name(frame))).unwrap();
    // One bit of a pixel: no size tells it. What a deep look has found, every other one says.
    let mut other = bytes(3);
    let at = other.len() / 2;
    other[at] ^= 0x40;
    project.write(&name(3), &other);
    assert_eq!([state(&project, "changed"), deep("changed"), state(&project, "changed")], ["", "3", "3"]);
    let covered = Project::with(&sheet.replace("rgb", "rgba").replace("\"1-24\"", "1"));
    covered.say("run").ended(0);
    assert!(covered.say("verify --deep").ended(0).out.contains("its alpha is 255 everywhere"));
    // A renderer that paints black once, and then the same picture twice.
    let script = "for word; do case $word in beauty=*) out=${word#beauty=};; esac; done\n[ -n \"$out\" ] || exit 0\n\
        for n in 1 2 3; do to=$(echo \"$out\" | sed s/####/000$n/); cp $n.png \"$to\"; echo \"wrote $to\"; done";
    let project = scripted(&SMALL.replace("\"1-24\"", "\"1-3\""), script);
    for (name, value) in [("1", 0), ("2", 90), ("3", 90)] {
        let mut file = Vec::new();
        let mut encoder = png::Encoder::new(&mut file, 32, 18);
        encoder.set_color(png::ColorType::Rgb);
        encoder.write_header().unwrap().write_image_data(&[value; 32 * 18 * 3]).unwrap();
        project.write(&format!("{name}.png"), file);
    }
    project.say("run").ended(0);
    let said = project.say("verify --deep").ended(0).out;
    assert!(said.contains("odd 1-3") && said.contains("it is black"), "{said}");
    let twin = "it has one colour everywhere [picture-one-colour]; \
                it is identical to the frame before, pixel by pixel [picture-repeated]";
    assert!(said.contains(twin), "{said}");
    // Head and end are whole, what lies between is not.
    let name = "renders/crossing/crossing_beauty.0002.png";
    let mut torn = std::fs::read(project.path(name)).unwrap();
    let at = torn.len() / 2;
    torn[at] ^= 0xff;
    project.write(name, &torn);
    let broken = |words: &str| project.say(words).json()["series"][0]["broken"].as_str().unwrap().to_owned();
    assert_eq!([broken("verify --json"), broken("verify --deep --json")], ["", "2"]);
}

#[test]
fn a_write_protected_frame_is_said_before_the_first_frame() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-4\""));
    project.say("run").ended(0);
    let before = project.stamps("renders");
    let path = project.path("renders/crossing/crossing_beauty.0003.png");
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o444)).unwrap();
    let said = project.say("run --existing replace").ended(4);
    assert!(
        said.err.contains("1 file to be replaced is write-protected") && said.err.contains("0003.png"),
        "{}",
        said.err
    );
    assert_eq!(project.stamps("renders"), before);
    project.say("run").ended(0);
}

#[test]
fn a_renderer_that_tells_nothing_is_landed_from_while_it_runs() {
    // It begins a frame now and then until its first one has landed, and then writes the rest.
    let script = "for word; do case $word in beauty=*) out=${word#beauty=};; esac; done\n\
        [ -n \"$out\" ] || exit 0\nfirst=renders/crossing/crossing_beauty.0001.png\n\
        for n in $(seq 1 60); do cp frame.png \"$(echo \"$out\" | sed s/####/$(printf %04d $n)/)\"\n\
        for look in $(seq 1 200); do [ ! -e $first ] || break; sleep 0.02; done; done";
    let project = scripted(&SMALL.replace("\"1-24\"", "\"1-60\"").replace("chunk = 6", "chunk = 60"), script);
    project
        .say("understudy render scenes/crossing.gltf --frames 1 --size 32x18 --channels rgb --pass beauty=frame.png")
        .ended(0);
    let adapter = std::fs::read_to_string(project.path("adapters/scripted.toml")).unwrap();
    project.write(
        "adapters/scripted.toml",
        adapter.lines().filter(|line| !line.starts_with("wrote")).collect::<Vec<_>>().join("\n"),
    );
    let mut run = start(&project, &[]);
    until("the first frame", || !rendered(&project).is_empty());
    assert!(run.try_wait().unwrap().is_none(), "it landed while the renderer ran");
    assert!(rendered(&project).len() < 60, "what is being written is left alone");
    assert!(run.wait().unwrap().success());
    project.say("verify").ended(0);
}

#[test]
fn a_renderer_and_its_output_may_end_apart() {
    let two = SMALL.replace("1-24", "1-2") + "retries = 0\n";
    let mute =
        scripted(&(two.clone() + "silence = \"500ms\"\n"), "[ $1 = --version ] && exit\nexec >&- 2>&-\nsleep 1000");
    let said = mute.say("run").ended(3).err;
    assert!(said.contains("was ended: no output and no new frame for 500ms"), "{said}");
    // Somebody outside of its group who holds its output is not waited for, and ends with its call where the system can.
    let left = scripted(&two, "setsid sh -c 'echo $$ > pid; exec sleep 3000' &\n$RENDER");
    let said = left.say("run").ended(0).err;
    assert!(said.ends_with("complete: 2 files as planned\n"), "{said}");
    let pid = std::fs::read_to_string(left.path("pid")).unwrap();
    let there = Command::new("kill").args(["-KILL", pid.trim()]).stderr(Stdio::null()).status().unwrap().success();
    assert_eq!(there, !cfg!(target_os = "linux"), "it left the group of its renderer");
}

#[test]
fn a_renderer_that_writes_into_a_landed_file_leaves_no_broken_one() {
    let script = "for word; do case $word in beauty=*) out=$(echo \"${word#beauty=}\" | sed s/####/0001/);; esac; done\n\
        [ -n \"$out\" ] || exit 0\ncp frame.png \"$out\"; exec 3>>\"$out\"; echo \"wrote $out\"\n\
        until [ -e renders/crossing/crossing_beauty.0001.png ]; do sleep 0.02; done; echo more >&3";
    let project = scripted(&SMALL.replace("\"1-24\"", "1"), script);
    project
        .say("understudy render scenes/crossing.gltf --frames 1 --size 32x18 --channels rgb --pass beauty=frame.png")
        .ended(0);
    let said = project.say("run").ended(3);
    assert!(
        said.err.contains("frame 1: the renderer wrote into it again after reporting it as written"),
        "{}",
        said.err
    );
    assert!(rendered(&project).is_empty());
    assert_eq!(state(&project, "missing"), "1");
}

#[test]
fn a_long_still_goes_on_from_its_newest_checkpoint() {
    let sheet = SMALL
        .replace("\"1-24\"", "7")
        .replace("32x18", "640x360")
        .replace("size = ", "samples = 64\ncheckpoint = { every = \"10ms\", keep = 2 }\nsize = ");
    let whole = Project::with(&sheet);
    whole.say("run").ended(0);
    let name = "renders/crossing/crossing_beauty.0007.png";
    let project = Project::with(&sheet);
    let slots = || -> Vec<String> {
        let all = project.files(".truepath/truepath/checkpoints").into_iter();
        all.filter(|name| name.rsplit('/').next().unwrap().parse::<u64>().is_ok()).collect()
    };
    let mut run = start(&project, &[]);
    until("a third checkpoint", || slots().iter().any(|name| name.ends_with("/3")));
    run.kill().unwrap();
    run.wait().unwrap();
    assert!((1..=3).contains(&slots().len()), "{:?}", slots());
    // The newest slot is torn: the one before it is taken.
    let newest =
        slots().into_iter().max_by_key(|name| name.rsplit('/').next().unwrap().parse::<u64>().unwrap()).unwrap();
    project.write(&format!(".truepath/truepath/checkpoints/{newest}"), "torn");
    let run = start(&project, &[]);
    until("one more checkpoint", || {
        events(&project).iter().filter(|event| matches!(event, Event::Saved(_))).count() > 6
    });
    signal("-INT", run.id());
    let said = Said::from(run.wait_with_output().unwrap());
    assert!(said.code == 130 || project.path(name).exists(), "{said:?}");
    project.say("run").ended(0);
    let logs = project.files(".truepath/truepath/logs").into_iter();
    let logs: String =
        logs.map(|log| std::fs::read_to_string(project.path(".truepath/truepath/logs").join(log)).unwrap()).collect();
    assert!(logs.contains("resumed frame 7 at row "), "{logs}");
    assert_eq!(std::fs::read(project.path(name)).unwrap(), std::fs::read(whole.path(name)).unwrap());
    assert_eq!(slots(), [] as [String; 0], "a frame that has landed needs no checkpoint");
}

#[test]
fn the_order_can_be_spread_and_hopeless_jobs_are_left() {
    let project = Project::with(SMALL);
    project.write("bin/xdg-open", "#!/bin/sh\necho \"$@\" > opened.tmp && mv opened.tmp opened");
    std::fs::set_permissions(project.path("bin/xdg-open"), std::fs::Permissions::from_mode(0o755)).unwrap();
    let path = format!("{}:{}", project.path("bin").display(), std::env::var("PATH").unwrap());
    let words = ["run", "--order", "ends-first", "--events", "--open"];
    let said = Said::from(project.command().args(words).env("PATH", path).output().unwrap()).ended(0).out;
    until("the file manager", || project.path("opened").exists());
    assert!(std::fs::read_to_string(project.path("opened")).unwrap().ends_with("renders/crossing\n"));
    let started = event::read(&said)
        .filter_map(|event| if let Event::Started(call) = event { Some(call.frames.to_string()) } else { None });
    assert_eq!(started.take(3).collect::<Vec<_>>(), ["1", "24", "12"]);
    assert_eq!(rendered(&project), planned(&project));
    let sheet = SMALL
        .replace("chunk = 6", "chunk = 1\nretries = 0")
        .replace("camera = \"quay\"", "camera = \"quay\"\nnative.misbehave = \"exit-zero\"");
    for (words, tried) in [("run", 3..=5), ("run --keep-going", 24..=24)] {
        let project = odd(&sheet);
        let said = project.say(words).ended(3);
        let calls = events(&project).iter().filter(|event| matches!(event, Event::Started(_))).count();
        assert!(tried.contains(&calls), "{words}: {calls} calls\n{}", said.err);
        assert_eq!(said.err.contains("gave up crossing: its first 3 calls produced nothing"), words == "run");
    }
}

#[test]
fn status_tells_from_the_journals_who_does_what() {
    let project = Project::with(&SMALL.replace("32x18", "320x180").replace("1-24", "1-90"));
    assert_eq!(project.say("status --json").ended(1).json()["series"][0]["missing"], "1-90");
    let mut run = start(&project, &["--share"]);
    until("a frame", || rendered(&project).len() > 4);
    let row = project.say("status --json").ended(1).json()["series"][0].clone();
    assert_eq!([&row["series"], &row["job"], &row["pass"]], ["crossing/beauty", "crossing", "beauty"]);
    assert!(row["planned"] == "1-90" && row["running"] != "" && row["at"][0]["worker"] == 1, "{row}");
    let text = project.say("status").ended(1).out;
    assert!(text.contains("running ") && text.contains("worker 1: crossing/beauty"), "{text}");
    run.kill().unwrap();
    run.wait().unwrap();
    let row = project.say("status --json").ended(1).json()["series"][0].clone();
    assert_eq!(row["running"], "", "who is dead does nothing: {row}");
    let said = project.say("status").ended(1).out;
    assert!(said.contains(" of 90 files good. Fix it: truepath run\n"), "{said}");
    project.say("run").ended(0);
    assert!(project.say("status --watch").ended(0).out.ends_with("complete: 90 files as planned\n"));
    let log = project.say("log crossing 8 --json").ended(0).json();
    let calls = log["calls"].as_array().unwrap();
    assert!(calls.iter().all(|call| call["call"].as_str().unwrap().starts_with("crossing_7-12")), "{log}");
    project.say("log nobody").ended(2);
    project.say("status --why 900").ended(2);
}

#[test]
fn whatever_is_lost_under_way_the_next_run_completes() {
    let sheet = SMALL.replace("32x18", "160x90").replace("1-24", "1-60");
    let project = Project::with(&sheet);
    // The stage is taken away while a renderer writes into it.
    let run = start(&project, &[]);
    until("a frame", || rendered(&project).len() > 2);
    // A file that is made in between keeps a folder there for a moment.
    let stage = project.path("renders/.truepath");
    until("the end of the stage", || std::fs::remove_dir_all(&stage).is_ok() || !stage.exists());
    let said = Said::from(run.wait_with_output().unwrap());
    assert!([0, 3, 4].contains(&said.code), "{said:?}");
    project.say("run").ended(0);
    let finals = project.stamps("renders");
    // The end of a journal is torn: only its last line is lost, and nothing is rendered again.
    for name in project.files(".truepath/truepath/journal") {
        let path = project.path(".truepath/truepath/journal").join(name);
        let text = std::fs::read(&path).unwrap();
        std::fs::write(&path, &text[..text.len() - 20]).unwrap();
    }
    let _ = std::fs::remove_file(project.path(".truepath/truepath/pins.json"));
    assert!(project.say("run").ended(0).err.contains("nothing to render"));
    assert_eq!(project.stamps("renders"), finals);
    // The folder of the pictures lies on another file system.
    let other = tempfile::tempdir_in("/dev/shm").unwrap();
    // Another root says that pictures may lie there.
    let root = format!("[roots]\nother = \"{}\"\n", other.path().display());
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-8\"").replace("[roots]\n", &root));
    std::fs::create_dir(project.path("renders")).unwrap();
    std::os::unix::fs::symlink(other.path(), project.path("renders/crossing")).unwrap();
    project.say("run").ended(0);
    assert_eq!(std::fs::read_dir(other.path()).unwrap().count(), 8, "no copy is left half-way");
    project.say("verify").ended(0);
}

/// A small disk of its own, where this user may make one.
struct Disk<'d>(&'d Path);

impl Disk<'_> {
    fn mount(options: &str, path: &Path) -> bool {
        let words = ["-t", "tmpfs", "-o", options, "tmpfs"];
        Command::new("mount").args(words).arg(path).stderr(Stdio::null()).status().is_ok_and(|status| status.success())
    }
}

impl Drop for Disk<'_> {
    fn drop(&mut self) {
        let _ = Command::new("umount").args(["-l".as_ref(), self.0.as_os_str()]).status();
    }
}

#[test]
fn a_full_disk_and_a_folder_that_becomes_read_only_lose_nothing() {
    let sheet =
        SMALL.replace("32x18", "320x180").replace("1-24", "1-40") + "space_wait = \"1s\"\nlog_limit = \"1 MB\"\n";
    let project = Project::with(
        &sheet.replace("type = \"png\"", "type = \"tiff\"").replace("bits = 8", "bits = 8\ncompression = \"none\""),
    );
    let disk = project.path("renders");
    std::fs::create_dir(&disk).unwrap();
    if !Disk::mount("size=4m", &disk) {
        let required = std::env::var("TRUEPATH_REQUIRE").unwrap_or_default();
        assert!(!required.contains("tmpfs"), "a small disk is required and cannot be mounted");
        eprintln!("SKIPPED: this user may not mount a small disk");
        return;
    }
    let _disk = Disk(&disk);
    let said = project.say("run").ended(4);
    let words = format!("the disk of {} is full: ", disk.display());
    assert!(said.err.contains(&words) && said.err.contains("more needed"), "{said:?}");
    assert!(said.err.matches("again crossing").count() < 4, "a full disk is no reason to try frame by frame: {said:?}");
    let whole = |project: &Project| project.say("verify --json").json()["series"][0]["broken"] == "";
    assert!(whole(&project), "nothing half-written bears a final name");
    let remount = |options: &str| {
        let options = format!("remount,{options}");
        assert!(Command::new("mount").args(["-o", &options]).arg(&disk).status().unwrap().success());
    };
    remount("size=30m");
    let there = rendered(&project).len();
    let run = start(&project, &[]);
    until("more frames", || rendered(&project).len() > there + 2);
    // While a file is open for writing this is refused for a moment.
    until("read-only", || {
        Command::new("mount").args(["-o", "remount,ro"]).arg(&disk).stderr(Stdio::null()).status().unwrap().success()
    });
    let said = Said::from(run.wait_with_output().unwrap());
    assert!([3, 4].contains(&said.code) && said.err.contains("Read-only file system"), "{said:?}");
    assert!(whole(&project));
    let said = project.say("run").ended(4);
    assert!(said.err.contains("root-not-writable"), "{}", said.err);
    remount("rw");
    project.say("run").ended(0);
    assert_eq!(rendered(&project), planned(&project));
    project.say("verify").ended(0);
}

#[test]
fn a_try_that_fills_the_disk_by_itself_is_not_made_for_ever() {
    let project = scripted(
        &(SMALL.replace("1-24", "1-3") + "space_wait = \"1s\"\n"),
        "for word; do case $word in beauty=*) out=${word#beauty=};; esac; done\n\
         [ -n \"$out\" ] || exit 0\nhead -c 9000000 /dev/zero > \"$out.scratch\" || { echo full; exit 1; }",
    );
    let disk = project.path("renders");
    std::fs::create_dir(&disk).unwrap();
    if !Disk::mount("size=4m", &disk) {
        eprintln!("SKIPPED: this user may not mount a small disk");
        return;
    }
    let _disk = Disk(&disk);
    let said = project.say("run").ended(3).err;
    assert!(said.contains("the disk of"), "{said}");
}
