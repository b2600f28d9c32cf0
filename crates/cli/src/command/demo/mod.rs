//! `demo`: writes the demo project and takes it through the whole way, narrating each step.

use std::path::Path;
use std::process::Command;

use truepath_core::invoke::quote::sh;
use truepath_understudy::harbour;

use crate::args::DemoArgs;
use crate::pipeline::load::SHEET;
use truepath_exec::disk;
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{Deliveries, Kind, Over};

use crate::exit_code::Exit;
use crate::lower::Around;
use crate::show::{self, paint};

/// The demo's sheet.
const TEXT: &str = include_str!("truepath.toml");

/// What goes wrong in the sheet that shows mistakes: text, and what stands there instead.
const MISTAKES: [(&str, &str); 3] = [
    ("{shot}_{camera}_{pass}_{version}.{frame:4}.{ext}", "{shot}_{camera}_{pass}_{version}.{ext}"),
    ("camera = \"cliff\"", "camera = \"clif\""),
    ("type = \"png\"\nbits = 8\nchannels = \"rgb\"", "type = \"jpeg\"\nbits = 8\nchannels = \"rgba\""),
];

/// The name of that sheet.
const MISTAKEN: &str = "mistakes.toml";

/// Writes the project and walks through it. The commands it shows are really run.
pub fn run(args: &DemoArgs, around: &Around) -> Result<Exit, Failure> {
    let folder = &args.folder;
    write_project(folder)?;
    let folder = std::fs::canonicalize(folder).map_err(|error| Failure::machine("find", folder, &error))?;
    let walk = Walk { folder: &folder, around };
    walk.say("The project", &format!("A sheet, {SHEET}, and three scenes are now in {}.", folder.display()))?;
    walk.say("The names", "What will be written, before anything is rendered:")?;
    walk.step(&["names"], Exit::Well)?;
    walk.say("The check", "Find mistakes before anything is rendered:")?;
    walk.step(&["check"], Exit::Well)?;
    walk.say("Three mistakes", &format!("{MISTAKEN} is the same sheet with three typical mistakes:"))?;
    walk.step(&["check", "-f", MISTAKEN], Exit::No)?;
    walk.say("A script", "The command lines, for machines that have only a shell:")?;
    walk.step(&["build", "--to", "sh", "-o", "render.sh"], Exit::Well)?;
    walk.show_call(&folder.join("render.sh"))?;
    walk.say("A draft", "A mode changes every job for one command. Drafts have names of their own:")?;
    walk.step(&["run", "--mode", "draft", "lighthouse"], Exit::Well)?;
    walk.say(
        "The run",
        "Every frame is rendered beside its place, checked, and only then given its name. Movies are made last:",
    )?;
    walk.step(&["run", "--workers", "2"], Exit::Well)?;
    walk.say("The state", "Every series and movie, with the time that it took:")?;
    walk.step(&["status"], Exit::Well)?;
    walk.say("The log", "What the renderer printed for one job:")?;
    walk.step(&["log", "lighthouse"], Exit::Well)?;
    walk.say("One file", "Which job, pass, version and frame it belongs to:")?;
    walk.step(&["whose", "renders/nf020/v001/beauty/nf020_cliff_beauty_v001.0024.exr"], Exit::Well)?;
    walk.say("The proof", "Compare the files on disk with the plan:")?;
    walk.step(&["verify"], Exit::Well)?;
    walk.say("A movie", "From any pictures, also without a sheet:")?;
    let pictures = "renders/nf030/v001/beauty/nf030_pier_beauty_v001.{frame:4}.png";
    walk.step(&["movie", pictures, "--fps", "24", "-o", "arrival.mp4", "--replace"], Exit::Well)?;
    walk.say("The look", "Every pass of every job in one picture, and the whole night on one page for a browser:")?;
    walk.step(&["contact", "-o", "contact.png", "--replace"], Exit::Well)?;
    walk.step(&["report", "-o", "report.html"], Exit::Well)?;
    let made = folder.display();
    let next = format!(
        "Movies: {made}/renders/review. Contact sheet: {made}/contact.png. Page: {made}/report.html.\n\
         Try it: cd {}, delete a frame or cut one in half, then `truepath verify` and `truepath run`.\n\
         For your own scenes: `truepath new` in the folder of a scene.",
        sh::word(&args.folder.display().to_string())
    );
    walk.say("What next", &next)?;
    Ok(Exit::Well)
}

/// Writes sheets and scenes; a folder that holds anything else is left alone.
fn write_project(folder: &Path) -> Result<(), Failure> {
    let sheet = folder.join(SHEET);
    let known = std::fs::read_to_string(&sheet).is_ok_and(|text| text == TEXT);
    let empty = std::fs::read_dir(folder).map_or(true, |mut entries| entries.next().is_none());
    if !known && !empty {
        return Err(Failure::unreadable(format!("{} exists and is not the demo project", folder.display()))
            .help("choose another folder: truepath demo DIR"));
    }
    let write = |path: &Path, bytes: &[u8]| {
        // What an earlier demo wrote is there still; what somebody has changed since is theirs.
        if disk::read(path, disk::MOST_TEXT).is_ok_and(|there| there == bytes) {
            return Ok(());
        }
        let made = path.parent().map_or(Ok(()), std::fs::create_dir_all);
        made.map_err(|error| Failure::machine("make a folder for", path, &error))?;
        Deliveries::default().open(path, (Kind::Text, Over::Never))?.write(bytes)
    };
    for (name, bytes) in harbour::scenes() {
        write(&folder.join("scenes").join(name), &bytes)?;
    }
    let mistaken = MISTAKES.iter().fold(TEXT.to_owned(), |text, (right, wrong)| text.replacen(right, wrong, 1));
    write(&folder.join(MISTAKEN), mistaken.as_bytes())?;
    write(&sheet, TEXT.as_bytes())
}

struct Walk<'w> {
    folder: &'w Path,
    around: &'w Around,
}

impl Walk<'_> {
    fn say(&self, title: &str, text: &str) -> Result<(), Failure> {
        show::print(&format!("\n{}\n{text}\n", paint(self.around.out, show::HEAD, format!("== {title}"))))
    }

    /// Shows the first renderer call of a script.
    fn show_call(&self, script: &Path) -> Result<(), Failure> {
        let text = std::fs::read_to_string(script).map_err(|error| Failure::machine("read", script, &error))?;
        let call = text.lines().find_map(|line| Some(line.split_once("; render ")?.1)).unwrap_or_default();
        // One option a line: the whole is wider than any terminal.
        let call = call.replace(" --", " \\\n    --");
        show::print(&format!("Its first call:\n  {}\n", paint(self.around.out, show::QUIET, call)))
    }

    /// Shows a command and runs it.
    fn step(&self, words: &[&str], expected: Exit) -> Result<(), Failure> {
        show::print(&format!(
            "\n{}\n",
            paint(
                self.around.out,
                show::GOOD,
                format!("$ truepath {}", words.iter().map(|word| sh::word(word)).collect::<Vec<_>>().join(" "))
            )
        ))?;
        let status = Command::new(&self.around.program).args(words).current_dir(self.folder).status();
        let status = status.map_err(|error| Failure::machine("start", &self.around.program, &error))?;
        if status.code() == Some(expected as i32) {
            return Ok(());
        }
        let message = format!(
            "`truepath {}` should have ended with {} and ended with {status}",
            words.join(" "),
            expected as i32
        );
        let cause = if status.code() == Some(130) { Cause::Interrupted } else { Cause::Program };
        Err(Failure::new(cause, message).help(format!("the project is in {}", self.folder.display())))
    }
}
