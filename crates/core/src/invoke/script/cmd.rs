//! A batch file for cmd that renders a plan, as the POSIX script does. Lines end as Windows wants them.
//!
//! Everything stands in the line itself and nothing is handed through `call`, which would read each word a second time.

use std::fmt::Write as _;

use crate::invoke::command_line::{CommandLine, stages};
use crate::invoke::quote::cmd::word;
use crate::invoke::written::Spelt;
use crate::plan::Plan;
use crate::resolve::paths;
use crate::template::{Part, Template};
use crate::threads::{Threads, map};

use super::{BasePath, Body, Script, bases, in_pieces};

/// The longest line that cmd reads (Microsoft, "Command prompt line string limitation").
pub const LONGEST: usize = 8191;

/// The whole script.
///
/// # Errors
/// In words, what cannot be said to cmd: a control character in a value, or a line that is too long.
pub fn script(plan: &Plan, steps: &[CommandLine], wish: &Script, threads: &dyn Threads) -> Result<String, String> {
    let bases = bases(plan, steps);
    let writer = Writer { plan, bases: &bases, keep_going: wish.keep_going };
    let mut out = "@echo off\n".to_owned();
    for line in super::head(plan, steps) {
        let _ = writeln!(out, "rem {}", line.replace('%', "%%"));
    }
    out.push_str("setlocal EnableExtensions DisableDelayedExpansion\nchcp 65001 >nul\n\n");
    for BasePath { name, path } in &bases {
        let _ = writeln!(out, "set \"{name}={}\"", inner(path)?);
    }
    let home = writer.path(&plan.home.folder)?;
    let _ =
        writeln!(out, "set \"total={}\"\nset \"failed=0\"\nif not exist {home} exit /b 4\ncd /d {home}", steps.len());
    for folder in super::folders(plan, steps) {
        out.push_str(&writer.folder(&folder)?);
    }
    let numbered: Vec<(usize, &CommandLine)> = (1..).zip(steps).collect();
    let parts = map(threads, &numbered, |(number, step)| {
        let mut part = String::new();
        writer.step(&mut part, *number, step).map(|()| part)
    });
    let parts: Vec<String> = parts.into_iter().collect::<Result<_, String>>()?;
    parts.iter().for_each(|part| out.push_str(part));
    out.push_str("\n:finish\nset \"outcome=complete\"\nif not \"%failed%\"==\"0\" set \"outcome=incomplete\"\n");
    for command in &plan.run.after {
        let words = command.iter().map(after_word).collect::<Result<Vec<_>, _>>()?;
        let _ = writeln!(out, "call {}", words.join(" "));
    }
    if wish.pause {
        out.push_str("pause\n");
    }
    out.push_str("exit /b %failed%\n");
    if let Some(line) = out.lines().find(|line| line.len() > LONGEST) {
        let start: String = line.chars().take(60).collect();
        return Err(format!("a line is longer than the {LONGEST} characters that cmd reads: {start}..."));
    }
    Ok(out.replace('\n', "\r\n"))
}

/// Text between the quotes of `set "NAME=..."`.
fn inner(text: &str) -> Result<String, String> {
    if text.contains(['\n', '\r', '\0', '"']) { Err(unsaid(text)) } else { Ok(text.replace('%', "%%")) }
}

fn unsaid(text: &str) -> String {
    format!("cmd has no way to say \"{}\"", text.escape_debug())
}

struct Writer<'w> {
    plan: &'w Plan,
    bases: &'w [BasePath],
    keep_going: bool,
}

impl Writer<'_> {
    /// One word in which base folders are named by their variables. Between quotes their values mean nothing to cmd; a word
    /// with quotes of its own is written out.
    fn word(&self, text: &str) -> Result<String, String> {
        let pieces = in_pieces(text, self.bases);
        if text.contains('"') || !pieces.iter().any(|piece| matches!(piece, Body::BasePath(_))) {
            return word(text).ok_or_else(|| unsaid(text));
        }
        let mut out = "\"".to_owned();
        for piece in pieces {
            match piece {
                Body::Text(text) => out.push_str(&inner(text)?),
                Body::BasePath(base) => {
                    let _ = write!(out, "%{}%", base.name);
                }
            }
        }
        let slashes = text.chars().rev().take_while(|c| *c == '\\').count();
        Ok(format!("{out}{}\"", "\\".repeat(slashes)))
    }

    /// Makes a folder.
    fn folder(&self, folder: &str) -> Result<String, String> {
        let folder = self.path(folder)?;
        Ok(format!("if not exist {folder} mkdir {folder}\nif not exist {folder} exit /b 4\n"))
    }

    /// A file name for cmd's own commands.
    fn path(&self, text: &str) -> Result<String, String> {
        let mut out = "\"".to_owned();
        for piece in in_pieces(text, self.bases) {
            match piece {
                Body::Text(text) => out.push_str(&inner(&text.replace('/', "\\"))?),
                // Its value stands at the head as it is; cmd's commands want it with backslashes.
                Body::BasePath(base) => {
                    let _ = write!(out, "%{}:/=\\%", base.name);
                }
            }
        }
        Ok(format!("{out}\""))
    }

    fn step(&self, out: &mut String, at: usize, step: &CommandLine) -> Result<(), String> {
        let title = format!("{} {} frames {}", step.job, step.passes.join(" "), step.frames);
        let _ = writeln!(out, "\nrem {}", title.replace('%', "%%"));
        for stage in stages(step) {
            out.push_str(&self.folder(stage)?);
        }
        let log = self.path(&step.log)?;
        let _ = writeln!(out, "echo [{at} of %total%] {}.log\nset \"lacking=0\"\nsetlocal", step.id);
        for (name, value) in &step.env {
            let _ = writeln!(out, "set \"{name}={}\"", inner(value)?);
        }
        let program = match self.bases.iter().find(|base| base.path == step.program) {
            Some(base) => format!("\"%{}%\"", base.name),
            None => self.word(&step.program)?,
        };
        // A batch file called without `call` would never come back.
        let batch = [".bat", ".cmd"].iter().any(|end| step.program.to_ascii_lowercase().ends_with(end));
        let words = step.arguments.iter().map(|argument| self.word(argument)).collect::<Result<Vec<_>, _>>()?;
        let call = if batch { "call " } else { "" };
        let _ = writeln!(out, "{call}{program} {} >{log} 2>&1", words.join(" "));
        let _ = writeln!(out, "endlocal & set \"code=%errorlevel%\"\ntype {log}");
        for write in &step.writes {
            let series = &self.plan.series[write.series];
            let stage = self.path(&write.stage)?;
            let open = stage.trim_end_matches('"');
            for frame in step.frames.iter() {
                let staged = write.expected.spellings(frame);
                let staged = staged
                    .iter()
                    .map(|spelling| Ok(format!("{open}\\{}\"", inner(&glob(spelling).replace('/', "\\"))?)));
                self.land(out, &series.name(frame), &staged.collect::<Result<Vec<_>, String>>()?)?;
            }
            let _ = writeln!(out, "rmdir {stage} 2>nul");
        }
        if step.writes.is_empty() && step.product.is_none() {
            out.push_str("if not \"%code%\"==\"0\" set \"lacking=1\"\n");
        }
        if let Some(product) = &step.product {
            self.land(out, &product.path, &[self.path(&product.staged)?])?;
            let _ = writeln!(out, "rmdir {} 2>nul", self.path(paths::parent(&product.staged))?);
        }
        let _ = writeln!(
            out,
            "if not \"%lacking%\"==\"0\" echo failed with exit code %code%, %lacking% missing: see {log}>&2"
        );
        let _ = writeln!(out, "if not \"%lacking%\"==\"0\" set \"failed=3\"");
        let _ = writeln!(
            out,
            "if \"%lacking%\"==\"0\" if not \"%code%\"==\"0\" echo note: all files are there, and the exit code was %code%: see {log}>&2"
        );
        if !self.keep_going {
            out.push_str("if not \"%failed%\"==\"0\" goto finish\n");
        }
        Ok(())
    }

    /// Moves the first of some staged files that is there and not empty.
    fn land(&self, out: &mut String, target: &str, staged: &[String]) -> Result<(), String> {
        let target = self.path(target)?;
        // The size with a zero behind it: of a file that is not there "0", of an empty one "00".
        let _ = writeln!(
            out,
            "set \"found=\"\nfor %%f in ({}) do if not defined found if not \"%%~zf0\"==\"0\" if not \"%%~zf0\"==\"00\" set \"found=%%~f\"",
            staged.join(" ")
        );
        let _ = writeln!(
            out,
            "if defined found move /y \"%found%\" {target} >nul\nif defined found if exist \"%found%\" set \"failed=4\"\n\
             if not defined found echo missing: {target}>&2\nif not defined found set /a lacking+=1 >nul"
        );
        Ok(())
    }
}

fn glob(spelling: &[Spelt]) -> String {
    let piece = |piece: &Spelt| match piece {
        Spelt::Text(text) => text.clone(),
        Spelt::Frame(_) | Spelt::Any => "*".to_owned(),
    };
    spelling.iter().map(piece).collect()
}

/// A word of a command that runs at the end; `{outcome}` is known only then.
fn after_word(template: &Template) -> Result<String, String> {
    let of_part = |part: &Part| match part {
        Part::Text(text) => word(text).ok_or_else(|| unsaid(text)),
        Part::Token(_) => Ok("%outcome%".to_owned()),
    };
    template.parts().iter().map(of_part).collect()
}
