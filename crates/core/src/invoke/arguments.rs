//! One invocation to the arguments of its program.

use crate::adapter::{Adapter, Argument};
use crate::frames::Frames;
use crate::plan::{Invocation, Plan, Series};
use crate::resolve::{Job, Pass, paths};
use crate::sheet::Key;
use crate::template::{Lookup, Value, expand_text};

/// The stage folder of one series of an invocation, absolute.
pub type Stage<'s> = &'s dyn Fn(&Series) -> String;

/// The arguments of an invocation that renders `frames`, files going to the stage folders.
#[must_use]
pub fn arguments(
    plan: &Plan,
    invocation: &Invocation,
    adapter: &Adapter,
    frames: &Frames,
    stage: Stage<'_>,
) -> Vec<String> {
    let job = &plan.jobs[invocation.job];
    let call = Call { job, adapter, frames };
    let outputs: Vec<(&Pass, String)> = invocation
        .series
        .iter()
        .flat_map(|at| {
            let series = &plan.series[*at];
            let out = out(adapter, series, &stage(series));
            series.passes.iter().map(move |pass| (&job.passes[*pass], out.clone()))
        })
        .collect();
    let Some((first, first_out)) = outputs.first() else { return Vec::new() };
    let mut arguments = Vec::new();
    for argument in &adapter.arguments {
        match argument {
            Argument::Always(template) => {
                arguments.extend(expand_text(template, &|name| call.lookup(name, first, first_out)))
            }
            Argument::Group(templates)
                if templates.iter().any(|template| template.has("pass") || template.has("out")) =>
            {
                for (pass, out) in &outputs {
                    arguments.extend(group(templates, &|name| call.lookup(name, pass, out)));
                }
            }
            Argument::Group(templates) => {
                arguments.extend(group(templates, &|name| call.lookup(name, first, first_out)))
            }
        }
    }
    for (key, given) in &job.settings.values {
        let (Key::Var(name), crate::sheet::Setting::Text(value)) = (key, &*given.value) else { continue };
        let lookup = |token: &str| match token {
            "key" => text(name.clone()),
            "value" => text(value.clone()),
            token => call.lookup(token, first, first_out),
        };
        arguments.extend(group(&adapter.variable, &lookup));
    }
    arguments
}

/// All templates of a group, or nothing when one of them lacks a value.
fn group(templates: &[crate::template::Template], lookup: &dyn Fn(&str) -> Lookup) -> Vec<String> {
    templates.iter().map(|template| expand_text(template, lookup)).collect::<Option<Vec<_>>>().unwrap_or_default()
}

/// The stage folder and the final file name, its number spelt as the program wants it.
fn out(adapter: &Adapter, series: &Series, stage: &str) -> String {
    let (_, file) = series.pattern.split_folder();
    format!("{stage}/{}", file.with_frame(|width| adapter.number.repeat(width)))
}

fn text(value: String) -> Lookup {
    Lookup::Value(Value::Text(value))
}

struct Call<'c> {
    job: &'c Job,
    adapter: &'c Adapter,
    frames: &'c Frames,
}

impl Call<'_> {
    /// A token's value in arguments: frames are this call's own, numbers are plain, files are where they are staged.
    fn lookup(&self, name: &str, pass: &Pass, out: &str) -> Lookup {
        let job = self.job;
        let some = |value: Option<String>| value.map_or(Lookup::NoValue, text);
        let setting = |key: Key| job.settings.text(&key).map(str::to_owned);
        let whole = |key: Key| job.settings.whole(&key).map(|number| number.to_string());
        let format = pass.format.as_deref();
        match name {
            "scene" => some(job.scene.as_ref().map(|scene| scene.value.clone())),
            "scene_folder" => some(job.scene.as_ref().map(|scene| paths::parent(&scene.value).to_owned())),
            "camera" => some(setting(Key::Camera)),
            "frames" => text(self.frames.to_string()),
            "first" => self.frames.first().map_or(Lookup::NoValue, |frame| Lookup::Value(Value::Number(frame))),
            "last" => self.frames.last().map_or(Lookup::NoValue, |frame| Lookup::Value(Value::Number(frame))),
            "width" => some(job.size.map(|size| size.width.to_string())),
            "height" => some(job.size.map(|size| size.height.to_string())),
            "fps" => some(job.fps.map(|fps| fps.to_string())),
            "pass" => text(pass.name.value.clone()),
            "out" => text(out.to_owned()),
            "bits" => some(format.and_then(|format| format.bits.as_ref()).map(|bits| bits.value.to_string())),
            "channels" => {
                some(format.and_then(|format| format.channels.as_ref()).map(|channels| channels.value.to_string()))
            }
            "compression" => some(format.and_then(|format| format.compression.as_ref()).map(|c| c.value.clone())),
            "quality" => {
                some(format.and_then(|format| format.quality.as_ref()).map(|quality| quality.value.to_string()))
            }
            "colour" => some(pass.colour.map(|colour| colour.to_string())),
            "samples" => some(whole(Key::Samples)),
            "threads" => some(whole(Key::Threads)),
            "adapter" => text(self.adapter.name.clone()),
            _ => Lookup::NoValue,
        }
    }
}
