//! The value of every token for one pass of one job.

use std::collections::BTreeSet;

use crate::pins::{Moment, Pins};
use crate::sheet::{FileOption, Version, spelt};
use crate::source::Spanned;
use crate::template::token::PathToken;
use crate::template::{Lookup, Value};

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
    if let Some(token) = PathToken::named(name) {
        return built_in(seen, token).map_or(Lookup::NoValue, Lookup::Value);
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

/// The value of a built-in token of paths.
fn built_in(seen: TokenScope<'_>, token: PathToken) -> Option<Value> {
    let TokenScope { job, pass, .. } = seen;
    let text = |value: Option<String>| value.map(Value::Text);
    let number = |value: Option<i64>| value.map(Value::Number);
    let format = pass.format.as_deref();
    match token {
        PathToken::Frame => Some(Value::Frame),
        PathToken::Project => text(seen.project.map(|name| name.value.clone())),
        PathToken::Sheet => text(Some(seen.home.sheet.clone())),
        PathToken::Job => text(Some(job.job.clone())),
        PathToken::Pass => text((!seen.together).then(|| pass.label.clone())),
        PathToken::Camera => text(job.camera.clone()),
        PathToken::View => text(job.view.clone()),
        PathToken::Adapter => text(job.adapter.clone()),
        PathToken::Region => text(job.region.clone()),
        PathToken::Version => match job.version {
            // Where versions are still to be looked for, the hole stands for any.
            Some(Version::Next | Version::Latest) if seen.looking => Some(Value::AnyVersion),
            _ => job.version_number(seen.pins, seen.pin_mode).map(Value::Version),
        },
        PathToken::Type => text(pass.file_type.map(|known| known.name.to_owned())),
        PathToken::Ext => text(pass.file_type.map(|known| known.extensions[0].to_owned())),
        PathToken::Quality => number(format.and_then(|format| format.quality.as_ref()).map(|quality| quality.value)),
        PathToken::Colour => text(pass.colour.map(|colour| colour.to_string())),
        PathToken::Samples => number(job.samples),
        PathToken::Scene => text(job.scene.as_ref().map(|scene| paths::stem(&scene.value).to_owned())),
        PathToken::SceneFolder => job.scene.as_ref().map(|scene| Value::Folder(paths::parent(&scene.value).to_owned())),
        PathToken::First => number(job.own_frames.as_ref().and_then(|frames| frames.first())),
        PathToken::Last => number(job.own_frames.as_ref().and_then(|frames| frames.last())),
        PathToken::Step => number(job.own_frames.as_ref().and_then(|frames| frames.runs().first().map(|run| run.step))),
        PathToken::Frames => text(job.own_frames.as_ref().map(ToString::to_string)),
        PathToken::Width => number(job.size.map(|size| i64::from(size.width))),
        PathToken::Height => number(job.size.map(|size| i64::from(size.height))),
        PathToken::FullWidth => number(job.full_size.map(|size| i64::from(size.width))),
        PathToken::FullHeight => number(job.full_size.map(|size| i64::from(size.height))),
        PathToken::Scale => text(Some(job.scale.to_string())),
        PathToken::PixelAspect => text(job.pixel_aspect.map(|aspect| aspect.to_string())),
        PathToken::Mode => text(seen.pin_mode.map(str::to_owned)),
        PathToken::Bits
        | PathToken::Channels
        | PathToken::Compression
        | PathToken::Codec
        | PathToken::Chroma
        | PathToken::Effort
        | PathToken::AudioCodec => text(FileOption::named(token.name()).and_then(|option| spelt(format, option))),
        PathToken::Date => moment(seen).clock.map(|clock| Value::Clock(clock, "%Y-%m-%d")),
        PathToken::Time => moment(seen).clock.map(|clock| Value::Clock(clock, "%H%M%S")),
        PathToken::User => text(moment(seen).user),
        PathToken::Host => text(moment(seen).host),
        PathToken::Fps => text(job.fps.map(|fps| fps.to_string().replace('/', "-"))),
        PathToken::Os => text(Some(
            crate::sheet::SYSTEMS
                .iter()
                .find(|(_, system)| *system == seen.home.system)
                .map_or("", |(name, _)| name)
                .to_owned(),
        )),
    }
}
