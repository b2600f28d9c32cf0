//! What a movie would be made of now: the bytes of its frames and of its sound, and how it is made.

use std::path::Path;

use truepath_core::frames::Number;
use truepath_core::invoke::film;
use truepath_core::plan::{Adapters, Plan, Series};
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::run::history::{History, NO_DIGEST, Record};

use super::{Made, ask};
use crate::state::StateFolder;

/// What each movie of a plan is made of now.
#[must_use]
pub fn all(plan: &Plan, adapters: &Adapters, state: &StateFolder, history: &History) -> Vec<Made> {
    plan.movies.iter().map(|movie| one(plan, movie, (adapters, state), history)).collect()
}

/// What one movie is made of now; `None` where it cannot be made.
#[must_use]
pub fn one(plan: &Plan, movie: &Series, (adapters, state): (&Adapters, &StateFolder), history: &History) -> Made {
    let film = movie.film.as_deref().filter(|_| movie.is_makeable())?;
    let encoder = film::encoder(movie, film, adapters)?;
    let mut frames = blake3::Hasher::new();
    for clip in &film.clips {
        let series = &plan.series[clip.series];
        let landed = history.of(series);
        for frame in clip.frames.iter() {
            let number = series.number(frame);
            frames.update(&number.value().to_le_bytes());
            // Of one number, the last landing is what lies there.
            let own = &landed[..landed.partition_point(|(other, _)| *other <= number)];
            let known = |(other, record): &&(Number, Record)| {
                *other == number && record.digest != NO_DIGEST && !record.is_gone()
            };
            match own.last().filter(known) {
                Some((_, record)) => frames.update(&record.digest),
                // No journal knows its bytes: they are looked at.
                None => frames.update(content(&series.name(frame), state).unwrap_or_default().as_bytes()),
            };
        }
    }
    let sound = film.audio.as_deref().map(|path| content(path, state).unwrap_or_default());
    let frames = frames.finalize().to_hex()[..32].to_owned();
    Some(Fingerprint::of_movie(plan, movie, &encoder.name, (frames, sound)))
}

fn content(path: &str, state: &StateFolder) -> Option<String> {
    let (path, digest) = (Path::new(path), |path: &Path| ask::content(path, &state.facts(), &|_| {}).ok());
    // Journals know the whole digest of a file, this is half of it: enough to tell bytes apart.
    digest(path)
}
