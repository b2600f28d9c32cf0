//! What lies on disk at the names of a plan. Every folder is listed once.

use std::collections::{HashMap, HashSet};
use std::io::ErrorKind;
use std::path::Path;

use rayon::iter::{Either, IntoParallelIterator, IntoParallelRefIterator, ParallelIterator};
use rayon::slice::ParallelSliceMut;
use truepath_core::check::Machine;
use truepath_core::frames::Number;
use truepath_core::plan::{Plan, Series};
use truepath_core::resolve::paths;
use truepath_core::run::history::{NO_DIGEST, Record, past, standing};
use truepath_core::sheet::PassKind;
use truepath_core::verify::{Facts, Files, MOVIE, Observed, Picture, Provenance, Seen, State, Verdict, judge};
use truepath_media::Content;

use crate::disk::{self, files};
use crate::failure::Failure;
use crate::threads::Cores;

/// Frames that are looked at together.
const BLOCK: usize = 1 << 16;

/// Frames with what their folder says of their files.
type Listed = Vec<(i64, Facts)>;

/// How closely files are looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Look {
    /// What the journals know at its size, made as it would be now and not written since, is not opened: it was decoded
    /// when it landed.
    Trusting,
    /// Head and end of every file.
    Heads,
    /// Every byte: decoded, compared with the digest of what landed, and looked at for what is odd.
    Deep,
}

/// What every byte of a file says.
struct Deep {
    seen: Seen,
    bytes: u64,
    digest: [u8; 32],
    /// A number that it shares with pictures that show the same, where its pixels were unpacked.
    shows: Option<u64>,
    odd: Option<String>,
}

impl Deep {
    /// How a file stands that seemed to be what landed, if every byte says otherwise.
    fn standing(&self, landed: Option<[u8; 32]>) -> Option<Provenance> {
        // A landing that a script wrote down has no digest.
        if landed.is_some_and(|landed| landed != self.digest && landed != NO_DIGEST) {
            return Some(Provenance::Changed("its bytes are not those that landed".to_owned()));
        }
        self.odd.clone().map(Provenance::Odd)
    }
}

/// What is looked at.
pub struct Observation<'o> {
    /// The plan.
    pub plan: &'o Plan,
    /// What the disk and the journals said.
    pub machine: &'o Machine,
    /// How closely.
    pub look: Look,
    /// Other plans whose files may stand in the same folders: nothing of theirs is a stray.
    pub beside: &'o [&'o Plan],
    /// Hears of every file that was looked at.
    pub told: &'o (dyn Fn(u64) + Sync),
}

impl Observation<'_> {
    /// The verdict on every series, then on every movie.
    ///
    /// # Errors
    /// When a folder or a file cannot be read.
    pub fn all(&self) -> Result<Vec<Verdict>, Failure> {
        let mut verdicts = self.verdicts()?;
        for at in 0..self.plan.movies.len() {
            verdicts.push(self.movie(at)?);
        }
        Ok(verdicts)
    }

    /// The verdict on one movie.
    fn movie(&self, at: usize) -> Result<Verdict, Failure> {
        let (number, movie) = (self.plan.series.len() + at, &self.plan.movies[at]);
        let Some(path) = movie.pattern.fixed().filter(|_| movie.is_known()) else {
            return Ok(Verdict::gather((number, movie), &[], []));
        };
        let failed = |error: std::io::Error| Failure::machine("read", &path, &error);
        if let Some(what) = disk::no_file(Path::new(&path)) {
            let seen = Seen::Unreadable(format!("{what} stands there, not a file"));
            return Ok(Verdict::gather((number, movie), &[], [(MOVIE, seen, Provenance::Fresh)]));
        }
        let about = match std::fs::metadata(&path) {
            Ok(about) => about,
            Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
                return Ok(Verdict::gather((number, movie), &[], [(MOVIE, Seen::Missing, Provenance::Fresh)]));
            }
            Err(error) => return Err(failed(error)),
        };
        let history = &self.machine.history;
        let past = past(history.of(movie), movie.number(MOVIE), about.len());
        let now = self.machine.made_of.get(number).and_then(Option::as_ref);
        let stale = now.map(|now| history.stale(now));
        let mut standing = standing(past, about.len(), stale.as_deref());
        let untouched = past
            .is_some_and(|(record, _)| history.may_be(&record, about.modified().map_or(i64::MIN, disk::milliseconds)));
        let known = self.look == Look::Trusting && stale.is_some() && standing == Provenance::Fresh && untouched;
        let seen =
            if known { Seen::AsLanded } else { truepath_media::movie::probe(Path::new(&path)).map_err(failed)? };
        (self.told)(1);
        if self.look == Look::Deep && standing == Provenance::Fresh {
            let mut hasher = blake3::Hasher::new();
            disk::open(Path::new(&path)).and_then(|file| hasher.update_reader(file).map(drop)).map_err(failed)?;
            let deep = Deep {
                seen: seen.clone(),
                bytes: hasher.count(),
                digest: *hasher.finalize().as_bytes(),
                shows: None,
                odd: None,
            };
            standing = deep.standing(past.map(|(record, _)| record.digest)).unwrap_or(Provenance::Fresh);
        }
        Ok(Verdict::gather((number, movie), &[], [(MOVIE, seen, standing)]))
    }

    /// The verdict on every series.
    ///
    /// # Errors
    /// When a folder or a file cannot be read.
    pub fn verdicts(&self) -> Result<Vec<Verdict>, Failure> {
        let mut listed: HashMap<String, Files> = HashMap::new();
        (0..self.plan.series.len()).map(|at| self.verdict(at, &mut listed)).collect()
    }

    /// The verdict on one series.
    ///
    /// # Errors
    /// When a folder or a file cannot be read.
    pub fn of_series(&self, at: usize) -> Result<Verdict, Failure> {
        self.verdict(at, &mut HashMap::new())
    }

    fn verdict(&self, at: usize, listed: &mut HashMap<String, Files>) -> Result<Verdict, Failure> {
        let (plan, series) = (self.plan, &self.plan.series[at]);
        if !series.is_known() || series.frames.is_none() {
            return Ok(Verdict::gather((at, series), &[], []));
        }
        let mut stray = Vec::new();
        // Frames at whose names something stands that is no regular file.
        let mut blocked = HashSet::new();
        let mut there = match series.pattern.folder().and_then(|folder| folder.fixed()) {
            Some(folder) => {
                let files = self.folder(folder.trim_end_matches('/'), listed)?;
                blocked = series.among(files.others());
                in_folder(series, &folder, files, &mut stray)
            }
            None => self.in_folders(series, listed, &mut blocked)?,
        };
        let landed = self.machine.history.of(series);
        let now = self.machine.made_of.get(at).and_then(Option::as_ref);
        let stale = now.map(|now| self.machine.history.stale(now));
        let history = &self.machine.history;
        let look = |(frame, (bytes, changed)): (i64, Facts)| -> Observed {
            let past = past(landed, series.number(frame), bytes);
            let untouched = past.is_some_and(|(record, _)| history.may_be(&record, changed));
            let standing = standing(past, bytes, stale.as_deref());
            // Only a landing of this size and of the same making has been held against this plan.
            let known = self.look == Look::Trusting && stale.is_some() && standing == Provenance::Fresh && untouched;
            let seen = if known {
                Seen::AsLanded
            } else {
                let path = series.name(frame);
                let seen = truepath_media::probe(Path::new(&path));
                seen.unwrap_or_else(|error| Seen::Unreadable(format!("it cannot be read: {error}")))
            };
            (self.told)(1);
            (frame, seen, standing)
        };
        there.par_sort_unstable();
        let barred = |frame: &i64| -> Observed {
            let what = disk::no_file(Path::new(&series.name(*frame))).unwrap_or("something else");
            (*frame, Seen::Unreadable(format!("{what} stands there, not a file")), Provenance::Fresh)
        };
        // Block by block: what was found of a million frames is large, what it comes to is small.
        let block = |block: &[(i64, Facts)]| block.par_iter().map(|one| look(*one)).collect::<Vec<Observed>>();
        let found = there.chunks(BLOCK).flat_map(block).chain(blocked.iter().map(barred));
        let labels: Vec<&str> =
            series.passes.iter().map(|pass| plan.jobs[series.job].passes[*pass].label.as_str()).collect();
        let mut verdict = if self.look == Look::Deep {
            Verdict::gather((at, series), &labels, self.deepened(series, landed, found.collect()))
        } else {
            Verdict::gather((at, series), &labels, found)
        };
        if let Some(own) = &plan.jobs[series.job].own_frames {
            let is_own = |number: &Number| series.shift.frame(*number).is_some_and(|frame| own.contains(frame));
            stray.retain(|(number, _)| !is_own(number));
        }
        let is_planned = |path: &String| self.beside.iter().chain([&plan]).any(|plan| plan.is_named(path));
        verdict.stray = stray.into_iter().map(|(_, path)| path).filter(|path| !is_planned(path)).collect();
        Ok(verdict)
    }

    /// What was found of a series, corrected by what every byte says.
    fn deepened(&self, series: &Series, landed: &[(Number, Record)], mut found: Vec<Observed>) -> Vec<Observed> {
        let looked = self.deep(series, &found);
        for (frame, seen, standing) in &mut found {
            let Some(deep) = looked.get(frame) else { continue };
            seen.clone_from(&deep.seen);
            if *standing == Provenance::Fresh {
                let landed = past(landed, series.number(*frame), deep.bytes);
                *standing = deep.standing(landed.map(|(record, _)| record.digest)).unwrap_or(Provenance::Fresh);
            } else if let (Provenance::Foreign, Some(odd)) = (&*standing, &deep.odd) {
                *standing = Provenance::Odd(format!("{odd}; no journal knows it"));
            }
        }
        found
    }

    /// Every byte of the files of a series that seem whole by head and end.
    fn deep(&self, series: &Series, found: &[Observed]) -> HashMap<i64, Deep> {
        let pass = &self.plan.jobs[series.job].passes[series.passes[0]];
        let is_colour = series.passes.len() == 1 && pass.kind == PassKind::Colour;
        let whole: Vec<i64> =
            found.iter().filter(|(_, seen, _)| matches!(seen, Seen::Whole(_))).map(|(frame, ..)| *frame).collect();
        let labels = self.plan.labels(series);
        let planned = |picture: &Picture| judge(series, &labels, &Seen::Whole(picture.clone())).0 == State::Good;
        let look = |frame: &i64| {
            let path = series.name(*frame);
            let mut hasher = blake3::Hasher::new();
            let read = truepath_media::inspect(Path::new(&path), &planned).and_then(|looked| {
                hasher.update_reader(disk::open(Path::new(&path))?)?;
                Ok(looked)
            });
            (self.told)(1);
            let unread = |error| (Seen::Unreadable(format!("it cannot be read: {error}")), Content::default());
            let (seen, content) = read.unwrap_or_else(unread);
            let (bytes, digest) = (hasher.count(), *hasher.finalize().as_bytes());
            (*frame, Deep { seen, bytes, digest, shows: content.digest(), odd: content.odd(is_colour) })
        };
        let mut looked = whole.par_iter().map(look).collect::<Vec<(i64, Deep)>>();
        for at in 1..looked.len() {
            let (before, digest, shows) = (looked[at - 1].0, looked[at - 1].1.digest, looked[at - 1].1.shows);
            let deep = &mut looked[at].1;
            let how = match (deep.digest == digest, deep.shows.is_some() && deep.shows == shows) {
                (true, _) => "is the same to the byte as",
                (false, true) => "shows the same, pixel by pixel, as",
                (false, false) => continue,
            };
            deep.odd.get_or_insert(format!("it {how} frame {before}"));
        }
        looked.into_iter().collect()
    }

    /// The files of a folder: as they were listed for the checks, or listed now.
    fn folder<'f>(&'f self, folder: &str, listed: &'f mut HashMap<String, Files>) -> Result<&'f Files, Failure> {
        if let Some(files) = self.machine.folders.get(folder) {
            return Ok(files);
        }
        if !listed.contains_key(folder) {
            let files = files(Path::new(folder)).map_err(|error| Failure::machine("list", folder, &error))?;
            listed.insert(folder.to_owned(), files);
        }
        Ok(&listed[folder])
    }

    /// Frames that are there, of a series whose folders bear the number.
    fn in_folders(
        &self,
        series: &Series,
        listed: &mut HashMap<String, Files>,
        blocked: &mut HashSet<i64>,
    ) -> Result<Listed, Failure> {
        let mut there = Vec::new();
        for (frame, path) in series.files() {
            let files = self.folder(paths::parent(&path), listed)?;
            let name = paths::file_name(&path);
            there.extend(files.find(name).map(|facts| (frame, facts)));
            if files.others().contains(name) {
                blocked.insert(frame);
            }
        }
        Ok(there)
    }
}

/// Frames of a series that are among the files of its folder. Numbers beyond its frames may be strays.
fn in_folder(series: &Series, folder: &str, files: &Files, stray: &mut Vec<(Number, String)>) -> Listed {
    let (_, file) = series.pattern.split_folder();
    let Some(frames) = series.frames.as_ref() else { return Vec::new() };
    if file.frame_width().is_none() {
        let found = file.fixed().and_then(|name| files.find(&name));
        return found.map(|facts| frames.iter().map(|frame| (frame, facts)).collect()).unwrap_or_default();
    }
    let own = files.of(&file, &Cores).into_par_iter();
    let (there, beyond): (Listed, Vec<Number>) = own.partition_map(|(row, number)| match series.frame_of(number) {
        Some(frame) => Either::Left((frame, files.facts(row))),
        None => Either::Right(number),
    });
    let folder = folder.trim_end_matches('/');
    stray.extend(beyond.into_iter().map(|number| (number, format!("{folder}/{}", file.name(number)))));
    there
}
