//! How a batch file lands what a call wrote.
use std::fmt::Write as _;

use crate::adapter::Adapter;
use crate::flaw::Flaw;
use crate::invoke::command_line::{CommandLine, stages};
use crate::invoke::scope::WRITTEN;
use crate::invoke::script::json;
use crate::invoke::script::lines::ScriptLine;
use crate::invoke::script::rules::literal;
use crate::invoke::written::glob;
use crate::resolve::paths;

use super::journal::{line, percent};
use super::{CmdWriter, inner};

/// A file that a call is to write: its name, and what it may be called in stage.
struct PlannedFile {
    frame: i64,
    path: String,
    staged: String,
}

impl CmdWriter<'_> {
    /// Looks for a rule of an adapter in a log; `None` where cmd cannot.
    pub(super) fn found(rule: &Option<String>, log: &str) -> Option<String> {
        found(rule, log)
    }

    /// Takes away what a program writes beside its pictures, and the files that were written for it.
    pub(super) fn aside(&self, out: &mut String, step: &CommandLine) -> Result<(), Flaw> {
        for glob in step.globs(false) {
            let _ = writeln!(out, "del /q {} >nul 2>nul", self.path(&glob)?);
        }
        let kept = self.path(&step.kept())?;
        for glob in step.globs(true) {
            let glob = self.path(&glob)?;
            let _ = writeln!(
                out,
                "if exist {glob} if not exist {kept} mkdir {kept}\nif exist {glob} move /y {glob} {kept} >nul"
            );
        }
        for stage in stages(step).into_iter().filter(|_| !step.files.is_empty()) {
            let _ = writeln!(out, "rmdir /s /q {} 2>nul", self.path(&format!("{stage}/{WRITTEN}"))?);
        }
        for glob in step.globs(false).chain(step.globs(true)) {
            let folder = paths::parent(&glob).to_owned();
            if !step.writes.iter().any(|write| write.stage == folder) {
                let _ = writeln!(out, "rmdir {} 2>nul", self.path(&folder)?);
            }
        }
        Ok(())
    }

    /// Which files of a call are finished, by its exit code and its log: all, or those that the log names.
    pub(super) fn trust(&self, out: &mut String, adapter: Option<&Adapter>, log: &str) {
        let Some(adapter) = adapter else { return };
        out.push_str("set \"well=false\"\n");
        for code in &adapter.exit.good_codes() {
            let _ = writeln!(out, "if \"%code%\"==\"{code}\" set \"well=true\"");
        }
        out.push_str("set \"trust=named\"\n");
        if found(&adapter.log.wrote, log).is_none() {
            out.push_str("if \"%well%\"==\"true\" set \"trust=all\"\n");
        }
        if let Some(find) = found(&adapter.log.finished, log) {
            let _ = writeln!(out, "{find} || set \"trust=named\"");
        }
        if let Some(find) = found(&adapter.log.fatal, log) {
            let _ = writeln!(out, "{find} && set \"trust=named\"");
        }
    }

    /// Lands the files of a call, series by series.
    pub(super) fn files(
        &self,
        out: &mut String,
        step: &CommandLine,
        (id, adapter): (&str, Option<&Adapter>),
    ) -> Result<(), Flaw> {
        out.push_str("set \"missing=0\"\nset \"landed=0\"\nset \"lost=\"\n");
        let log = self.path(&step.log)?;
        let stages: Vec<String> = stages(step).into_iter().map(|stage| self.path(stage)).collect::<Result<_, _>>()?;
        let wrote = adapter.and_then(|adapter| found(&adapter.log.wrote, &log));
        for write in &step.writes {
            let series = self.plan.output(write.series);
            let stage = self.path(&write.stage)?;
            let open = stage.trim_end_matches('"');
            let planned = |frame: i64| {
                let staged = write.expected.spellings(frame);
                let staged = staged
                    .iter()
                    .map(|spelling| Ok(format!("{open}\\{}\"", inner(&glob(spelling).replace('/', "\\"))?)));
                let staged = staged.collect::<Result<Vec<_>, Flaw>>()?.join(" ");
                Ok(PlannedFile { frame, path: self.path(&series.name(frame))?, staged })
            };
            let planned = step.frames.iter().map(planned).collect::<Result<Vec<PlannedFile>, Flaw>>()?;
            let told = (percent(&json(&series.id)), id);
            planned.iter().for_each(|planned| file(out, planned, (&told.0, told.1), wrote.as_deref()));
        }
        self.aside(out, step)?;
        for stage in stages {
            let _ = writeln!(out, "rmdir {stage} 2>nul");
        }
        Ok(())
    }
}

/// Lands the first of some staged files that is there and not empty, as far as it can be trusted. What stands under its name
/// stays, unless all is rendered again.
fn file(out: &mut String, planned: &PlannedFile, (series, id): (&str, &str), wrote: Option<&str>) {
    let PlannedFile { frame, path, staged } = planned;
    // The size with a zero behind it: of a file that is not there "0", of an empty one "00".
    let _ = write!(
        out,
        "set \"keep=\"\nif exist {path} if not defined again set \"keep=yes\"\nset \"found=\"\nset \"lands=\"\n\
         for %%f in ({staged}) do if not defined found if not \"%%~zf0\"==\"0\" if not \"%%~zf0\"==\"00\" set \"found=%%~f\"\n\
         if defined found if defined keep del \"%found%\"\nif defined keep set \"found=\"\n\
         if \"%trust%\"==\"all\" set \"lands=yes\"\n"
    );
    if let Some(find) = wrote {
        let _ = writeln!(
            out,
            "if defined found if \"%trust%\"==\"named\" for %%f in (\"%found%\") do {} | findstr /l /c:\"%%~nxf\" >nul && set \"lands=yes\"",
            find.trim_end_matches(" >nul")
        );
    }
    let when = "if defined found if defined lands";
    let _ = write!(
        out,
        "{when} for %%f in (\"%found%\") do set \"bytes=%%~zf\"\n\
         {when} >>\"%journal%\" echo {}\n\
         {when} move /y \"%found%\" {path} >nul\n{when} if exist \"%found%\" set \"failed=4\"\n{when} set /a landed+=1 >nul\n",
        line(ScriptLine::Landed, &[("{id}", id), ("{series}", series), ("{frame}", &frame.to_string())])
    );
    lost(out, "if defined found if not defined lands", &format!("{path}: perhaps not finished, left in stage"), *frame);
    lost(out, "if not defined found if not defined keep", path, *frame);
}

/// Looks for a rule of an adapter in a log; `None` where cmd cannot.
fn found(rule: &Option<String>, log: &str) -> Option<String> {
    let (text, begins) = literal(rule.as_deref()?)?;
    Some(format!("findstr /l{} /c:\"{text}\" {log} >nul", if begins { " /b" } else { "" }))
}

/// Tells a file that did not come out.
fn lost(out: &mut String, when: &str, what: &str, frame: i64) {
    let _ = write!(
        out,
        "{when} echo missing: {what}>&2\n{when} set /a missing+=1 >nul\n\
         {when} if defined lost set \"lost=%lost%,{frame}\"\n{when} if not defined lost set \"lost={frame}\"\n"
    );
}
