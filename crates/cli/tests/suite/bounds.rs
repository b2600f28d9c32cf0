//! A slip or a hostile file fills neither time nor memory nor a disk, and what is strange around the program is named.

use std::process::Command;

use crate::support::{Project, SMALL, Said, has, rendered};

/// Kilobytes of memory that a call may ask for: below what any of the traps would take.
const MEMORY: u64 = 1_500_000;

/// The program with bounded memory, and with variables of its environment.
fn bounded(project: &Project, words: &str, env: &[(&str, &str)]) -> Said {
    let own = project.command();
    let mut command = Command::new("sh");
    command.arg("-c").arg(format!("ulimit -v {MEMORY}; exec \"$0\" {words}")).arg(own.get_program());
    command.current_dir(project.path("")).env("NO_COLOR", "1").env("XDG_CONFIG_HOME", project.path("config"));
    command.envs(env.iter().copied());
    let said = Said::from(command.output().unwrap());
    assert!(said.code >= 0 && !said.err.contains("bug in True Path"), "{words}: {said:?}");
    said
}

/// A PNG of a size whose pixels are not there: head and end are (PNG, 11.2 and 11.3).
fn claims(width: u32, height: u32) -> Vec<u8> {
    let mut bytes = b"\x89PNG\r\n\x1a\n".to_vec();
    // As many zeros as it says, as one block over and over (RFC 1951); the sum at the end is not theirs.
    let mut packing = flate2::Compress::new(flate2::Compression::best(), false);
    let row = vec![0; width as usize + 1];
    let mut block = Vec::with_capacity(row.len());
    packing.compress_vec(&row, &mut block, flate2::FlushCompress::Full).unwrap();
    let mut packed = vec![0x78, 0x9c];
    packed.extend(block.repeat(height as usize));
    packed.extend([3, 0, 0, 0, 0, 1]);
    let data = [width.to_be_bytes(), height.to_be_bytes()].concat();
    let head = [data, vec![8, 0, 0, 0, 0]].concat();
    for (kind, data) in [(b"IHDR", head), (b"IDAT", packed), (b"IEND", Vec::new())] {
        let body = [kind.to_vec(), data].concat();
        let mut sum = flate2::Crc::new();
        sum.update(&body);
        bytes.extend(u32::try_from(body.len() - 4).unwrap().to_be_bytes());
        bytes.extend(&body);
        bytes.extend(sum.sum().to_be_bytes());
    }
    bytes
}

#[test]
fn a_picture_that_is_too_large_to_unpack_is_named() {
    let project = Project::with(
        &SMALL
            .replace("1-24", "1-2")
            .replace("32x18", "60000x33000")
            .replace("channels = \"rgb\"", "channels = \"grey\""),
    );
    for frame in [1, 2] {
        project.write(&format!("renders/crossing/crossing_beauty.{frame:04}.png"), claims(60_000, 33_000));
    }
    let pattern = "'renders/crossing/crossing_beauty.{frame:4}.png'";
    let deep = bounded(&project, "verify --deep --json", &[]).json();
    assert_eq!((&deep["series"][0]["broken"], &deep["series"][0]["unproven"]), (&"".into(), &"1-2".into()), "{deep}");
    for (words, codes) in [
        ("verify --deep".to_owned(), vec![0, 1]),
        (format!("verify {pattern} --deep"), vec![0, 1]),
        ("contact -o c.png --replace".to_owned(), vec![0, 1]),
        (format!("movie {pattern} --fps 24 -o m.avi"), vec![3]),
        (format!("compare {pattern} {pattern}"), vec![0, 1]),
        ("report -o r.html --replace".to_owned(), vec![0, 1]),
    ] {
        let said = bounded(&project, &words, &[]);
        assert!(codes.contains(&said.code), "{words}: {said:?}");
    }
    let said = bounded(&project, &format!("movie {pattern} --fps 24 -o m.avi"), &[]);
    assert!(said.err.contains("60000x33000 pixels take") && said.err.contains("too many"), "{said:?}");
}

#[test]
fn a_slip_in_a_range_is_answered_at_once() {
    let project = Project::with(&SMALL.replace("1-24", "1-2000000000"));
    for words in ["report -o r.html", "contact -o c.png", "estimate"] {
        let said = bounded(&project, words, &[]);
        assert!(said.code == 1 && said.err.contains("2000000000 files"), "{words}: {said:?}");
    }
    for words in ["names", "status", "verify", "check"] {
        let said = bounded(&project, words, &[]);
        assert!([0, 1].contains(&said.code), "{words}: {said:?}");
    }
}

#[test]
fn what_is_strange_around_the_program_is_named() {
    let project = Project::with(SMALL);
    for (env, word) in [
        (("TZ", "/dev/zero"), "TZ is /dev/zero"),
        (("TZ", ":/dev/zero"), "TZ is /dev/zero"),
        (("TZ", "/nowhere"), "TZ is /nowhere"),
        (("TRUEPATH_COMPLETE", "bash"), "TRUEPATH_COMPLETE is set to bash"),
        (("TRUEPATH_COMPLETE", "nonsense"), "TRUEPATH_COMPLETE is set to nonsense"),
    ] {
        for words in ["names", "status", "run"] {
            let said = bounded(&project, words, &[env]);
            assert!(
                said.code == 2 && said.out.is_empty() && said.err.contains(word) && said.err.contains("unset"),
                "{env:?} {words}: {said:?}"
            );
        }
    }
    for zone in ["UTC", "Europe/Lisbon", "EST5EDT", ""] {
        bounded(&project, "names", &[("TZ", zone)]).ended(0);
    }
    for words in ["run --workers 0", "run --workers 1000000", "run --workers many", "parcel render x --workers 0"] {
        let said = bounded(&project, words, &[]);
        assert!(said.code == 2 && said.err.contains("a whole number from 1 to 1024"), "{words}: {said:?}");
    }
    project.write("truepath.toml", SMALL.to_owned() + "workers = 1000000\n");
    let said = project.say("check").ended(1).out;
    assert!(said.contains("`workers` must be a whole number from 1 to 1024"), "{said}");
    project.write("truepath.toml", SMALL);
    project.write("config/truepath/config.toml", "workers = 1000000\n");
    assert!(project.say("check").ended(1).out.contains("from 1 to 1024"));
}

#[test]
fn usd_that_is_nested_without_end_is_refused_by_name() {
    let project = Project::with(SMALL);
    let nested = |deep: usize| {
        let open: String = (0..deep).map(|at| format!("def Xform \"p{at}\" {{\n")).collect();
        format!("#usda 1.0\n(\n)\n{open}def Camera \"quay\" {{ }}\n{}", "}\n".repeat(deep))
    };
    project.write("scenes/flat.usda", nested(400));
    assert!(project.say("scene scenes/flat.usda").ended(0).out.contains("quay"));
    project.write("scenes/deep.usda", nested(400_000));
    let said = bounded(&project, "scene scenes/deep.usda", &[]);
    assert!(said.code == 1 && format!("{said:?}").contains("more than 512 deep"), "{said:?}");
}

#[test]
fn the_log_of_a_script_is_bounded_as_that_of_a_run() {
    for shell in ["sh", "bash", "dash", "zsh"].into_iter().filter(|shell| *shell == "sh" || has(shell)) {
        let sheet = SMALL.replace("\"1-24\"", "\"1-1\"").replace("\"understudy\"", "\"talk\"");
        let project = Project::with(&(sheet + "log_limit = \"300 kB\"\n"));
        project.script("talk", "echo FIRST; yes line | head -c 20000000; echo; echo LAST; exit 7\n");
        project.say("build -o r.sh").ended(0);
        let said = Said::from(Command::new(shell).arg(project.path("r.sh")).output().unwrap()).ended(3);
        assert!(said.out.len() > 19_000_000, "the screen gets all of it");
        let logs = project.files(".truepath/truepath/logs");
        assert_eq!(logs.len(), 1, "{logs:?}");
        let log = std::fs::read_to_string(project.path(".truepath/truepath/logs").join(logs.first().unwrap())).unwrap();
        assert!(log.len() < 400_000, "{shell}: {}", log.len());
        assert!(
            log.starts_with("FIRST") && log.trim_end().ends_with("LAST") && log.contains("bytes are left out here"),
            "{shell}"
        );
        // A short log is whole, and another start has a log of its own.
        project.script("talk", "echo FIRST; echo LAST; exit 7\n");
        Command::new(shell).arg(project.path("r.sh")).output().unwrap();
        let of_both = project.files(".truepath/truepath/logs");
        assert_eq!(of_both.len(), 2, "{of_both:?}");
        let second = of_both.difference(&logs).next().unwrap();
        let log = std::fs::read_to_string(project.path(".truepath/truepath/logs").join(second)).unwrap();
        assert_eq!(log, "FIRST\nLAST\n", "{shell}");
    }
}

#[test]
fn a_project_in_a_folder_with_braces_makes_its_movies() {
    let outer = Project::with("");
    let sheet = SMALL.replace("1-24", "1-3").replace(
        "[checks]",
        "[[movie]]\nname = \"reel\"\nof = \"crossing\"\nformat = \"reel\"\npath = \"{renders}/reel.{ext}\"\n\n[formats.reel]\ntype = \"avi\"\n\n[checks]",
    );
    let folder = "shot {A} {frame:4}";
    outer.write(&format!("{folder}/truepath.toml"), sheet);
    for name in outer.files("scenes") {
        outer.write(&format!("{folder}/scenes/{name}"), std::fs::read(outer.path("scenes").join(&name)).unwrap());
    }
    let call = |words: &str| {
        let output = outer.command().current_dir(outer.path(folder)).args(words.split(' ')).output().unwrap();
        Said::from(output)
    };
    call("run").ended(0);
    assert!(outer.path(folder).join("renders/reel.avi").exists());
    call("verify --deep").ended(0);
    // By a script as well.
    std::fs::remove_dir_all(outer.path(folder).join("renders")).unwrap();
    call("build -o r.sh").ended(0);
    Said::from(Command::new("sh").arg(outer.path(folder).join("r.sh")).output().unwrap()).ended(0);
    call("verify").ended(0);
    assert!(rendered(&outer).is_empty());
}
