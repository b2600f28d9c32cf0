//! Series of pictures to be looked at: which frames there are, where, and how each stands.

use std::collections::BTreeMap;
use std::path::Path;

use truepath_core::catalogue::{self, FileType, Light};
use truepath_core::frames::{Frames, Number};
use truepath_core::plan::Series;
use truepath_core::sheet::Colour;
use truepath_core::template::Pattern;
use truepath_core::verify::{STATES, State, Verdict};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::typed::numbers_there;

use super::encode::frames;
use crate::pipeline::Loaded;

/// One series, or one pass of it where several share a file.
pub struct Strip {
    /// Its name.
    pub label: String,
    /// The series; empty outside any sheet.
    pub series: String,
    /// The job that it belongs to; empty outside any sheet.
    pub job: String,
    /// Its camera.
    pub camera: String,
    /// Its pass.
    pub pass: String,
    /// The layer of the file that shows it.
    pub layer: Option<String>,
    /// How its pixels are meant, where that is known.
    pub colour: Option<Colour>,
    /// Which pixels its file type is meant for.
    pub light: Light,
    /// Width and height in pixels, where that is planned.
    pub size: Option<(u32, u32)>,
    /// The frames that are shown, in their order: at first all of them.
    pub shots: Vec<Shot>,
    /// All frames by their states.
    pub states: BTreeMap<State, Frames>,
}

/// One frame.
#[derive(Clone, Debug)]
pub struct Shot {
    /// Its number.
    pub frame: i64,
    /// Its file.
    pub path: String,
    /// How it stands.
    pub state: State,
    /// Why it is not good.
    pub why: Option<String>,
}

impl Strip {
    /// All its frames in some state.
    pub fn in_state(&self, state: State) -> Frames {
        self.states.get(&state).cloned().unwrap_or_default()
    }

    /// How many frames it has.
    pub fn count(&self) -> i64 {
        self.states.values().map(Frames::count).sum()
    }

    /// Takes in what was found when the frames that are shown were read.
    pub fn seen(&mut self, shots: &[Shot]) {
        for (shot, _) in shots.iter().zip(&self.shots).filter(|(shot, before)| shot.state != before.state) {
            let frame = Frames::one(shot.frame);
            self.states.values_mut().for_each(|own| *own = own.minus(&frame));
            let own = self.states.entry(shot.state).or_default();
            *own = own.union(&frame);
        }
    }
}

/// Frames by their states.
fn by_state(shots: &[Shot]) -> BTreeMap<State, Frames> {
    let mut states: BTreeMap<State, Vec<i64>> = BTreeMap::new();
    shots.iter().for_each(|shot| states.entry(shot.state).or_default().push(shot.frame));
    states.into_iter().map(|(state, frames)| (state, Frames::from_any(frames))).collect()
}

/// The strips of those of a sheet's series that some verdicts are of, each pass of files with several for itself.
pub fn of_sheet<'v>(loaded: &Loaded, verdicts: impl IntoIterator<Item = &'v Verdict>) -> Vec<Strip> {
    let pictures = verdicts.into_iter().filter(|verdict| !verdict.is_movie);
    pictures.flat_map(|verdict| of_series(loaded, &loaded.plan.series[verdict.series], verdict)).collect()
}

fn of_series(loaded: &Loaded, series: &Series, verdict: &Verdict) -> Vec<Strip> {
    let job = &loaded.plan.jobs[series.job];
    let shots = shots(series, verdict);
    let several = series.passes.len() > 1;
    let labels = loaded.plan.labels(series);
    let one = |(at, label): (usize, &&str)| {
        let pass = &job.passes[series.passes[at]];
        Strip {
            label: if several { format!("{} {label}", series.id) } else { series.id.clone() },
            series: series.id.clone(),
            job: job.name.clone(),
            camera: job.camera.clone().unwrap_or_default(),
            pass: (*label).to_owned(),
            layer: several.then(|| (*label).to_owned()),
            colour: pass.colour,
            light: series.file_type.map_or(Light::Either, |known| known.light),
            size: series.size.map(|size| (size.width, size.height)),
            shots: shots.clone(),
            states: by_state(&shots),
        }
    };
    labels.iter().enumerate().map(one).collect()
}

/// Every frame of a series with its state.
pub fn shots(series: &Series, verdict: &Verdict) -> Vec<Shot> {
    let mut states: BTreeMap<i64, State> = BTreeMap::new();
    for (_, state) in STATES {
        states.extend(verdict.in_state(state).iter().map(|frame| (frame, state)));
    }
    let mut reasons: BTreeMap<i64, &str> = BTreeMap::new();
    for (_, why, frames) in &verdict.findings {
        reasons.extend(frames.iter().map(|frame| (frame, why.as_str())));
    }
    let shot = |(frame, state): (i64, State)| Shot {
        frame,
        path: series.name(frame),
        state,
        why: reasons.get(&frame).map(|why| (*why).to_owned()),
    };
    states.into_iter().map(shot).collect()
}

/// The strip of a pattern outside any sheet. Numbers that are asked for and not there are missing; without any asked for, so
/// are gaps.
pub fn of_pattern(pattern: &Pattern, asked: Option<&str>) -> Result<Strip, Failure> {
    let there = match (asked, pattern.split_folder().0.fixed().is_some()) {
        (Some(text), false) => frames(text)?,
        (Some(_), true) => numbers_there(pattern).unwrap_or_default(),
        (None, _) => numbers_there(pattern)?,
    };
    let wanted = match asked {
        Some(text) => frames(text)?,
        None => there.first().zip(there.last()).map_or(Frames::none(), |(first, last)| Frames::range(first, last)),
    };
    if wanted.is_empty() {
        return Err(Failure::new(Cause::Refused, format!("no file matches {}", pattern.typed())));
    }
    let shot = |frame: i64| {
        let path = pattern.name(Number::new(frame));
        let is_there = Path::new(&path).symlink_metadata().is_ok();
        Shot { frame, path, state: if is_there { State::Good } else { State::Missing }, why: None }
    };
    let shots: Vec<Shot> = wanted.iter().map(shot).collect();
    Ok(Strip {
        label: pattern.typed(),
        series: String::new(),
        job: String::new(),
        camera: String::new(),
        pass: String::new(),
        layer: None,
        colour: None,
        light: file_type(pattern).map_or(Light::Either, |known| known.light),
        size: None,
        states: by_state(&shots),
        shots,
    })
}

fn file_type(pattern: &Pattern) -> Option<&'static FileType> {
    catalogue::by_extension(pattern.spelt().rsplit_once('.')?.1)
}
