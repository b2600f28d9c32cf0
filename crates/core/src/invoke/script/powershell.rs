//! A script for PowerShell, of Windows (5.1) or of any system (7): what the one for POSIX shells does, call by call. Its calls
//! are data, so that nothing in a value is ever looked at by the language.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use crate::adapter::LANGUAGES;
use crate::flaw::Flaw;
use crate::invoke::command_line::{CallKind, CommandLine, stages};
use crate::invoke::quote::powershell::word;
use crate::invoke::written::glob;
use crate::invoke::written_file::FileText;
use crate::plan::Plan;
use crate::template::{Part, Template};
use crate::threads::{Threads, map};

use super::lines::Filled::{Absent, Text, Value};
use super::lines::{Dialect, LineRow, ScriptLine, in_functions};
use super::target::Target;
use super::{BasePath, Body, Found, Script, bases, has_products, in_pieces, in_text, json};

/// Functions of the script.
const FUNCTIONS: &str = include_str!("functions.ps1");

/// PowerShell, of Windows or of any system.
#[derive(Debug)]
pub struct PowerShell;

impl Target for PowerShell {
    fn name(&self) -> &'static str {
        "powershell"
    }

    fn extension(&self) -> &'static str {
        "ps1"
    }

    fn longest(&self) -> usize {
        // What Windows starts a program with at most (CreateProcess, lpCommandLine).
        32_000
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
        Ok(script(plan, steps, wish, threads))
    }
}

/// Lines of a journal stand between single quotes, and values are joined to them.
const DIALECT: Dialect = Dialect { fixed: |json| json.replace('\'', "''"), around: ("' + ", " + '") };

/// What each line of a journal is filled in with.
const LINES: &[LineRow] = &[
    (
        ScriptLine::Began,
        &[
            ("turn", Value("$script:turn")),
            ("tag", Text("$start")),
            ("host", Text("$hostname")),
            ("process", Value("$PID")),
            ("at", Text("$now")),
            ("files", Value("$planned")),
            ("task", Absent),
        ],
    ),
    (
        ScriptLine::Started,
        &[
            ("call", Value("(Get-Json $Call.Id)")),
            ("job", Value("$Call.Job")),
            ("series", Value("$Call.Series")),
            ("frames", Text("$Call.Frames")),
            ("process", Value("$PID")),
            ("log", Value("(Get-Json $log)")),
            ("t", Value("$since")),
        ],
    ),
    (
        ScriptLine::Ended,
        &[
            ("call", Value("(Get-Json $Call.Id)")),
            ("code", Value("$code")),
            ("ok", Value("\"$well\".ToLower()")),
            ("files", Value("$Call.Landed")),
            ("missing", Text("$lost")),
            ("seconds", Value("($over - $since)")),
            ("log", Value("(Get-Json $log)")),
            ("t", Value("$over")),
        ],
    ),
    (
        ScriptLine::Failed,
        &[
            ("call", Value("(Get-Json $Call.Id)")),
            ("job", Value("$Call.Job")),
            ("series", Value("$Call.Series")),
            ("frames", Text("$lost")),
            ("why", Text("\"ended with $code\"")),
            ("log", Value("(Get-Json $log)")),
        ],
    ),
    (
        ScriptLine::Landed,
        &[
            ("series", Value("$File.Series")),
            ("frame", Value("$File.Frame")),
            ("bytes", Value("$bytes")),
            ("call", Value("(Get-Json $Call.Id)")),
        ],
    ),
    (ScriptLine::Late, &[("series", Value("$File.Series")), ("frame", Value("$File.Frame"))]),
    (
        ScriptLine::Over,
        &[
            ("landed", Value("$made")),
            ("missing", Value("($planned - $there)")),
            ("outcome", Text("$outcome")),
            ("t", Value("(Get-Since)")),
        ],
    ),
];

/// The whole script. It begins with a byte order mark: without one, PowerShell 5.1 takes it for another encoding.
fn script(plan: &Plan, steps: &[CommandLine], wish: &Script<'_>, threads: &dyn Threads) -> String {
    let bases = bases(plan, steps);
    let writer = PowershellWriter { plan, bases: &bases, wish };
    let mut out = String::from("\u{feff}");
    for line in super::head(plan, steps) {
        let _ = writeln!(out, "# {line}");
    }
    out.push_str("# Started again, it renders what is not there yet; with -Again, everything.\n");
    out.push_str("param([switch]$Again)\nSet-StrictMode -Version 3\n$ErrorActionPreference = 'Stop'\n\n");
    for base in &bases {
        let _ = match base.found(plan, wish.portable) {
            Found::Here => writeln!(out, "{} = $PSScriptRoot", variable(base)),
            Found::Below(rest) => writeln!(out, "{} = $homefolder + {}", variable(base), word(&format!("/{rest}"))),
            Found::There(path) => writeln!(out, "{} = {}", variable(base), word(path)),
        };
    }
    let rendered: BTreeSet<usize> = steps.iter().flat_map(|step| &step.writes).map(|write| write.series).collect();
    let journal = rendered.iter().map(|at| wish.series_line(plan, *at)).collect::<String>();
    let _ = writeln!(out, "$series = {}", word(journal.trim_end()));
    let _ = writeln!(
        out,
        "$total = {}; $planned = {}; $turn = {}; $goon = ${}; $loghalf = {}\n\n{}",
        steps.len(),
        super::planned(steps),
        wish.turn,
        wish.keep_going,
        plan.run.log_limit.max(2) / 2,
        in_functions(FUNCTIONS, DIALECT, LINES)
    );
    out.push_str("$adapters = @{}\n");
    for name in steps.iter().map(|step| step.adapter.as_str()).collect::<BTreeSet<&str>>() {
        let Some(adapter) = wish.adapters.get(name) else { continue };
        let rule = |text: &Option<String>| word(&text.as_deref().unwrap_or_default().replace("(?P<", "(?<"));
        let ok: Vec<String> = adapter.exit.good_codes().iter().map(ToString::to_string).collect();
        let log = &adapter.log;
        let _ = writeln!(
            out,
            "$adapters[{}] = @{{ Ok = @({}); Wait = {}; Wrote = {}; Fatal = {}; Finished = {} }}",
            word(name),
            ok.join(", "),
            rule(&log.wait),
            rule(&log.wrote),
            rule(&log.fatal),
            rule(&log.finished)
        );
    }
    for base in bases.iter().filter(|base| base.name.starts_with("stage_")) {
        let name = variable(base);
        let _ = writeln!(out, "$base_{} = {name}; {name} = {name} + '/' + $start", base.name);
    }
    if has_products(&bases) {
        out.push_str("$products = $products + '/' + $start; $parts = $products + '/.part'\n");
    }
    out.push_str("$exports = @{}\ntry {\n");
    out.extend(map(threads, steps, |step| writer.step(step)));
    out.push_str("} finally {\n");
    out.push_str(&writer.end());
    out.push_str("}\nexit $failed\n");
    out
}

/// The variable of a base. The home folder cannot be called `$home`, which the language keeps for the user's.
fn variable(base: &BasePath) -> String {
    if base.name == "home" { "$homefolder".to_owned() } else { format!("${}", base.name) }
}

struct PowershellWriter<'w> {
    plan: &'w Plan,
    bases: &'w [BasePath],
    wish: &'w Script<'w>,
}

impl PowershellWriter<'_> {
    /// One word in which every base folder is named by its variable.
    fn word(&self, text: &str) -> String {
        let piece = |piece: Body<'_>| match piece {
            Body::Text(text) => word(text),
            Body::BasePath(base) => variable(base),
        };
        let pieces: Vec<String> = in_pieces(text, self.bases).into_iter().map(piece).collect();
        match pieces.as_slice() {
            [] => word(""),
            [only] => only.clone(),
            several => format!("({})", several.join(" + ")),
        }
    }

    fn words(&self, texts: impl IntoIterator<Item = impl AsRef<str>>) -> String {
        let words: Vec<String> = texts.into_iter().map(|text| self.word(text.as_ref())).collect();
        format!("@({})", words.join(", "))
    }

    /// The program of a step with its arguments, its environment and its log, as entries of a table.
    fn program(&self, step: &CommandLine) -> String {
        let pairs: BTreeMap<&str, String> =
            step.env.iter().map(|(name, value)| (name.as_str(), self.word(value))).collect();
        let pairs: Vec<String> = pairs.iter().map(|(name, value)| format!("{} = {value}", word(name))).collect();
        format!(
            "Id = {}; Folder = {}; Puts = {}; Program = {}; Words = {}; Variables = @{{ {} }}; Log = {}",
            word(&step.id),
            self.word(&step.folder),
            self.puts(step),
            self.word(&step.program),
            self.words(&step.arguments),
            pairs.join("; "),
            self.word(&step.log)
        )
    }

    /// Files that are written before the program starts: each its path and its text.
    fn puts(&self, step: &CommandLine) -> String {
        let text = |file: &FileText| {
            let language = LANGUAGES.iter().find(|(_, own)| *own == file.language).map_or("none", |(name, _)| name);
            let piece = |piece: Body<'_>| match piece {
                Body::Text(text) => word(text),
                Body::BasePath(base) => format!("(Get-Part {language} {})", variable(base)),
            };
            let pieces: Vec<String> = in_text(file, self.bases).into_iter().map(piece).collect();
            if pieces.is_empty() { word("") } else { format!("({})", pieces.join(" + ")) }
        };
        let put = |file: &FileText| format!("@{{ Path = {}; Text = {} }}", self.word(&file.path), text(file));
        format!("@({})", step.files.iter().map(put).collect::<Vec<_>>().join(", "))
    }

    fn step(&self, step: &CommandLine) -> String {
        let title = format!("\n# {} {} frames {}\n", step.job, step.passes.join(" "), step.frames);
        if let Some(product) = &step.product {
            let (staged, path) = (self.word(&product.staged), self.word(&product.path));
            return format!(
                "{title}$at++\n$exports[{}] = @{{ {}; Staged = {staged}; Path = {path}; Done = $false; Made = $false }}\n",
                word(&step.id),
                self.program(step)
            );
        }
        let mut files = Vec::new();
        for write in &step.writes {
            let series = self.plan.output(write.series);
            let kind = series.file_type.map_or("-", |known| known.name);
            for frame in step.frames.iter() {
                let spellings = write.expected.spellings(frame);
                let staged = spellings.iter().map(|spelling| format!("{}/{}", write.stage, glob(spelling)));
                let broken = self
                    .wish
                    .broken
                    .get(&(write.series, frame))
                    .map_or(-1, |bytes| i64::try_from(*bytes).unwrap_or(-1));
                files.push(format!(
                    "  @{{ Series = {}; Type = {}; Frame = {frame}; Path = {}; Broken = {broken}; Staged = {} }}\n",
                    word(&json(&series.id)),
                    word(kind),
                    self.word(&series.name(frame)),
                    self.words(staged)
                ));
            }
        }
        let ids: Vec<String> = step.writes.iter().map(|write| json(&self.plan.output(write.series).id)).collect();
        let needs = step.needs.iter().filter(|_| step.kind == CallKind::Render);
        format!(
            "{title}Invoke-Call @{{ {}; Kind = {}; Adapter = {}; Job = {}; Series = {}; Frames = {}; Lost = @(); Landed = 0\n Stages = {}; Needs = {}; Also = {}; Keep = {}; Kept = {}; Files = @(\n{} ) }}\n",
            self.program(step),
            word(step.kind.name()),
            word(&step.adapter),
            word(&json(&step.job)),
            word(&format!("[{}]", ids.join(","))),
            word(&step.frames.to_string()),
            self.words(stages(step)),
            self.words(needs),
            self.words(step.globs(false)),
            self.words(step.globs(true)),
            self.word(&step.kept()),
            files.concat()
        )
    }

    /// What is done in the end, also when somebody interrupts.
    fn end(&self) -> String {
        let mut out = String::new();
        for base in self.bases.iter().filter(|base| base.name.starts_with("stage_")) {
            let name = variable(base);
            let _ = writeln!(
                out,
                "  foreach ($folder in @({name}, $base_{})) {{ try {{ [System.IO.Directory]::Delete($folder) }} catch {{ }} }}",
                base.name
            );
        }
        if has_products(self.bases) {
            out.push_str(
                "  if ([System.IO.Directory]::Exists($products)) { [System.IO.Directory]::Delete($products, $true) }\n",
            );
        }
        let end = r#"  $outcome = 'complete'
  if ($failed -ne 0) { $outcome = 'incomplete' }
  if ($at -lt $total -and -not $stopped) { $outcome = 'interrupted'; $failed = 130 }
  if ($planned -gt 0) {
    if ($begun) { Write-Event ('@over@') }
    Write-Host "$there of $planned files are there"
    if ($missing) { Write-Wrong ("missing:`n  " + ($missing -join "`n  ")) }
    if ($kept) { Write-Wrong ("perhaps not finished, kept:`n  " + ($kept -join "`n  ")) }
  }
"#;
        out.push_str(&in_functions(end, DIALECT, LINES));
        for command in &self.plan.run.after {
            let words: Vec<String> = command.iter().map(|template| self.after_word(template)).collect();
            let (program, rest) =
                words.split_first().map_or((word(""), &[][..]), |(program, rest)| (program.clone(), rest));
            let _ = writeln!(
                out,
                "  if ($failed -ne 130) {{ [void](Invoke-Program @{{ Program = {program}; Words = @({}); Folder = $homefolder; Puts = @(); Variables = @{{ }}; Log = $logs + '/after.log' }}) }}",
                rest.join(", ")
            );
        }
        out
    }

    /// A word of a command that runs at the end; `{outcome}` is known only then.
    fn after_word(&self, template: &Template) -> String {
        let part = |part: &Part| match part {
            Part::Text(text) => self.word(text),
            Part::Token(_) => "$outcome".to_owned(),
        };
        let parts: Vec<String> = template.parts().iter().map(part).collect();
        match parts.as_slice() {
            [] => word(""),
            several => format!("({})", several.join(" + ")),
        }
    }
}
