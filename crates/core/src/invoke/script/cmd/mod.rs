//! A batch file for cmd that renders a plan, as the POSIX script does. Lines end as Windows wants them.
//!
//! Everything stands in the line itself and nothing is handed through `call`, which would read each word a second time.

mod journal;
mod landing;

use std::collections::BTreeSet;
use std::fmt::Write as _;

use crate::adapter::Language;
use crate::flaw::Flaw;
use crate::invoke::command_line::{CallKind, CommandLine, Product, stages};
use crate::invoke::quote::cmd::{assigned, word};
use crate::invoke::written_file::FileText;
use crate::plan::Plan;
use crate::resolve::paths;
use crate::sheet::System;
use crate::template::{Part, Template};
use crate::threads::{Threads, map};

use self::journal::{LINES, line, percent};
use super::lines::{LineRow, ScriptLine};
use super::target::Target;
use super::{BasePath, Body, Found, PARTS, PRODUCTS, Script, bases, has_products, in_pieces, in_text, json};

/// The longest line that cmd reads (Microsoft, "Command prompt line string limitation").
pub const LONGEST: usize = 8191;

/// What stands before each line at the end of the script that is one for the journal: for cmd it is a remark. It goes with
/// the line into the journal, since cmd copies lines of a file only whole.
const SERIES: &str = "::";

/// The whole script.
///
fn script(plan: &Plan, steps: &[CommandLine], wish: &Script<'_>, threads: &dyn Threads) -> Result<String, Flaw> {
    let bases = bases(plan, steps);
    let writer = CmdWriter { plan, bases: &bases, wish };
    let mut out = "@echo off\n".to_owned();
    for line in super::head(plan, steps) {
        let _ = writeln!(out, "rem {}", line.replace('%', "%%"));
    }
    out.push_str("rem Started again, it renders what is not there yet; with --again, everything.\n");
    out.push_str("setlocal EnableExtensions DisableDelayedExpansion\nchcp 65001 >nul\n\n");
    for base in &bases {
        let name = &base.name;
        let _ = match base.found(plan, wish.portable) {
            Found::Here => writeln!(out, "for %%I in (\"%~dp0.\") do set \"{name}=%%~fI\""),
            Found::Below(rest) => writeln!(out, "set \"{name}=%home%/{}\"", inner(rest)?),
            Found::There(path) => writeln!(out, "set \"{name}={}\"", inner(path)?),
        };
    }
    writer.begin(&mut out, steps)?;
    let numbered: Vec<(usize, &CommandLine)> = (1..).zip(steps).collect();
    let parts = map(threads, &numbered, |(number, step)| {
        let mut part = String::new();
        writer.step(&mut part, *number, step).map(|()| part)
    });
    let parts: Vec<String> = parts.into_iter().collect::<Result<_, Flaw>>()?;
    parts.iter().for_each(|part| out.push_str(part));
    writer.end(&mut out, steps)?;
    if let Some(line) = out.lines().find(|line| line.len() > LONGEST && !line.starts_with(SERIES)) {
        let start: String = line.chars().take(60).collect();
        return Err(format!("a line is longer than the {LONGEST} characters that cmd reads: {start}...").into());
    }
    Ok(out.replace('\n', "\r\n"))
}

/// Text between the quotes of `set "NAME=..."`.
fn inner(text: &str) -> Result<String, Flaw> {
    if text.contains(['\n', '\r', '\0', '"']) { Err(unsaid(text)) } else { Ok(text.replace('%', "%%")) }
}

fn unsaid(text: &str) -> Flaw {
    Flaw::new(format!("cmd has no way to say \"{}\"", text.escape_debug()))
}

/// The command prompt of Windows.
#[derive(Debug)]
pub struct Cmd;

impl Target for Cmd {
    fn name(&self) -> &'static str {
        "cmd"
    }

    fn extension(&self) -> &'static str {
        "cmd"
    }

    fn system(&self) -> Option<System> {
        Some(System::Windows)
    }

    fn longest(&self) -> usize {
        // A line holds more than the call itself.
        LONGEST - 700
    }

    fn lines(&self) -> &'static [LineRow] {
        LINES
    }

    fn script(
        &self,
        plan: &Plan,
        steps: &[CommandLine],
        wish: &Script<'_>,
        threads: &dyn Threads,
    ) -> Result<String, Flaw> {
        script(plan, steps, wish, threads)
    }
}

struct CmdWriter<'w> {
    plan: &'w Plan,
    bases: &'w [BasePath],
    wish: &'w Script<'w>,
}

impl CmdWriter<'_> {
    fn stages(&self) -> impl Iterator<Item = &str> {
        self.bases.iter().map(|base| base.name.as_str()).filter(|name| name.starts_with("stage_"))
    }

    /// Counters, a stage folder of this start's own, and a journal.
    fn begin(&self, out: &mut String, steps: &[CommandLine]) -> Result<(), Flaw> {
        let home = self.path(&self.plan.home.folder)?;
        let _ = write!(
            out,
            "set \"total={}\"\nset \"planned={}\"\nset \"turn={}\"\n\
             set \"failed=0\"\nset \"there=0\"\nset \"made=0\"\nset \"again=\"\nif \"%~1\"==\"--again\" set \"again=yes\"\n\
             if not \"%~1\"==\"\" if not defined again echo usage: %~nx0 [--again]>&2\n\
             if not \"%~1\"==\"\" if not defined again exit /b 2\n\
             set \"start=script-%computername%-%random%%random%\"\nif not exist {home} exit /b 4\ncd /d {home}\n",
            steps.len(),
            super::planned(steps),
            self.wish.turn
        );
        for stage in self.stages() {
            let _ = writeln!(out, "set \"base_{stage}=%{stage}:/=\\%\"\nset \"{stage}=%{stage}%/%start%\"");
        }
        if has_products(self.bases) {
            let _ = writeln!(out, "set \"{PRODUCTS}=%{PRODUCTS}%/%start%\"\nset \"{PARTS}=%{PRODUCTS}%/.part\"");
        }
        for folder in super::folders(self.plan, steps) {
            out.push_str(&self.folder(&folder)?);
        }
        if super::planned(steps) > 0 {
            let _ = write!(
                out,
                "set \"journals=%logs:/=\\%\\..\\journal\"\nif not exist \"%journals%\" mkdir \"%journals%\"\n\
                 set \"journal=%journals%\\%start%.jsonl\"\n\
                 for /f \"tokens=6 delims=:,\" %%t in ('type \"%journals%\\*.jsonl\" 2^>nul ^| findstr /b \"{{.event.:.began\"') do if %%t geq %turn% set \"turn=%%t\"\n\
                 set /a turn+=1 >nul\n\
                 >\"%journal%\" echo {}\n\
                 findstr /b /c:\"{SERIES}{{\" \"%~f0\" >>\"%journal%\"\n",
                line(ScriptLine::Began, &[])
            );
        }
        Ok(())
    }

    fn end(&self, out: &mut String, steps: &[CommandLine]) -> Result<(), Flaw> {
        out.push_str("\n:finish\nset \"outcome=complete\"\nif not \"%failed%\"==\"0\" set \"outcome=incomplete\"\n");
        for stage in self.stages() {
            // A folder that is not empty stays.
            for folder in [
                format!("%{stage}:/=\\%"),
                format!("%base_{stage}%"),
                format!("%base_{stage}%\\.."),
                format!("%base_{stage}%\\..\\.."),
            ] {
                let _ = writeln!(out, "rmdir \"{folder}\" 2>nul");
            }
        }
        if has_products(self.bases) {
            let _ = writeln!(out, "rmdir /s /q \"%{PRODUCTS}:/=\\%\" 2>nul");
        }
        if super::planned(steps) > 0 {
            out.push_str("set /a absent=planned-there >nul\n");
            let _ = writeln!(out, ">>\"%journal%\" echo {}", line(ScriptLine::Over, &[]));
            out.push_str("echo %there% of %planned% files are there\n");
            out.push_str("if not \"%absent%\"==\"0\" echo %absent% missing: start it again to go on>&2\n");
        }
        for command in &self.plan.run.after {
            let words = command.iter().map(after_word).collect::<Result<Vec<_>, _>>()?;
            let _ = writeln!(out, "call {}", words.join(" "));
        }
        if self.wish.pause {
            out.push_str("pause\n");
        }
        out.push_str("exit /b %failed%\n");
        let rendered: BTreeSet<usize> = steps.iter().flat_map(|step| &step.writes).map(|write| write.series).collect();
        for at in rendered {
            let _ = write!(out, "{SERIES}{}", self.wish.series_line(self.plan, at));
        }
        Ok(())
    }

    /// One word in which base folders are named by their variables. Between quotes their values mean nothing to cmd; a word
    /// with quotes of its own is written out.
    fn word(&self, text: &str) -> Result<String, Flaw> {
        let pieces = in_pieces(text, self.bases);
        let is_based = pieces.iter().any(|piece| matches!(piece, Body::BasePath(_)));
        if self.wish.portable && is_based && text.contains('"') {
            return Err(unsaid(text));
        }
        if text.contains('"') || !is_based {
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
    fn folder(&self, folder: &str) -> Result<String, Flaw> {
        let folder = self.path(folder)?;
        Ok(format!("if not exist {folder} mkdir {folder}\nif not exist {folder} exit /b 4\n"))
    }

    /// A file name for cmd's own commands, between quotes.
    fn path(&self, text: &str) -> Result<String, Flaw> {
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

    fn step(&self, out: &mut String, at: usize, step: &CommandLine) -> Result<(), Flaw> {
        let title = format!("{} {} frames {}", step.job, step.passes.join(" "), step.frames);
        let _ = writeln!(out, "\nrem {}", title.replace('%', "%%"));
        match &step.product {
            Some(product) => self.export(out, at, step, product),
            None if step.writes.is_empty() => self.guarded(out, at, step),
            None => self.rendered(out, at, step),
        }
    }

    /// The program of a step, its environment and its arguments, with its output in its log; then its exit code.
    fn command(&self, out: &mut String, step: &CommandLine) -> Result<(), Flaw> {
        let log = self.path(&step.log)?;
        out.push_str("setlocal\n");
        for (name, value) in &step.env {
            let _ = writeln!(out, "set \"{name}={}\"", inner(value)?);
        }
        for file in &step.files {
            self.put(out, file)?;
        }
        if step.folder != self.plan.home.folder {
            let _ = writeln!(out, "cd /d {}", self.path(&step.folder)?);
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
        Ok(())
    }

    /// Writes a file for a program, line by line; its lines end as Windows wants them.
    fn put(&self, out: &mut String, file: &FileText) -> Result<(), Flaw> {
        let (path, folder) = (self.path(&file.path)?, self.path(paths::parent(&file.path))?);
        let put = path.trim_matches('"');
        let _ = writeln!(out, "if not exist {folder} mkdir {folder}\ntype nul >{path}\nset \"put={put}\"");
        // Each line is put together of variables: what is in them is not read by cmd any more.
        let (mut line, mut parts) = (String::new(), 0);
        let end = |out: &mut String, line: &mut String, parts: &mut usize| {
            let _ = writeln!(out, "setlocal EnableDelayedExpansion\n>>\"!put!\" echo.{line}\nendlocal");
            line.clear();
            *parts = 0;
        };
        for piece in in_text(file, self.bases) {
            match piece {
                Body::Text(text) => {
                    for part in text.split_inclusive('\n') {
                        let own = part.trim_end_matches(['\n', '\r']);
                        if !own.is_empty() {
                            parts += 1;
                            let value = assigned(own).ok_or_else(|| unsaid(own))?;
                            let _ = writeln!(out, "set \"part_{parts}={value}\"");
                            let _ = write!(line, "!part_{parts}!");
                        }
                        if part.ends_with('\n') {
                            end(out, &mut line, &mut parts);
                        }
                    }
                }
                // Its slashes stand for backslashes, so that only XML has a sign of its own for what a path may hold.
                Body::BasePath(base) if file.language == Language::Xml => {
                    let name = &base.name;
                    let _ =
                        writeln!(out, "set \"{name}_xml=%{name}:&=&amp;%\"\nset \"{name}_xml=%{name}_xml:'=&apos;%\"");
                    let _ = write!(line, "!{name}_xml!");
                }
                Body::BasePath(base) => {
                    let _ = write!(line, "!{}!", base.name);
                }
            }
        }
        if !line.is_empty() {
            end(out, &mut line, &mut parts);
        }
        Ok(())
    }

    /// What becomes of the script when a call has failed.
    fn fail(&self, out: &mut String, when: &str) {
        let _ = writeln!(out, "{when} set \"failed=3\"");
        if !self.wish.keep_going {
            let _ = writeln!(out, "{when} goto finish");
        }
    }

    /// An exporter, in a folder of its own that gets its name once all of it is there.
    fn export(&self, out: &mut String, at: usize, step: &CommandLine, product: &Product) -> Result<(), Flaw> {
        let part = self.path(paths::parent(&product.staged))?;
        let (staged, path) = (self.path(&product.staged)?, self.path(&product.path)?);
        let folder = paths::parent(&product.path);
        let (all, folder) = (self.folder(paths::parent(folder))?, self.path(folder)?);
        let _ = write!(out, "echo [{at} of %total%] {}\nset \"exported=\"\n{all}mkdir {part}\n", inner(&step.id)?);
        self.command(out, step)?;
        let _ = write!(
            out,
            "if \"%code%\"==\"0\" if exist {staged} move {part} {folder} >nul\nif exist {path} set \"exported=yes\"\n\
             if not defined exported echo the export ended with %code% and made nothing>&2\n"
        );
        self.fail(out, "if not defined exported");
        Ok(())
    }

    /// A call that `truepath run` makes: it looks after its files by itself.
    fn guarded(&self, out: &mut String, at: usize, step: &CommandLine) -> Result<(), Flaw> {
        let _ = writeln!(out, "echo [{at} of %total%] {}", inner(&step.id)?);
        self.command(out, step)?;
        self.fail(out, "if not \"%code%\"==\"0\"");
        Ok(())
    }

    fn rendered(&self, out: &mut String, at: usize, step: &CommandLine) -> Result<(), Flaw> {
        let (id, log) = (inner(&step.id)?, self.path(&step.log)?);
        let name = |(series, frame): (usize, i64)| self.path(&self.plan.output(series).name(frame));
        self.wanted(out, at, step)?;
        let series: Vec<String> = step.writes.iter().map(|write| json(&self.plan.output(write.series).id)).collect();
        let (job, series) = (percent(&json(&step.job)), percent(&format!("[{}]", series.join(","))));
        let log_in_json = format!("logs/{}", inner(paths::file_name(&step.log))?);
        let frames = step.frames.to_string();
        let known: [(&str, &str); 5] =
            [("{id}", &id), ("{job}", &job), ("{series}", &series), ("{frames}", &frames), ("{log}", &log_in_json)];
        let _ = writeln!(out, ">>\"%journal%\" echo {}", line(ScriptLine::Started, &known));
        self.command(out, step)?;
        let adapter = self.wish.adapters.get(&step.adapter);
        self.trust(out, adapter, &log);
        self.files(out, step, (&id, adapter))?;
        out.push_str("set /a made+=landed >nul\n");
        let _ = writeln!(out, ">>\"%journal%\" echo {}", line(ScriptLine::Ended, &known));
        if let Some(find) = adapter.and_then(|adapter| CmdWriter::found(&adapter.log.wait, &log)) {
            wait(out, at, &find);
        }
        for file in finals(step) {
            let _ = writeln!(out, "if exist {} set /a there+=1 >nul", name(file)?);
        }
        let _ = write!(
            out,
            "if not \"%missing%\"==\"0\" >>\"%journal%\" echo {}\n\
             if not \"%missing%\"==\"0\" echo failed with exit code %code%, %missing% missing: see {log}>&2\n\
             if \"%missing%\"==\"0\" if \"%well%\"==\"false\" echo note: all files are there, and the exit code was %code%: see {log}>&2\n",
            line(ScriptLine::Failed, &known)
        );
        self.fail(out, "if not \"%missing%\"==\"0\"");
        let _ = writeln!(out, ":over{at}");
        if step.kind == CallKind::Encode {
            out.push_str("set \"again=%kept%\"\n");
        }
        Ok(())
    }

    /// Whether any file of a call is missing, and fresh stage folders for it.
    fn wanted(&self, out: &mut String, at: usize, step: &CommandLine) -> Result<(), Flaw> {
        let id = inner(&step.id)?;
        let count = step.writes.len() as i64 * step.frames.count();
        let name = |(series, frame): (usize, i64)| self.path(&self.plan.output(series).name(frame));
        if step.kind == CallKind::Encode {
            // A movie is as new as its frames.
            out.push_str("set \"kept=%again%\"\nif %made% gtr 0 set \"again=yes\"\n");
        }
        out.push_str("set \"wanted=%again%\"\n");
        for file in finals(step) {
            let path = name(file)?;
            if let Some(bytes) = self.wish.broken.get(&file) {
                // It is there, and has to be made again.
                let _ = writeln!(out, "for %%f in ({path}) do if \"%%~zf\"==\"{bytes}\" del {path}");
            }
            let _ = writeln!(out, "if not exist {path} set \"wanted=yes\"");
        }
        let _ = write!(
            out,
            "if not defined wanted set /a there+={count} >nul\nif not defined wanted echo [{at} of %total%] {id}: already there\n\
             if not defined wanted goto over{at}\necho [{at} of %total%] {id}\nset \"pause=1\"\n:call{at}\n"
        );
        for stage in stages(step) {
            let stage = self.path(stage)?;
            let _ =
                writeln!(out, "if exist {stage} rmdir /s /q {stage}\nmkdir {stage}\nif not exist {stage} exit /b 4");
        }
        Ok(())
    }
}

/// The final names of a call: the index of a series, and a frame.
fn finals(step: &CommandLine) -> impl Iterator<Item = (usize, i64)> {
    step.writes.iter().flat_map(|write| step.frames.iter().map(move |frame| (write.series, frame)))
}

/// Waits and calls again where no licence was free.
fn wait(out: &mut String, at: usize, find: &str) {
    let _ = write!(
        out,
        "set \"waits=\"\nif \"%landed%\"==\"0\" {find} && set \"waits=yes\"\n\
         if defined waits echo no licence is free; again in %pause% s>&2\n\
         if defined waits ping -n %pause% 127.0.0.1 >nul\nif defined waits set /a pause=pause*2+1 >nul\n\
         if defined waits if %pause% gtr 60 set \"pause=60\"\nif defined waits goto call{at}\n"
    );
}

/// A word of a command that runs at the end; `{outcome}` is known only then.
fn after_word(template: &Template) -> Result<String, Flaw> {
    let of_part = |part: &Part| match part {
        Part::Text(text) => word(text).ok_or_else(|| unsaid(text)),
        Part::Token(_) => Ok("%outcome%".to_owned()),
    };
    template.parts().iter().map(of_part).collect()
}
