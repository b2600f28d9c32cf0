//! One call to the arguments and the environment of its program.

use std::collections::BTreeSet;

use crate::adapter::{Adapter, Argument, NumberStyle, OF_PASS, Per, Spelling};
use crate::frames::Frames;
use crate::plan::{Call, Plan, Series, Still};
use crate::resolve::{Job, Pass, TokenScope, lookup, paths};
use crate::sheet::Key;
use crate::source::Spanned;
use crate::template::{Lookup, Pattern, Piece, Template, Token, Value, expand_text};

use super::spread::{Delivered, group, spread};

/// Where a call works. All paths are absolute.
#[derive(Clone, Copy)]
pub struct CallPaths<'b> {
    /// The stage folder of a series.
    pub stage: &'b dyn Fn(&Series) -> String,
    /// The file that keeps what the program says.
    pub log: &'b str,
    /// What an exporter made of the scene.
    pub product: Option<&'b str>,
    /// Where a long still is saved under way.
    pub still: Option<&'b Still>,
}

/// The arguments of a call that renders `frames`.
#[must_use]
pub fn arguments(
    plan: &Plan,
    call: &Call,
    adapter: &Adapter,
    frames: &Frames,
    paths_of_call: CallPaths<'_>,
) -> Vec<String> {
    let scope = ArgumentScope { plan, job: &plan.jobs[call.job], adapter, frames, paths_of_call };
    let outputs = scope.outputs(call);
    let Some(first) = outputs.first() else { return Vec::new() };
    let mut arguments = Vec::new();
    for argument in &adapter.arguments {
        match argument {
            Argument::Group(templates) if is_of_pass(templates) => {
                for output in &outputs {
                    arguments.extend(group(templates, adapter, &|name| scope.lookup(name, output)));
                }
            }
            other => {
                arguments.extend(spread(std::slice::from_ref(other), adapter, &|name| scope.lookup(name, first)));
            }
        }
    }
    arguments.extend(pairs(&scope, first));
    arguments
}

/// Whether a list names a pass, and so is repeated for each.
fn is_of_pass(templates: &[Spanned<Template>]) -> bool {
    templates.iter().any(|template| OF_PASS.iter().any(|token| template.value.has(token)))
}

/// What the command line of a call brings to its program, and what of it lacks a value.
#[must_use]
pub fn delivered(plan: &Plan, call: &Call, adapter: &Adapter, paths_of_call: CallPaths<'_>) -> Delivered {
    let scope = ArgumentScope { plan, job: &plan.jobs[call.job], adapter, frames: &call.frames, paths_of_call };
    let outputs = scope.outputs(call);
    let mut delivered = Delivered::default();
    for (at, output) in outputs.iter().enumerate() {
        let values = |name: &str| scope.lookup(name, output);
        for argument in &adapter.arguments {
            match argument {
                Argument::Group(templates) if at == 0 || is_of_pass(templates) => {
                    delivered.group(templates, adapter, &values);
                }
                other if at == 0 => delivered.follow(std::slice::from_ref(other), adapter, &values),
                _ => {}
            }
        }
        for (_, template) in adapter.env.iter().filter(|_| at == 0) {
            delivered.group(std::slice::from_ref(template), adapter, &values);
        }
    }
    delivered
}

/// Variables and native settings, each in the arguments that hand one over.
pub(super) fn pairs(call: &ArgumentScope<'_>, output: &Output<'_>) -> Vec<String> {
    let mut words = Vec::new();
    let variables = call.job.vars.iter().map(|(name, value)| (&call.adapter.variable, name, value));
    let natives = call.job.native.iter().map(|(name, value)| (&call.adapter.native, name, value));
    for (templates, name, value) in variables.chain(natives) {
        let with_pair = |token: &str| match token {
            "key" => text(name.clone()),
            "value" => text(value.clone()),
            token => call.lookup(token, output),
        };
        words.extend(group(templates, call.adapter, &with_pair));
    }
    words
}

/// The environment that a call adds to its surroundings: the adapter's, then the job's own.
#[must_use]
pub fn environment(
    plan: &Plan,
    call: &Call,
    adapter: &Adapter,
    frames: &Frames,
    paths_of_call: CallPaths<'_>,
) -> Vec<(String, String)> {
    let scope = ArgumentScope { plan, job: &plan.jobs[call.job], adapter, frames, paths_of_call };
    if adapter.env.is_empty() && scope.job.env.is_empty() {
        return Vec::new();
    }
    let outputs = scope.outputs(call);
    let Some(first) = outputs.first() else { return Vec::new() };
    let own = adapter.env.iter().filter_map(|(name, template)| {
        Some((name.clone(), expand_text(&template.value, &|name| scope.lookup(name, first))?))
    });
    let of_job = scope.job.env.iter().map(|(name, value)| (name.clone(), value.clone()));
    let mut all: Vec<(String, String)> = Vec::new();
    for (name, value) in own.chain(of_job) {
        all.retain(|(other, _)| *other != name);
        all.push((name, value));
    }
    all
}

/// The name that a program is given for the files of a series: the final file name, its number spelt as the program wants
/// it. Without a number, the one sign before it goes, too.
#[must_use]
pub fn out_name(adapter: &Adapter, series: &Series, frames: &Frames) -> String {
    let (_, file) = series.pattern.split_folder();
    match (adapter.number, adapter.per) {
        (None, Per::Frame) => file.name(series.number(frames.first().unwrap_or(0))),
        (None | Some(NumberStyle::None), _) => without_number(&file),
        (Some(NumberStyle::Printf), _) => {
            let hole = |width| NumberStyle::Printf.hole(width);
            let piece = |piece: &Piece| match piece {
                Piece::Text(text) => escaped(adapter, text),
                Piece::Frame { width } => hole(*width),
                Piece::Version => String::new(),
            };
            file.pieces().iter().map(piece).collect()
        }
        (Some(number), _) => file.with_frame(|width| number.hole(width)),
    }
}

/// A text as a program reads it that takes `%` for the beginning of a number.
#[must_use]
pub fn escaped(adapter: &Adapter, text: &str) -> String {
    if adapter.number == Some(NumberStyle::Printf) { text.replace('%', "%%") } else { text.to_owned() }
}

fn without_number(file: &Pattern) -> String {
    let mut name = String::new();
    for piece in file.pieces() {
        match piece {
            Piece::Text(text) => name.push_str(text),
            Piece::Version => {}
            Piece::Frame { .. } => {
                if name.ends_with(|c: char| !c.is_alphanumeric()) {
                    name.pop();
                }
            }
        }
    }
    name
}

/// Frames as a program spells them.
#[must_use]
pub fn spelt(frames: &Frames, spelling: &Spelling) -> String {
    let parts = frames.sequential().map(|run| {
        let mut part = run.first.to_string();
        if run.count > 1 {
            part.push_str(&format!("{}{}", spelling.range, run.last()));
        }
        if run.step > 1 {
            part.push_str(&format!("{}{}", spelling.step, run.step));
        }
        part
    });
    parts.collect::<Vec<_>>().join(&spelling.join)
}

fn text(value: impl Into<String>) -> Lookup {
    Lookup::Value(Value::Text(value.into()))
}

/// One pass of a call and the file it goes to.
pub(super) struct Output<'o> {
    pub pass: &'o Pass,
    folder: String,
    pub file: String,
}

/// One call with all that tokens ask for.
pub(super) struct ArgumentScope<'c> {
    pub plan: &'c Plan,
    pub job: &'c Job,
    pub adapter: &'c Adapter,
    pub frames: &'c Frames,
    pub paths_of_call: CallPaths<'c>,
}

impl<'c> ArgumentScope<'c> {
    fn outputs(&self, call: &Call) -> Vec<Output<'c>> {
        let of_series =
            |at: &usize| self.plan.series[*at].passes.iter().map(|pass| self.output(*at, *pass)).collect::<Vec<_>>();
        call.series.iter().flat_map(of_series).collect()
    }

    /// One pass of a series and the file it goes to.
    pub(super) fn output(&self, series: usize, pass: usize) -> Output<'c> {
        let series = &self.plan.series[series];
        let folder = escaped(self.adapter, &(self.paths_of_call.stage)(series));
        let file = out_name(self.adapter, series, self.frames);
        Output { pass: &self.job.passes[pass], folder, file }
    }

    /// The file that an exporter makes, in place of a picture.
    pub(super) fn scene_output(&self, folder: &str, file: &str) -> Option<Output<'c>> {
        let pass = self.job.passes.first()?;
        Some(Output { pass, folder: folder.to_owned(), file: file.to_owned() })
    }

    /// What one token of `writes` is written as.
    pub(super) fn text(&self, token: &Token, output: &Output<'_>) -> Option<String> {
        let template = Template::of(token.clone());
        expand_text(&template, &|name| self.lookup(name, output))
    }

    /// A token's value in arguments: frames are this call's own, numbers are plain, files are where they are staged, and
    /// values are the program's own words where it has such.
    pub(super) fn lookup(&self, name: &str, output: &Output<'_>) -> Lookup {
        let job = self.job;
        let some = |value: Option<String>| value.map_or(Lookup::NoValue, text);
        let number = |value: Option<i64>| value.map_or(Lookup::NoValue, |value| Lookup::Value(Value::Number(value)));
        let scene = self.paths_of_call.product.or(job.scene.as_ref().map(|scene| scene.value.as_str()));
        match name {
            "scene" => some(scene.map(str::to_owned)),
            "scene_folder" => some(scene.map(|scene| paths::parent(scene).to_owned())),
            "frame" if self.adapter.per == Per::Frame => number(self.frames.first()),
            "resume" => some(self.paths_of_call.still.and_then(|still| still.resume.clone())),
            "checkpoint" => some(self.paths_of_call.still.map(|still| still.checkpoint.clone())),
            "checkpoint_every" => some(self.paths_of_call.still.map(|still| still.every.to_string())),
            "frame" | "input" | "input_first" | "outcome" | "any" => Lookup::NoValue,
            "frames" => text(spelt(self.frames, &self.adapter.spelling)),
            "first" => number(self.frames.first()),
            "last" => number(self.frames.last()),
            "step" => number(Some(self.frames.sequential().next().map_or(1, |run| run.step))),
            "fps" => some(job.fps.map(|fps| fps.to_string())),
            "pass" | "word" => text(self.adapter.word("pass", &output.pass.name.value)),
            "out" => text(format!("{}/{}", output.folder, output.file)),
            "out_folder" => text(output.folder.clone()),
            "out_stem" => text(output.file.rsplit_once('.').map_or(output.file.as_str(), |(stem, _)| stem)),
            "log" => text(self.paths_of_call.log),
            "threads" => number(job.threads),
            "device" => some(job.device.clone()),
            "audio" => some(job.given.text(&Key::Audio).map(str::to_owned)),
            name => match name.strip_prefix("native.") {
                Some(native) => some(job.native.get(native).cloned()),
                None => self.own_words(name, lookup(self.seen(output.pass), name)),
            },
        }
    }

    fn own_words(&self, name: &str, found: Lookup) -> Lookup {
        if !self.adapter.words.contains_key(name) {
            return found;
        }
        match &found {
            Lookup::Value(Value::Text(value)) => text(self.adapter.word(name, value)),
            Lookup::Value(Value::Number(number)) => {
                let plain = number.to_string();
                let word = self.adapter.word(name, &plain);
                if word == plain { found } else { text(word) }
            }
            _ => found,
        }
    }

    fn seen<'s>(&'s self, pass: &'s Pass) -> TokenScope<'s> {
        const NONE: &BTreeSet<String> = &BTreeSet::new();
        TokenScope {
            job: self.job,
            pass,
            together: false,
            roots: &[],
            home: &self.plan.home,
            project: self.plan.project.as_ref(),
            mode: self.plan.mode.as_deref(),
            looking: false,
            pins: &self.plan.pins,
            variables: NONE,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{Spelling, spelt, without_number};
    use crate::frames::FrameExpr;
    use crate::template::Pattern;

    #[test]
    fn frames_are_spelt_as_the_program_wants_them() {
        let frames = FrameExpr::parse("1-3,7,10-30/10").expect("read").frames(None, None).expect("known");
        assert_eq!(spelt(&frames, &Spelling::default()), "1-3,7,10-30/10");
        let own = Spelling { join: " ".into(), range: "..".into(), step: "x".into() };
        assert_eq!(spelt(&frames, &own), "1..3 7 10..30x10");
    }

    #[test]
    fn a_number_goes_with_the_sign_before_it() {
        for (head, tail, expected) in [("a.", ".png", "a.png"), ("a_", ".png", "a.png"), ("a", ".png", "a.png")] {
            let mut pattern = Pattern::default();
            pattern.push_text(head);
            pattern.push_frame(4);
            pattern.push_text(tail);
            assert_eq!(without_number(&pattern), expected);
        }
    }
}
