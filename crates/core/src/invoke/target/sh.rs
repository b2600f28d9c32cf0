//! A POSIX shell script that renders a plan: each call into its stage folder, each file moved to its name once its
//! program has ended and the file is not empty. The same plan gives the same bytes.

use std::fmt::Write as _;

use crate::invoke::quote::sh::word;
use crate::plan::Plan;
use crate::resolve::paths;
use crate::template::{Part, Template};

use super::Step;

/// The whole script.
#[must_use]
pub fn script(plan: &Plan, steps: &[Step]) -> String {
    let mut out = String::new();
    let frames: i64 = steps.iter().map(|step| step.frames.count()).sum();
    let _ = writeln!(
        out,
        "#!/bin/sh\n# Made by True Path from the sheet {}: {} calls, {frames} frames.",
        plan.home.sheet,
        steps.len()
    );
    out.push_str(HEAD);
    let _ = writeln!(out, "total={}\ncd {} || exit 4", steps.len(), word(&plan.home.folder));
    for step in steps {
        write_step(&mut out, plan, step);
    }
    out.push('\n');
    if !plan.run.after.is_empty() {
        out.push_str("outcome=complete\n[ \"$failed\" -eq 0 ] || outcome=incomplete\n");
    }
    for command in &plan.run.after {
        let _ = writeln!(out, "{}", command.iter().map(after_word).collect::<Vec<_>>().join(" "));
    }
    out.push_str("exit $failed\n");
    out
}

/// A word of a command that runs at the end; `{outcome}` is known only then.
fn after_word(template: &Template) -> String {
    let parts = template.parts().iter().map(|part| match part {
        Part::Text(text) => word(text),
        Part::Token(_) => "\"$outcome\"".to_owned(),
    });
    parts.collect()
}

/// Functions of the script. `land` moves a file of the stage folder to its name, `render` runs one call.
const HEAD: &str = r#"set -u
PATH=${PATH:-/usr/local/bin:/usr/bin:/bin}
export PATH
failed=0
at=0

# land STAGED FINAL: moves a finished file to its name.
land() {
  if [ -s "$1" ]; then
    mv -f -- "$1" "$2" || failed=4
  else
    echo "missing: $2" >&2
    failed=3
  fi
}

# render LOG PROGRAM ARGUMENTS...: runs one call, its output to the log and to the screen.
render() {
  at=$((at + 1))
  log=$1
  shift
  echo "[$at of $total] ${log##*/}"
  { "$@" 2>&1 && echo ok >"$log.ok"; } | tee "$log"
  [ -f "$log.ok" ] || { echo "failed: see $log" >&2; failed=3; }
  rm -f -- "$log.ok"
}

"#;

fn write_step(out: &mut String, plan: &Plan, step: &Step) {
    let _ = writeln!(out, "\n# {} {} frames {}", step.job, step.passes.join(" "), step.frames);
    let mut folders: Vec<String> = vec![paths::parent(&step.log).to_owned()];
    for write in &step.writes {
        folders.push(write.stage.clone());
        let series = &plan.series[write.series];
        folders.extend(step.frames.iter().map(|frame| paths::parent(&series.name(frame)).to_owned()));
    }
    folders.sort();
    folders.dedup();
    for folder in folders {
        let _ = writeln!(out, "mkdir -p -- {} || exit 4", word(&folder));
    }
    let env: Vec<String> = step.env.iter().map(|(name, value)| format!("{name}={}", word(value))).collect();
    let env = if env.is_empty() { String::new() } else { format!("env {} ", env.join(" ")) };
    let words: Vec<String> =
        std::iter::once(&step.program).chain(&step.arguments).map(|argument| word(argument)).collect();
    let _ = writeln!(out, "render {} {env}{}", word(&step.log), words.join(" "));
    for write in &step.writes {
        let series = &plan.series[write.series];
        for (_, name) in step.frames.iter().map(|frame| (frame, series.name(frame))) {
            let _ =
                writeln!(out, "land {} {}", word(&format!("{}/{}", write.stage, paths::file_name(&name))), word(&name));
        }
    }
    let mut stages: Vec<&String> = step.writes.iter().map(|write| &write.stage).collect();
    stages.dedup();
    for stage in stages {
        let _ = writeln!(out, "rmdir -- {} 2>/dev/null", word(stage));
    }
}
