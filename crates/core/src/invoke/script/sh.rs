//! A POSIX shell script that renders a plan: each call into its stage folder, each file moved to its name once its
//! program has ended and the file is not empty. The same plan gives the same bytes, and in another folder only the lines
//! at the head differ that name folders and programs.

use std::fmt::Write as _;

use crate::invoke::command_line::{CommandLine, stages};
use crate::invoke::quote::sh::word;
use crate::invoke::written::Spelt;
use crate::plan::Plan;
use crate::resolve::paths;
use crate::template::{Part, Template};
use crate::threads::{Threads, map};

use super::{BasePath, Body, Script, bases, in_pieces};

/// The whole script.
#[must_use]
pub fn script(plan: &Plan, steps: &[CommandLine], wish: &Script, threads: &dyn Threads) -> String {
    let bases = bases(plan, steps);
    let writer = Writer { plan, bases: &bases };
    let mut out = String::new();
    out.push_str("#!/bin/sh\n");
    for line in super::head(plan, steps) {
        let _ = writeln!(out, "# {line}");
    }
    out.push('\n');
    for BasePath { name, path } in &bases {
        let _ = writeln!(out, "{name}={}", word(path));
    }
    out.push_str(HEAD);
    let _ = writeln!(out, "total={}\ngo_on={}", steps.len(), if wish.keep_going { "yes" } else { "no" });
    out.push_str(&writer.after());
    out.push_str("cd \"$home\" || exit 4\n");
    for folder in super::folders(plan, steps) {
        let _ = writeln!(out, "mkdir -p -- {} || exit 4", writer.word(&folder));
    }
    // Each call stands for itself, so that many are written side by side.
    let parts = map(threads, steps, |step| {
        let mut part = String::with_capacity(600);
        writer.step(&mut part, step);
        part
    });
    parts.iter().for_each(|part| out.push_str(part));
    out.push_str("\nfinish\n");
    out
}

/// Functions of the script: `render` runs one call in its stage folders, `land` moves a file of them to its name, `done_with`
/// closes the call.
const HEAD: &str = r#"
[ -z "${ZSH_VERSION-}" ] || emulate sh
set -u
PATH=${PATH:-/usr/local/bin:/usr/bin:/bin}
export PATH
failed=0
at=0
lacking=0
code=0
stage=
trap 'failed=130; finish' INT TERM HUP

# enter STAGE...: makes the folders that the next call writes to; files are looked for in the last one.
enter() {
  mkdir -p -- "$@" || exit 4
  for stage in "$@"; do :; done
}

# render NAME PROGRAM ARGUMENTS...: runs one call, its output to the log and to the screen.
render() {
  at=$((at + 1))
  lacking=0
  log=$logs/$1.log
  echo "[$at of $total] $1"
  shift
  { "$@" 2>&1; echo $? >"$log.code"; } | tee -- "$log"
  code=4
  read -r code <"$log.code" || code=4
  rm -f -- "$log.code"
}

# land FINAL [STAGED...]: moves a finished file, the first of these that is there and not empty, to its name. Without
# others it has that very name in the stage folder.
land() {
  final=$1
  shift
  [ $# -gt 0 ] || set -- "$stage/${final##*/}"
  for staged in "$@"; do
    if [ -s "$staged" ]; then
      mv -f -- "$staged" "$final" && return
      failed=4
      return
    fi
  done
  echo "missing: $final" >&2
  lacking=$((lacking + 1))
}

# done_with STAGE...: a call is well when all its files are there, whatever its exit code.
done_with() {
  [ $# -eq 0 ] || rmdir -- "$@" 2>/dev/null
  if [ "$lacking" -gt 0 ]; then
    echo "failed with exit code $code, $lacking missing: see $log" >&2
    failed=3
  elif [ "$code" -ne 0 ]; then
    echo "note: all files are there, and the exit code was $code: see $log" >&2
  fi
  [ "$failed" -eq 0 ] || [ "$go_on" = yes ] || finish
}

"#;

struct Writer<'w> {
    plan: &'w Plan,
    bases: &'w [BasePath],
}

impl Writer<'_> {
    /// Commands of the sheet for the end of the plan, and the end itself.
    fn after(&self) -> String {
        let mut out = "\nfinish() {\n  trap - INT TERM HUP\n  outcome=complete\n  [ \"$failed\" -eq 0 ] || outcome=incomplete\n  \
                       [ \"$failed\" -ne 130 ] || outcome=interrupted\n"
            .to_owned();
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
        let stages: Vec<String> = stages(step).iter().map(|stage| self.word(stage)).collect();
        if !stages.is_empty() {
            let _ = writeln!(out, "enter {}", stages.join(" "));
        }
        let name = paths::file_name(&step.log);
        let _ = write!(out, "render {}", word(name.strip_suffix(".log").unwrap_or(name)));
        if !step.env.is_empty() {
            out.push_str(" env");
            for (name, value) in &step.env {
                let _ = write!(out, " {name}={}", self.word(value));
            }
        }
        let program = self.bases.iter().find(|base| base.path == step.program);
        let _ = match program {
            Some(base) => write!(out, " \"${}\"", base.name),
            None => write!(out, " {}", self.word(&step.program)),
        };
        for argument in &step.arguments {
            let _ = write!(out, " {}", self.word(argument));
        }
        out.push('\n');
        for write in &step.writes {
            let series = &self.plan.series[write.series];
            for frame in step.frames.iter() {
                let name = series.name(frame);
                let _ = write!(out, "land {}", self.word(&name));
                let spellings = write.expected.spellings(frame);
                let alike = |spelling: &Vec<Spelt>| matches!(spelling.as_slice(), [Spelt::Text(own)] if own == paths::file_name(&name));
                if stages.len() > 1 || spellings.len() > 1 || !spellings.iter().all(alike) {
                    let stage = self.word(&write.stage);
                    spellings.iter().for_each(|spelling| out.push_str(&format!(" {stage}/{}", glob(spelling))));
                }
                out.push('\n');
            }
        }
        if let Some(product) = &step.product {
            let _ = writeln!(out, "land {} {}", self.word(&product.path), self.word(&product.staged));
        }
        if step.writes.is_empty() && step.product.is_none() {
            out.push_str("[ \"$code\" -eq 0 ] || lacking=1\n");
        }
        let _ = writeln!(out, "done_with {}", stages.join(" "));
    }
}

/// A staged name as the shell looks for it: `*` where the program writes anything.
fn glob(spelling: &[Spelt]) -> String {
    let piece = |piece: &Spelt| match piece {
        Spelt::Text(text) => word(text),
        Spelt::Frame(_) | Spelt::Any => "*".to_owned(),
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
