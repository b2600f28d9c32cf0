//! What lies on disk at the names of a plan. Every folder is listed once.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io::ErrorKind;
use std::path::Path;

use rayon::iter::{Either, IntoParallelIterator, IntoParallelRefIterator, ParallelIterator};
use rayon::slice::ParallelSliceMut;
use truepath_core::check::Machine;
use truepath_core::frames::{Frames, Number};
use truepath_core::picture::{OddRow, Oddity, Placed};
use truepath_core::plan::{Plan, Series};
use truepath_core::resolve::paths;
use truepath_core::run::fingerprint::Difference;
use truepath_core::run::history::{History, NO_DIGEST, Record, past, standing};
use truepath_core::run::looked::{Close, FileFinding, FileNow, FindingLine};
use truepath_core::verify::{
    FileFacts, Files, MOVIE, Observed, Picture, Provenance, Seen, State, Verdict, judge, near_misses,
};
use truepath_media::Looked;

use crate::disk::{self, files};
use crate::failure::Failure;
use crate::threads::Cores;

/// Frames that are looked at together.
const BLOCK: usize = 1 << 16;
/// Pictures whose every byte is looked at together: what their pixels come to is kept until their neighbours are there.
const DEEP_BLOCK: usize = 256;

/// Frames with what their folder says of their files.
type Listed = Vec<(i64, FileFacts)>;

/// How closely files are looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Look {
    /// What the journals know at its size, made as it would be now and not written since, is not opened: it was decoded
    /// when it landed. Of what was written since, every byte is compared with what landed.
    Trusting,
    /// Head and end of every file.
    Heads,
    /// The bytes of what the journals know against what landed; head and end of everything else.
    Sums,
    /// Every byte: decoded, compared with the digest of what landed, and looked at for what is odd.
    Deep,
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
    /// Keeps what was found for everybody else.
    pub keep: &'o (dyn Fn(FindingLine) + Sync),
}

/// A file that is there, its landing, and what was found of it before.
struct KnownFile<'k> {
    file: FileNow<'k>,
    past: Option<(Record, bool)>,
    found: Option<FileFinding>,
}

impl Observation<'_> {
    /// What is known of a file.
    fn known<'k>(&'k self, series: &'k Series, frame: i64, facts: FileFacts) -> KnownFile<'k> {
        let (history, number) = (&self.machine.history, series.number(frame));
        let past = past(history.of(series), number, facts.0);
        let landed = past.as_ref().map_or("", |(record, _)| history.tag(record));
        let file = FileNow { place: &series.place, number, facts, landed };
        let looked = Some(&history.looked).filter(|looked| looked.has(&series.place));
        let found = looked.and_then(|looked| looked.of(&file));
        let is_said = |odd: &Oddity| self.plan.policy.level(odd.kind).is_some();
        let found = found.filter(|found| if let FileFinding::Odd(odd) = found { is_said(odd) } else { true });
        // What was odd when the file landed holds until somebody writes there.
        let untouched = past.filter(|(record, _)| history.may_be(record, facts.1));
        let landed = untouched.and_then(|(record, _)| history.odd(&record)).filter(|odd| is_said(odd));
        let found = found.or_else(|| landed.map(|odd| FileFinding::Odd(odd.clone())));
        KnownFile { file, past, found }
    }

    /// Keeps what was found of a file, where that is new.
    fn note(&self, known: &KnownFile<'_>, observed: &Observed, close: Close) {
        let found = FileFinding::of(&observed.1, &observed.2);
        // A stale file is not held against its landing or its neighbours: nothing of that is taken back.
        let close = if matches!(observed.2, Provenance::Stale(_)) { Close::Head } else { close };
        // Another size shows in every listing of the folder and need not be kept.
        let is_listed = matches!(found, FileFinding::Changed(_)) && known.past.is_some_and(|(_, same)| !same);
        if !is_listed && found.is_news(known.found.as_ref(), close) {
            (self.keep)(FindingLine::new(&known.file, &found));
        }
    }

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
        let policy = &self.plan.policy;
        let Some(path) = movie.pattern.fixed().filter(|_| movie.is_known()) else {
            return Ok(Verdict::gather((number, movie), (&[], policy), []));
        };
        if let Some(what) = disk::no_file(Path::new(&path)) {
            let seen = Seen::Unreadable(format!("this is {what}, not a file"));
            return Ok(Verdict::gather((number, movie), (&[], policy), [(MOVIE, seen, Provenance::Fresh)]));
        }
        let about = match std::fs::metadata(&path) {
            Ok(about) => about,
            Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
                let seen = [(MOVIE, Seen::Missing, Provenance::Fresh)];
                let mut verdict = Verdict::gather((number, movie), (&[], policy), seen);
                verdict.gone = gone(movie, &self.machine.history, &Frames::one(MOVIE));
                return Ok(verdict);
            }
            Err(error) => {
                let seen = [(MOVIE, unread(error), Provenance::Fresh)];
                return Ok(Verdict::gather((number, movie), (&[], policy), seen));
            }
        };
        let history = &self.machine.history;
        let facts = (about.len(), about.modified().map_or(i64::MIN, disk::milliseconds));
        let known = self.known(movie, MOVIE, facts);
        let now = self.machine.made_of.get(number).and_then(Option::as_ref);
        let stale = now.map(|now| history.stale(now));
        let mut standing = standing(known.past, facts.0, stale.as_deref());
        let untouched = known.past.is_some_and(|(record, _)| history.may_be(&record, facts.1));
        let fresh = stale.is_some() && standing == Provenance::Fresh;
        let believed = self.look == Look::Trusting && fresh && untouched;
        let path = Path::new(&path);
        let mut seen =
            if believed { Seen::AsLanded } else { truepath_media::movie::probe(path).unwrap_or_else(unread) };
        (self.told)(1);
        let compares =
            matches!(self.look, Look::Deep | Look::Sums) || self.look == Look::Trusting && fresh && !untouched;
        let record = known.past.map(|(record, _)| record).filter(|_| standing == Provenance::Fresh);
        match &known.found {
            Some(FileFinding::Broken(why)) if believed => seen = Seen::Broken(why.clone()),
            Some(FileFinding::Unreadable(_)) => seen = read_again(path, seen),
            Some(FileFinding::Changed(why)) if !compares && record.is_some() => {
                standing = Provenance::Changed(why.clone())
            }
            _ => {}
        }
        if compares && let Some(record) = record {
            match truepath_media::digest(path) {
                Ok((digest, _)) => standing = changed(Some(&record), &digest).unwrap_or(standing),
                Err(error) => seen = unread(error),
            }
        }
        let observed = (MOVIE, seen, standing);
        // Of a movie every look reads the tables, and no look reads more.
        self.note(&known, &observed, if believed { Close::Head } else { Close::Decoded });
        Ok(Verdict::gather((number, movie), (&[], policy), [observed]))
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
            return Ok(Verdict::gather((at, series), (&[], &plan.policy), []));
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
        let look = |own: (i64, FileFacts)| self.looked_at(series, stale.as_deref(), own);
        there.par_sort_unstable();
        let barred = |frame: &i64| -> Observed {
            let what = disk::no_file(Path::new(&series.name(*frame))).unwrap_or("something else");
            (*frame, Seen::Unreadable(format!("this is {what}, not a file")), Provenance::Fresh)
        };
        // Block by block: what was found of a million frames is large, what it comes to is small.
        let block = |block: &[(i64, FileFacts)]| block.par_iter().map(|one| look(*one)).collect::<Vec<Observed>>();
        let found = there.chunks(BLOCK).flat_map(block).chain(blocked.iter().map(barred));
        let labels: Vec<&str> =
            series.passes.iter().map(|pass| plan.jobs[series.job].passes[*pass].label.as_str()).collect();
        let words = (labels.as_slice(), &plan.policy);
        let mut verdict = if self.look == Look::Deep {
            let deepened = self.deepened(series, landed, found.collect());
            let listed: HashMap<i64, FileFacts> = there.iter().copied().collect();
            for observed in &deepened {
                if let Some(facts) = listed.get(&observed.0) {
                    self.note(&self.known(series, observed.0, *facts), observed, Close::Decoded);
                }
            }
            Verdict::gather((at, series), words, deepened)
        } else {
            Verdict::gather((at, series), words, found)
        };
        self.beside_the_plan(series, &mut verdict, stray, listed)?;
        Ok(verdict)
    }

    /// What lies among the files of a series and is none of them, what is gone, and what bears almost the name of a missing one.
    fn beside_the_plan(
        &self,
        series: &Series,
        verdict: &mut Verdict,
        mut stray: Vec<(Number, String)>,
        listed: &mut HashMap<String, Files>,
    ) -> Result<(), Failure> {
        let (plan, history) = (self.plan, &self.machine.history);
        let landed = history.of(series);
        if let Some(own) = &plan.jobs[series.job].own_frames {
            let is_own = |number: &Number| series.shift.frame(*number).is_some_and(|frame| own.contains(frame));
            stray.retain(|(number, _)| !is_own(number));
        }
        let is_planned = |path: &str| self.beside.iter().chain([&plan]).any(|plan| plan.is_named(path));
        verdict.stray = stray.into_iter().map(|(_, path)| path).filter(|path| !is_planned(path)).collect();
        let missing = verdict.in_state(State::Missing).clone();
        verdict.gone = gone(series, history, &missing);
        let folder = series.pattern.folder().and_then(|folder| folder.fixed());
        if let Some(folder) = folder.filter(|_| self.look != Look::Trusting && !missing.is_empty()) {
            let folder = folder.trim_end_matches('/');
            let known = |name: &str| {
                let path = format!("{folder}/{name}");
                let number = series.pattern.read(&path);
                is_planned(&path) || number.is_some_and(|number| past(landed, number, 0).is_some())
            };
            verdict.near = near_misses(series, self.folder(folder, listed)?, &missing, &known);
            verdict.stray.retain(|path| !verdict.near.iter().any(|near| near.from == paths::file_name(path)));
        }
        Ok(())
    }

    /// What a look at one file has found, which is kept where it is new.
    fn looked_at(
        &self,
        series: &Series,
        stale: Option<&[Vec<Difference>]>,
        (frame, facts): (i64, FileFacts),
    ) -> Observed {
        let history = &self.machine.history;
        let known = self.known(series, frame, facts);
        let untouched = known.past.is_some_and(|(record, _)| history.may_be(&record, facts.1));
        let mut standing = standing(known.past, facts.0, stale);
        let record = known.past.map(|(record, _)| record).filter(|_| standing == Provenance::Fresh);
        // Only a landing of this size and of the same making has been held against this plan.
        let fresh = record.is_some() && stale.is_some();
        let path = series.name(frame);
        let path = Path::new(&path);
        let probe = || truepath_media::probe(path).unwrap_or_else(unread);
        let digest = record.filter(|record| record.digest != NO_DIGEST);
        let mut close = Close::Head;
        let mut seen = match (self.look, digest, &known.found) {
            (look, _, Some(FileFinding::Broken(why))) if look != Look::Deep => Seen::Broken(why.clone()),
            (Look::Trusting, ..) if fresh && untouched => Seen::AsLanded,
            (Look::Trusting | Look::Sums, Some(record), _) => match truepath_media::digest(path) {
                Ok((digest, _)) => {
                    close = Close::Bytes;
                    let other = changed(Some(&record), &digest);
                    let same = other.is_none() && fresh;
                    standing = other.unwrap_or(standing);
                    if same { Seen::AsLanded } else { probe() }
                }
                Err(error) => unread(error),
            },
            _ => probe(),
        };
        (self.told)(1);
        // A look at every byte finds out for itself.
        if self.look == Look::Deep {
            return (frame, seen, standing);
        }
        match &known.found {
            Some(FileFinding::Unreadable(_)) => seen = read_again(path, seen),
            Some(FileFinding::Changed(why)) if close == Close::Head && record.is_some() => {
                standing = Provenance::Changed(why.clone());
            }
            Some(FileFinding::Odd(odd)) if matches!(standing, Provenance::Fresh | Provenance::Foreign) => {
                standing = Provenance::Odd(odd.clone());
            }
            _ => {}
        }
        let observed = (frame, seen, standing);
        self.note(&known, &observed, close);
        observed
    }

    /// What was found of a series, corrected by what every byte says.
    fn deepened(&self, series: &Series, landed: &[(Number, Record)], mut found: Vec<Observed>) -> Vec<Observed> {
        let labels = self.plan.labels(series);
        let planned = |picture: &Picture| {
            let state = judge(series, &labels, &Seen::Whole(picture.clone())).0;
            matches!(state, State::Good | State::Unproven)
        };
        let whole: Vec<usize> = (0..found.len()).filter(|at| matches!(found[*at].1, Seen::Whole(_))).collect();
        let mut row = OddRow::new(self.plan.asked(series), &self.plan.policy);
        for block in whole.chunks(DEEP_BLOCK) {
            let look = |at: &usize| {
                let path = series.name(found[*at].0);
                let looked = truepath_media::inspect(Path::new(&path), &planned);
                (self.told)(1);
                (*at, looked)
            };
            let looked: Vec<(usize, std::io::Result<Looked>)> = block.par_iter().map(look).collect();
            for (at, looked) in looked {
                let (frame, seen, standing) = &mut found[at];
                let looked = looked.unwrap_or_else(|error| unread(error).into());
                seen.clone_from(&looked.seen);
                let record = past(landed, series.number(*frame), looked.bytes).map(|(record, _)| record);
                if let (Provenance::Fresh | Provenance::Odd(_), Some(digest)) = (&*standing, &looked.digest) {
                    // What the journals say of it is looked for anew.
                    *standing = changed(record.as_ref(), digest).unwrap_or_default();
                }
                let Looked { seen, content, bytes, .. } = looked;
                let next = matches!(seen, Seen::Whole(_)).then_some(Placed { key: at, content, bytes });
                row.next(next).into_iter().for_each(|odd| note(odd, &mut found));
            }
        }
        row.next(None).into_iter().for_each(|odd| note(odd, &mut found));
        found
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

/// Reads a file to its end that could not be read before: what was seen of it, or why it still cannot be read.
fn read_again(path: &Path, seen: Seen) -> Seen {
    truepath_media::digest(path).map_or_else(unread, |_| seen)
}

/// A file that the system could not read: nobody knows what it holds.
fn unread(error: std::io::Error) -> Seen {
    Seen::Unreadable(format!("it cannot be read: {error}"))
}

/// Missing frames that somebody put away, by day.
fn gone(series: &Series, history: &History, missing: &Frames) -> Vec<(String, Frames)> {
    let mut days: BTreeMap<&str, Vec<i64>> = BTreeMap::new();
    for (number, away) in history.gone(series).into_iter().flatten() {
        if let Some(frame) = series.shift.frame(*number).filter(|frame| missing.contains(*frame)) {
            // RFC 3339 begins with the day.
            let at = history.sessions.get(away.session).and_then(|session| session.began.at.get(..10));
            days.entry(at.unwrap_or("an unknown day")).or_default().push(frame);
        }
    }
    days.into_iter().map(|(day, frames)| (format!("put away by `clean` on {day}"), Frames::from_any(frames))).collect()
}

/// How a file stands that seemed to be what landed, if its bytes say otherwise. A landing that a script wrote down has no
/// digest.
fn changed(landed: Option<&Record>, digest: &[u8; 32]) -> Option<Provenance> {
    let other = landed.is_some_and(|landed| landed.digest != *digest && landed.digest != NO_DIGEST);
    other.then(|| Provenance::Changed("its bytes changed after True Path wrote it".to_owned()))
}

/// Something odd about one of the files that were found: only what is good in every other way is odd.
fn note((at, mut odd): (usize, Oddity), found: &mut [Observed]) {
    let standing = &mut found[at].2;
    match standing {
        Provenance::Foreign => odd.why += "; True Path has no record of it",
        Provenance::Fresh => {}
        _ => return,
    }
    *standing = Provenance::Odd(odd);
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
