//! What a person sees: the block that is drawn over on a terminal, and the tables that answer questions.
#![allow(clippy::unwrap_used)]

mod support;

use std::io::Read;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};
use support::{Project, SMALL, odd};
use truepath_core::catalogue::{AUDIO_CODECS, CODECS, CONTAINERS, PICTURES};
use truepath_core::diagnostic::CHECKS;

const WIDTH: u16 = 72;

/// Starts a command whose standard error is a terminal; gives the terminal's other end, too.
fn on_a_terminal(mut command: Command) -> (Child, std::fs::File) {
    let own = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
    grantpt(&own).unwrap();
    unlockpt(&own).unwrap();
    tcsetwinsize(&own, Winsize { ws_row: 30, ws_col: WIDTH, ws_xpixel: 0, ws_ypixel: 0 }).unwrap();
    let name = ptsname(&own, Vec::new()).unwrap();
    let theirs = std::fs::File::options().read(true).write(true).open(name.to_str().unwrap()).unwrap();
    let child = command.env("LC_ALL", "C").stdin(Stdio::null()).stdout(Stdio::null()).stderr(theirs).spawn().unwrap();
    (child, own.into())
}

/// A terminal as far as it is used: lines that are drawn over and taken away.
#[derive(Default)]
struct Terminal {
    lines: Vec<String>,
    row: usize,
    column: usize,
    /// What stood there each time before something was drawn over.
    pictures: Vec<Vec<String>>,
}

impl Terminal {
    fn print(&mut self, text: &str) {
        let mut rest = text.chars();
        while let Some(sign) = rest.next() {
            while self.lines.len() <= self.row {
                self.lines.push(String::new());
            }
            match sign {
                '\r' => self.column = 0,
                '\n' => (self.row, self.column) = (self.row + 1, 0),
                '\x1b' => {
                    assert_eq!(rest.next(), Some('['), "only CSI sequences");
                    let code = code(&mut rest);
                    let (count, what) = code.split_at(code.len() - 1);
                    match (what, count) {
                        ("A", count) => {
                            self.pictures.push(self.lines.clone());
                            self.row -= count.parse::<usize>().unwrap();
                        }
                        ("K", "2") => self.lines[self.row].clear(),
                        ("G", "") => self.column = 0,
                        ("J", "") => self.lines.truncate(self.row),
                        ("m", _) => {}
                        other => panic!("{other:?} is not understood"),
                    }
                }
                sign => {
                    let line = &mut self.lines[self.row];
                    line.truncate(self.column);
                    line.push(sign);
                    self.column = line.len();
                }
            }
        }
    }
}

/// The rest of a control sequence: its numbers, and the letter that ends it.
fn code(rest: &mut std::str::Chars<'_>) -> String {
    let mut code = String::new();
    for sign in rest {
        code.push(sign);
        if sign.is_ascii_alphabetic() {
            break;
        }
    }
    code
}

/// Follows a run on a terminal to its end: every picture of it, and the last one.
fn watched(project: &Project, words: &[&str]) -> (Vec<Vec<String>>, Vec<String>, i32) {
    let mut command = project.command();
    command.args(words);
    let (mut child, mut end) = on_a_terminal(command);
    let (mut terminal, mut bytes, mut said) = (Terminal::default(), [0; 4096], Vec::new());
    // A terminal that everybody has left cannot be read.
    while let Ok(count) = end.read(&mut bytes)
        && count > 0
    {
        said.extend_from_slice(&bytes[..count]);
    }
    terminal.print(&String::from_utf8(said).unwrap());
    let code = child.wait().unwrap().code().unwrap();
    (terminal.pictures, terminal.lines, code)
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
    let is_block = |line: &&String| line.contains('\u{2501}') || line.contains("\u{2500}\u{2500}");
    let drawn: Vec<&Vec<String>> = pictures.iter().filter(|lines| lines.iter().any(|line| is_block(&line))).collect();
    assert!(drawn.len() > 2, "{pictures:#?}");
    for lines in &pictures {
        assert!(lines.iter().filter(is_block).count() <= 1, "two blocks: {lines:#?}");
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
        drawn.iter().any(|lines| lines.iter().any(|line| line.contains("  !  "))),
        "what failed is in the block: {drawn:#?}"
    );
    // In the end the block is gone; what failed and what is next stand there.
    assert!(!last.iter().any(|line| is_block(&line)), "{last:#?}");
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
    let exr = "name              exr\ntitle             OpenEXR\nextensions        exr\nbits              half, float\n\
        channels          grey, grey-alpha, rgb, rgba\nlayers            yes\n\
        compressions      none, rle, zips, zip, piz, pxr24, b44, b44a, dwaa, dwab\nquality           no\nlossy             no\n\
        meant for         linear\nlargest           2147483647\nsource            OpenEXR file layout, version 2\n";
    assert_eq!(project.say("types EXR").ended(0).out, exr);
    // An extension leads to its type, and a slip of the pen to the name.
    assert!(project.say("types jpg").ended(0).out.contains("name              jpeg\n"));
    assert!(project.say("types prorez").ended(2).err.contains("help: write prores\n"));
    assert!(project.say("types nothing-like-it").ended(2).err.contains("`truepath types` lists them all"));
}

#[test]
fn every_check_explains_itself() {
    let project = Project::with("");
    let list = project.say("explain").ended(0).out;
    let pages = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/checks");
    for check in CHECKS {
        let row = list.lines().find(|line| line.split_whitespace().next() == Some(check.slug)).unwrap();
        assert!(row.contains(check.level.name()) && row.ends_with(check.summary), "{row}");
        assert_eq!(row.contains(" fix "), check.fixes, "{row}");
        let page = std::fs::read_to_string(pages.join(format!("{}.md", check.slug))).unwrap();
        assert_eq!(project.call(&["explain", check.slug]).ended(0).out, page);
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
