//! A POSIX shell script that renders a plan: each call into its stage folder, each file moved to its name once its
//! program has ended and the file is not empty. The same plan gives the same bytes, and in another folder only the lines
//! at the head differ that name folders and programs.

use std::fmt::Write as _;

use crate::invoke::quote::sh::word;
use crate::invoke::written::Spelt;
use crate::plan::Plan;
use crate::resolve::paths;
use crate::template::{Part, Template};

use super::{Base, Body, Script, Step, bases, in_pieces};

/// The whole script.
#[must_use]
pub fn script(plan: &Plan, steps: &[Step], wish: &Script) -> String {
    let bases = bases(plan, steps);
    let writer = Writer { plan, bases: &bases };
    let mut out = String::with_capacity(steps.len() * 600);
    out.push_str("#!/bin/sh\n");
    for line in super::head(plan, steps) {
        let _ = writeln!(out, "# {line}");
    }
    out.push('\n');
    for Base { name, path } in &bases {
        let _ = writeln!(out, "{name}={}", word(path));
    }
    out.push_str(HEAD);
    let _ = writeln!(out, "total={}\ngo_on={}", steps.len(), if wish.keep_going { "yes" } else { "no" });
    out.push_str(&writer.after());
    out.push_str("cd \"$home\" || exit 4\n");
    for step in steps {
        writer.step(&mut out, step);
    }
    out.push_str("\nfinish\n");
    out
}

/// Functions of the script: `land` moves a file of the stage folder to its name, `render` runs one call, `done_with` closes it.
const HEAD: &str = r#"
[ -z "${ZSH_VERSION-}" ] || emulate sh
set -u
PATH=${PATH:-/usr/local/bin:/usr/bin:/bin}
export PATH
failed=0
at=0
lacking=0
code=0
trap 'failed=130; finish' INT TERM HUP

# land FINAL STAGED...: moves a finished file, the first of these that is there and not empty, to its name.
land() {
  final=$1
  shift
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

# render LOG PROGRAM ARGUMENTS...: runs one call, its output to the log and to the screen.
render() {
  at=$((at + 1))
  lacking=0
  log=$1
  shift
  echo "[$at of $total] ${log##*/}"
  { "$@" 2>&1; echo $? >"$log.code"; } | tee -- "$log"
  code=4
  read -r code <"$log.code" || code=4
  rm -f -- "$log.code"
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
    bases: &'w [Base],
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
                Body::Base(base) => {
                    let _ = write!(out, "\"${}\"", base.name);
                }
            }
        }
        if out.is_empty() { word("") } else { out }
    }

    fn step(&self, out: &mut String, step: &Step) {
        let _ = writeln!(out, "\n# {} {} frames {}", step.job, step.passes.join(" "), step.frames);
        for folder in super::folders(self.plan, step) {
            let _ = writeln!(out, "mkdir -p -- {} || exit 4", self.word(&folder));
        }
        let _ = write!(out, "render {}", self.word(&step.log));
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
            let (series, stage) = (&self.plan.series[write.series], self.word(&write.stage));
            for frame in step.frames.iter() {
                let _ = write!(out, "land {}", self.word(&series.name(frame)));
                for spelling in write.expected.spellings(frame) {
                    let _ = write!(out, " {stage}/{}", glob(&spelling));
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
        let mut stages: Vec<String> = step.writes.iter().map(|write| self.word(&write.stage)).collect();
        stages.dedup();
        if let Some(product) = &step.product {
            stages.push(self.word(paths::parent(&product.staged)));
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
