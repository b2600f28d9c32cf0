//! The value of every token for one pass of one job.

use std::collections::BTreeSet;

use crate::pins::{Moment, Pins};
use crate::sheet::{FileOption, Version, spelt};
use crate::source::Spanned;
use crate::template::{Lookup, Value, token};

use super::{Home, Job, Pass, ResolvedRoot, paths};

/// What a path is made for.
#[derive(Clone, Copy)]
pub struct TokenScope<'s> {
    /// The job.
    pub job: &'s Job,
    /// The pass; where layers are together the first one, whose format holds for the file.
    pub pass: &'s Pass,
    /// Whether the file holds all passes.
    pub together: bool,
    /// The sheet's roots.
    pub roots: &'s [ResolvedRoot],
    /// Where the sheet is at home.
    pub home: &'s Home,
    /// The project's name.
    pub project: Option<&'s Spanned<String>>,
    /// Whether versions are being looked for on disk, so that a hole stands for them.
    pub looking: bool,
    /// Looked-up values.
    pub pins: &'s Pins,
    /// The modes that have names of their own, joined with `-`.
    pub pin_mode: Option<&'s str>,
    /// Every variable that any job of the sheet has.
    pub variables: &'s BTreeSet<String>,
}

/// The value of a token in a path.
#[must_use]
pub fn lookup(seen: TokenScope<'_>, name: &str) -> Lookup {
    if let Some(root) = seen.roots.iter().find(|root| root.name == name) {
        return root.path.clone().map_or(Lookup::NoValue, |path| Lookup::Value(Value::Folder(path)));
    }
    if let Some(value) = built_in(seen, name) {
        return value.map_or(Lookup::NoValue, Lookup::Value);
    }
    match seen.job.vars.get(name) {
        Some(value) => Lookup::Value(Value::Text(value.clone())),
        None if seen.variables.contains(name) => Lookup::NoValue,
        None => Lookup::Unknown,
    }
}

impl Job {
    /// The version as a number, pinned or looked up where the sheet gives none.
    #[must_use]
    pub fn version_number(&self, pins: &Pins, mode: Option<&str>) -> Option<i64> {
        match self.version? {
            Version::Number(version) => Some(version),
            _ => pins.version(&self.job, mode),
        }
    }
}

/// The moment of the first run of the job's version.
fn moment(seen: TokenScope<'_>) -> Moment {
    let version = seen.job.version_number(seen.pins, seen.pin_mode);
    seen.pins.moment(&seen.job.job, seen.pin_mode, version)
}

/// `None` for names that are no built-in token of paths.
fn built_in(seen: TokenScope<'_>, name: &str) -> Option<Option<Value>> {
    let TokenScope { job, pass, .. } = seen;
    let text = |value: Option<String>| value.map(Value::Text);
    let number = |value: Option<i64>| value.map(Value::Number);
    let format = pass.format.as_deref();
    Some(match name {
        "frame" => Some(Value::Frame),
        "project" => text(seen.project.map(|name| name.value.clone())),
        "sheet" => text(Some(seen.home.sheet.clone())),
        "job" => text(Some(job.job.clone())),
        "pass" => text((!seen.together).then(|| pass.label.clone())),
        "camera" => text(job.camera.clone()),
        "view" => text(job.view.clone()),
        "adapter" => text(job.adapter.clone()),
        "region" => text(job.region.clone()),
        "version" => match job.version {
            // Where versions are still to be looked for, the hole stands for any.
            Some(Version::Next | Version::Latest) if seen.looking => Some(Value::AnyVersion),
            _ => job.version_number(seen.pins, seen.pin_mode).map(Value::Version),
        },
        "type" => text(pass.file_type.map(|known| known.name.to_owned())),
        "ext" => text(pass.file_type.map(|known| known.extensions[0].to_owned())),
        "quality" => number(format.and_then(|format| format.quality.as_ref()).map(|quality| quality.value)),
        "colour" => text(pass.colour.map(|colour| colour.to_string())),
        "samples" => number(job.samples),
        "scene" => text(job.scene.as_ref().map(|scene| paths::stem(&scene.value).to_owned())),
        "scene_folder" => job.scene.as_ref().map(|scene| Value::Folder(paths::parent(&scene.value).to_owned())),
        "first" => number(job.own_frames.as_ref().and_then(|frames| frames.first())),
        "last" => number(job.own_frames.as_ref().and_then(|frames| frames.last())),
        "step" => number(job.own_frames.as_ref().and_then(|frames| frames.runs().first().map(|run| run.step))),
        "frames" => text(job.own_frames.as_ref().map(ToString::to_string)),
        "width" => number(job.size.map(|size| i64::from(size.width))),
        "height" => number(job.size.map(|size| i64::from(size.height))),
        "full_width" => number(job.full_size.map(|size| i64::from(size.width))),
        "full_height" => number(job.full_size.map(|size| i64::from(size.height))),
        "scale" => text(Some(job.scale.to_string())),
        "pixel_aspect" => text(job.pixel_aspect.map(|aspect| aspect.to_string())),
        "mode" => text(seen.pin_mode.map(str::to_owned)),
        "bits" | "channels" | "compression" | "codec" | "chroma" | "effort" | "audio_codec" => {
            text(FileOption::named(name).and_then(|option| spelt(format, option)))
        }
        "date" => moment(seen).clock.map(|clock| Value::Clock(clock, "%Y-%m-%d")),
        "time" => moment(seen).clock.map(|clock| Value::Clock(clock, "%H%M%S")),
        "user" => text(moment(seen).user),
        "host" => text(moment(seen).host),
        "fps" => text(job.fps.map(|fps| fps.to_string().replace('/', "-"))),
        "os" => text(Some(
            crate::sheet::SYSTEMS
                .iter()
                .find(|(_, system)| *system == seen.home.system)
                .map_or("", |(name, _)| name)
                .to_owned(),
        )),
        name if token::PATH.iter().any(|(known, _)| *known == name) => None,
        _ => return None,
    })
}
