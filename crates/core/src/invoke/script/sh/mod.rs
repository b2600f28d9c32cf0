//! A POSIX shell script that renders a plan: each call into fresh stage folders, each file moved to its name once its program
//! has ended well or has moved on from it. What it does is written into a journal of its own, so that its frames are known
//! to everybody later. The same plan gives the same bytes, and in another folder only the lines at the head differ that name
//! folders and programs.

mod journal;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use crate::adapter::{Adapter, LANGUAGES};
use crate::flaw::Flaw;
use crate::invoke::command_line::{CallKind, CommandLine, Product, stages};
use crate::invoke::quote::sh::word;
use crate::invoke::written::Spelt;
use crate::plan::Plan;
use crate::resolve::paths;
use crate::template::{Part, Template};
use crate::threads::{Threads, map};

use self::journal::{DIALECT, LINES};
use super::lines::{LineRow, in_functions};
use super::rules::extended;
use super::target::Target;
use super::{BasePath, Body, Found, Script, bases, has_products, in_pieces, in_text, json};

/// The whole script.
fn script(plan: &Plan, steps: &[CommandLine], wish: &Script<'_>, threads: &dyn Threads) -> String {
    let mut out = String::from("#!/bin/sh\n");
    for line in super::head(plan, steps) {
        let _ = writeln!(out, "# {line}");
    }
    out.push_str("# Started again, it renders what is not there yet; with --again, everything.\n\n");
    let pieces = pieces(plan, steps, wish, threads);
    let _ = write!(out, "{}total={}\nplanned={}\n", pieces.head, steps.len(), super::planned(steps));
    out.push_str(&pieces.start);
    pieces.steps.iter().for_each(|step| out.push_str(step));
    out.push_str("\nfinish\n");
    out
}

/// A script in pieces: whoever puts them together says between `head` and `start` how many calls and files there are.
pub(super) struct Pieces {
    /// Folders and functions.
    pub head: String,
    /// What is done before the first call.
    pub start: String,
    /// The calls, one by one.
    pub steps: Vec<String>,
}

pub(super) fn pieces(plan: &Plan, steps: &[CommandLine], wish: &Script<'_>, threads: &dyn Threads) -> Pieces {
    let bases = bases(plan, steps);
    let names: BTreeSet<&str> = steps.iter().map(|step| step.adapter.as_str()).collect();
    let adapters: BTreeMap<&str, usize> = names.into_iter().zip(1..).collect();
    let writer = ShWriter { plan, bases: &bases, wish, adapters: &adapters };
    let (mut head, mut start) = (String::new(), String::new());
    for base in &bases {
        let name = &base.name;
        let _ = match base.found(plan, wish.portable) {
            Found::Here => writeln!(head, "{name}=$(CDPATH= cd -- \"$(dirname -- \"$0\")\" && pwd) || exit 4"),
            Found::Below(rest) => writeln!(head, "{name}=$home/{}", word(rest)),
            Found::There(path) => writeln!(head, "{name}={}", word(path)),
        };
    }
    let rendered: BTreeSet<usize> = steps.iter().flat_map(|step| &step.writes).map(|write| write.series).collect();
    let journal = rendered.iter().map(|at| wish.series_line(plan, *at)).collect::<String>();
    let _ = writeln!(head, "series={}", word(journal.trim_end()));
    let _ = writeln!(head, "\n{}", in_functions(FUNCTIONS, DIALECT, LINES));
    let stages: Vec<&str> =
        bases.iter().map(|base| base.name.as_str()).filter(|name| name.starts_with("stage_")).collect();
    let _ = writeln!(start, "log_half={}", plan.run.log_limit.max(2) / 2);
    let word_of = |is: bool| if is { "yes" } else { "no" };
    // Files that are sent home are compared with what was rendered.
    let (go_on, sums) = (word_of(wish.keep_going), word_of(wish.portable));
    let _ = writeln!(start, "turn={}\ngo_on={go_on}\nsums={sums}\n", wish.turn);
    for (name, number) in &adapters {
        writer.adapter(&mut start, steps, (name, *number));
    }
    start.push_str(&writer.after(&stages));
    for stage in &stages {
        let _ = writeln!(start, "base_{stage}=${stage}\n{stage}=${stage}/$start");
    }
    if has_products(&bases) {
        start.push_str(if wish.is_task { PRODUCTS_OF_TASKS } else { PRODUCTS_OF_START });
    }
    let all: String = stages.iter().map(|stage| format!(" \"$base_{stage}\"")).collect();
    let _ = writeln!(start, "forget() {{ clear_after_the_dead{all}; }}");
    start.push_str("cd \"$home\" || exit 4\n");
    for folder in super::folders(plan, steps) {
        let _ = writeln!(start, "mkdir -p -- {} || exit 4", writer.word(&folder));
    }
    // Each call stands for itself, so that many are written side by side.
    let steps = map(threads, steps, |step| {
        let mut part = String::with_capacity(900);
        writer.step(&mut part, step);
        part
    });
    Pieces { head, start, steps }
}

/// Functions of the script. A call is made of `wanted` (is any of its files missing?), `enter` (fresh stage folders), `render`
/// and `done_with`; `files` lists its files, and `file` looks at one of them or lands it, as `doing` says.
const FUNCTIONS: &str = include_str!("../functions.sh");

/// A POSIX shell.
#[derive(Debug)]
pub struct Sh;

impl Target for Sh {
    fn name(&self) -> &'static str {
        "sh"
    }

    fn extension(&self) -> &'static str {
        "sh"
    }

    fn is_program(&self) -> bool {
        true
    }

    fn longest(&self) -> usize {
        // Shells take as much as the system does (`ARG_MAX`), which is more.
        1 << 20
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

struct ShWriter<'w> {
    plan: &'w Plan,
    bases: &'w [BasePath],
    wish: &'w Script<'w>,
    /// The adapters that render, with their numbers.
    adapters: &'w BTreeMap<&'w str, usize>,
}

impl ShWriter<'_> {
    /// What is known of an adapter's program, as a function that a call begins with.
    fn adapter(&self, out: &mut String, steps: &[CommandLine], (name, number): (&str, usize)) {
        let Some(adapter) = self.wish.adapters.get(name) else { return };
        let rule = |text: &Option<String>| word(&text.as_deref().and_then(extended).unwrap_or_default());
        let ok: Vec<String> = adapter.exit.good_codes().iter().map(ToString::to_string).collect();
        let log = &adapter.log;
        let _ = writeln!(
            out,
            "by_{number}() {{ {}ok={} wait={} wrote={} fatal={} finished={}; }}",
            self.asked(steps, number, adapter),
            word(&ok.join(" ")),
            rule(&log.wait),
            rule(&log.wrote),
            rule(&log.fatal),
            rule(&log.finished)
        );
    }

    /// What asks a renderer for its version before its first call, where nobody knows which one will be there.
    fn asked(&self, steps: &[CommandLine], number: usize, adapter: &Adapter) -> String {
        let own = |step: &&CommandLine| step.kind == CallKind::Render && step.adapter == adapter.name;
        let Some(first) = steps.iter().find(own) else { return String::new() };
        if !self.wish.portable || adapter.unasked || adapter.version.is_empty() {
            return String::new();
        }
        let series: BTreeSet<usize> =
            steps.iter().filter(own).flat_map(|step| &step.writes).map(|write| write.series).collect();
        let arguments: Vec<String> = adapter.version.iter().map(|argument| word(argument)).collect();
        let (series, program) = (word(&self.ids(series.into_iter())), self.program(&first.program));
        format!(
            "[ -n \"${{asked_{number}-}}\" ] || {{ asked_{number}=yes; ask {series} {program} {}; }}; ",
            arguments.join(" ")
        )
    }

    /// The names of series as a list of JSON.
    fn ids(&self, series: impl Iterator<Item = usize>) -> String {
        format!("[{}]", series.map(|at| json(&self.plan.output(at).id)).collect::<Vec<_>>().join(","))
    }

    /// A program by its variable, where it has one.
    fn program(&self, path: &str) -> String {
        self.bases
            .iter()
            .find(|base| base.path == path)
            .map_or_else(|| self.word(path), |base| format!("\"${}\"", base.name))
    }

    /// Commands of the sheet for the end of the plan, and the end itself.
    fn after(&self, stages: &[&str]) -> String {
        let mut out = r#"
finish() {
  trap - INT TERM HUP
  [ -z "$pipe_in" ] || rm -rf -- "$pipe_in"
"#
        .to_owned();
        if has_products(self.bases) {
            out.push_str(if self.wish.is_task { END_OF_TASKS } else { END_OF_START });
        }
        for stage in stages {
            let _ = writeln!(
                out,
                "  rmdir -- \"${stage}\" \"$base_{stage}\" \"${{base_{stage}%/*}}\" \"${{base_{stage}%/*/*}}\" 2>/dev/null"
            );
        }
        let end = r#"  outcome=complete
  [ "$failed" -eq 0 ] || outcome=incomplete
  [ "$failed" -ne 130 ] || outcome=interrupted
  if [ "$planned" -gt 0 ]; then
    sum_up
    [ ! -e "$journal" ] || tell "@over@"
    [ -z "$all_left" ] || echo "perhaps not finished, kept until \`truepath run\` has looked at it:$all_left" >&2
    [ "$stopped" = no ] || [ "$at" -ge "$total" ] || echo "ended at call $at of $total; start it again to go on" >&2
    rest=$((planned - there - count))
    [ "$rest" -le 0 ] || listed="${listed:+$listed, and }$rest not rendered"
    echo "$there of $planned files are there${listed:+; missing: $listed}"
  fi
"#;
        out.push_str(&in_functions(end, DIALECT, LINES));
        if !self.plan.run.after.is_empty() {
            out.push_str("  [ \"$failed\" -ne 130 ] || exit 130\n");
        }
        // Of many tasks only the last one ends the plan.
        if self.wish.is_task && !self.plan.run.after.is_empty() {
            out.push_str("  [ \"$role\" = last ] || exit \"$failed\"\n");
        }
        for command in &self.plan.run.after {
            let _ = writeln!(out, "  {}", command.iter().map(after_word).collect::<Vec<_>>().join(" "));
        }
        out.push_str("  exit \"$failed\"\n}\n\n");
        out
    }

    /// One word in which every base folder is named by its variable.
    fn word(&self, text: &str) -> String {
        let mut out = String::new();
        for piece in in_pieces(text, self.bases) {
            match piece {
                Body::Text(text) => out.push_str(&word(text)),
                Body::BasePath(base) => {
                    let _ = write!(out, "\"${}\"", base.name);
                }
            }
        }
        if out.is_empty() { word("") } else { out }
    }

    fn step(&self, out: &mut String, step: &CommandLine) {
        let _ = writeln!(out, "\n# {} {} frames {}", step.job, step.passes.join(" "), step.frames);
        match &step.product {
            Some(product) => self.export(out, step, product),
            None if step.writes.is_empty() => self.guarded(out, step),
            None => self.rendered(out, step),
        }
    }

    /// What writes the files that a program is given, once its stage folders are there.
    fn put(&self, out: &mut String, step: &CommandLine) {
        for file in &step.files {
            let language = LANGUAGES.iter().find(|(_, own)| *own == file.language).map_or("none", |(name, _)| name);
            let piece = |piece: Body<'_>| match piece {
                Body::Text(text) => word(text),
                // Where the script stands, and with which folders, is known only when it runs.
                Body::BasePath(base) => format!("\"$(as_{language} \"${}\")\"", base.name),
            };
            let text: String = in_text(file, self.bases).into_iter().map(piece).collect();
            let _ = writeln!(out, "put {} {text}", self.word(&file.path));
        }
    }

    /// The function that takes away what a program writes beside its pictures.
    fn aside(&self, out: &mut String, step: &CommandLine) {
        if step.besides.is_empty() {
            return;
        }
        let pattern = |glob: String| {
            glob.split('*')
                .map(|part| if part.is_empty() { String::new() } else { self.word(part) })
                .collect::<Vec<_>>()
                .join("*")
        };
        out.push_str("aside() {\n");
        for glob in step.globs(false) {
            let _ = writeln!(out, "  rm -f -- {}", pattern(glob));
        }
        for glob in step.globs(true) {
            let _ = writeln!(out, "  keep {} {}", self.word(&step.kept()), pattern(glob));
        }
        out.push_str("}\n");
    }

    /// The program of a step with its environment and its arguments.
    fn command(&self, out: &mut String, step: &CommandLine) {
        if step.folder != self.plan.home.folder {
            // In a shell of its own, so that the script itself stays where it is.
            let _ = write!(out, " within {}", self.word(&step.folder));
        }
        if !step.env.is_empty() {
            out.push_str(" env");
            for (name, value) in &step.env {
                let _ = write!(out, " {name}={}", self.word(value));
            }
        }
        let _ = write!(out, " {}", self.program(&step.program));
        for argument in &step.arguments {
            let _ = write!(out, " {}", self.word(argument));
        }
        out.push('\n');
    }

    /// An exporter: made by the first call that needs it, in a folder of its own that gets its name once all of it is there.
    fn export(&self, out: &mut String, step: &CommandLine, product: &Product) {
        let function = function(&step.id);
        let (part, folder) = (self.word(paths::parent(&product.staged)), self.word(paths::parent(&product.path)));
        let (staged, path) = (self.word(&product.staged), self.word(&product.path));
        // Of many tasks the first one makes it.
        let kept = if self.wish.is_task { format!("  ! is_file {path} || return 0\n") } else { String::new() };
        let _ = write!(
            out,
            "at=$((at + 1))\n{function}_made=no\n{function}() {{\n  [ \"${function}_made\" = no ] || return 0\n  {function}_made=yes log=$logs/{}~$start.log\n{kept}  enter {part}\n",
            word(&step.id)
        );
        self.put(out, step);
        out.push_str("  call");
        self.command(out, step);
        let _ = writeln!(
            out,
            "  heed\n  if [ \"$code\" -eq 0 ] && [ -s {staged} ]; then\n    [ -e {folder} ] || mv -- {part} {folder}\n    \
             rm -rf -- {part}\n    rmdir -- \"$parts\" 2>/dev/null\n    ! is_file {path} || return 0\n  fi\n  \
             echo \"the export {} ended with $code and made nothing: see $log\" >&2\n  {function}_made=failed\n}}",
            step.id
        );
    }

    /// A call that `truepath run` makes: it looks after its files by itself.
    fn guarded(&self, out: &mut String, step: &CommandLine) {
        let id = word(&step.id);
        let _ = write!(out, "at=$((at + 1))\necho \"[$at of $total] \"{id}\nlog=$logs/{id}~$start.guard.log\ncall");
        self.command(out, step);
        out.push_str("heed\n[ \"$code\" -eq 0 ] || { echo \"ended with exit code $code: see $log\" >&2; fail 3; }\n");
    }

    fn rendered(&self, out: &mut String, step: &CommandLine) {
        let stages: Vec<String> = stages(step).iter().map(|stage| self.word(stage)).collect();
        self.listing(out, step, stages.len());
        let ids = self.ids(step.writes.iter().map(|write| write.series));
        if step.kind == CallKind::Encode {
            // A movie is as new as its frames.
            out.push_str("}\nkept=$again\n[ \"$made\" -eq 0 ] || again=yes\n");
        } else {
            out.push_str("}\n");
        }
        let _ = writeln!(
            out,
            "if wanted {} {} {} {}; then",
            word(&step.id),
            word(&json(&step.job)),
            word(&ids),
            word(&step.frames.to_string())
        );
        // A movie's frames come first in the script; there is nothing to be made for it but itself.
        for need in step.needs.iter().filter(|_| step.kind == CallKind::Render) {
            let function = function(need);
            let _ = writeln!(out, "{function}\nlog=$logs/$id~$start.log");
            let _ = writeln!(out, "[ \"${function}_made\" = yes ] || fail 3\n[ \"${function}_made\" = yes ] &&");
        }
        let by = self.adapters.get(step.adapter.as_str()).copied().unwrap_or(0);
        let stages = stages.join(" ");
        self.aside(out, step);
        let _ = write!(out, "while by_{by}; enter {stages}");
        if step.files.is_empty() {
            out.push_str("; render");
        } else {
            out.push('\n');
            self.put(out, step);
            out.push_str("render");
        }
        self.command(out, step);
        let _ = writeln!(out, "done_with {stages}; do :; done\nfi");
        if !step.besides.is_empty() {
            out.push_str("aside() { :; }\n");
        }
        if step.kind == CallKind::Encode {
            out.push_str("again=$kept\n");
        }
    }

    /// The function that lists the files of a call, with the spellings that each may have in its stage folder.
    fn listing(&self, out: &mut String, step: &CommandLine, stages: usize) {
        out.push_str("files() {\n");
        for write in &step.writes {
            let series = self.plan.output(write.series);
            let kind = series.file_type.map_or("-", |known| known.name);
            let movie = if step.kind == CallKind::Encode { " movie" } else { "" };
            let _ = writeln!(out, "of {} {kind}{movie}", word(&json(&series.id)));
            for frame in step.frames.iter() {
                let name = series.name(frame);
                if let Some(bytes) = self.wish.broken.get(&(write.series, frame)) {
                    let _ = writeln!(out, "was {bytes}");
                }
                let _ = write!(out, "file {frame} {}", self.word(&name));
                let spellings = write.expected.spellings(frame);
                let alike = |spelling: &Vec<Spelt>| matches!(spelling.as_slice(), [Spelt::Text(own)] if own == paths::file_name(&name));
                if stages > 1 || spellings.len() > 1 || !spellings.iter().all(alike) {
                    let stage = self.word(&write.stage);
                    spellings.iter().for_each(|spelling| out.push_str(&format!(" {stage}/{}", glob(spelling))));
                }
                out.push('\n');
            }
        }
    }
}

/// Where this start of a script exports to. What starts that have ended left there goes.
const PRODUCTS_OF_START: &str = r#"for old in "$products/script-$host-"*; do
  process=${old##*"/script-$host-"}
  if [ -d "$old" ] && ! kill -0 "${process%%-*}" 2>/dev/null; then rm -rf -- "$old"; fi
done
products=$products/$start
parts=$products/.part
"#;
const END_OF_START: &str = "  rm -rf -- \"$products\"\n";
/// All tasks of one submission share what is exported; each makes what is missing in a folder of its own.
const PRODUCTS_OF_TASKS: &str = r#"products=$products/${TRUEPATH_PRODUCTS:-$start}
parts=$products/.part-$start
"#;
const END_OF_TASKS: &str = r#"  rm -rf -- "$parts"
  [ "$role" != last ] || rm -rf -- "$products"
"#;

/// The name of the function that makes an export.
pub(super) fn function(id: &str) -> String {
    let plain = |sign: char| if sign.is_ascii_alphanumeric() { sign } else { '_' };
    format!("make_{}", id.chars().map(plain).collect::<String>())
}

/// A staged name as the shell looks for it: `*` where the program writes anything.
fn glob(spelling: &[Spelt]) -> String {
    let piece = |piece: &Spelt| match piece {
        Spelt::Text(text) => word(text),
        Spelt::Frame(_) | Spelt::Place(..) | Spelt::Any => "*".to_owned(),
    };
    spelling.iter().map(piece).collect()
}

/// A word of a command that runs at the end; `{outcome}` is known only then.
fn after_word(template: &Template) -> String {
    let parts = template.parts().iter().map(|part| match part {
        Part::Text(text) => word(text),
        Part::Token(_) => "\"$outcome\"".to_owned(),
    });
    parts.collect()
}
