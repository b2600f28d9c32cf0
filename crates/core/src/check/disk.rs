//! What lies on disk before anything runs: roots, free space, files that are already there.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use crate::catalogue::{Channels, Compression};
use crate::diagnostic::Slug;
use crate::plan::{Plan, Series};
use crate::resolve::{Job, paths};
use crate::run::fingerprint::product;
use crate::run::history::{past, standing};
use crate::sheet::{Key, System};
use crate::source::Place;
use crate::verify::{Files, Provenance};

use super::{Machine, RootState, Sink, wording};

/// Where disks are usually mounted.
const MOUNTS: [&str; 5] = ["/mnt", "/media", "/run/media", "/Volumes", "/net"];

pub fn check(sink: &mut Sink<'_, '_>) {
    let Some(machine) = sink.input.machine else { return };
    roots(sink, machine);
    strangers(sink);
    if let Some(why) = &machine.state {
        let folder = format!("{}/.truepath", sink.input.plan.home.folder);
        sink.findings.add(Slug::StateNotWritable, None, None, wording::disk::state_not_writable(&folder, why));
    }
    for (at, (path, what)) in &machine.blocked {
        let series = sink.input.plan.output(*at);
        let place = series.path.as_ref().map(|path| path.at);
        sink.add(Slug::PlaceBlocked, place, sink.job(series), wording::disk::place_blocked(path, what));
    }
    let there = DiskListing::of(sink.input, machine);
    left_over(sink, &there);
    space(sink, machine, &there);
}

fn roots(sink: &mut Sink<'_, '_>, machine: &Machine) {
    let plan = sink.input.plan;
    let used: BTreeSet<usize> = sink.series().filter_map(|series| series.root).collect();
    for root in used.into_iter().map(|root| &plan.roots[root]) {
        let Some(path) = &root.path else { continue };
        let Some(ground) = machine.roots.get(path).filter(|_| !is_foreign(path, plan.home.system)) else { continue };
        let inside = paths::is_below(path, &plan.home.folder);
        let mount = MOUNTS.iter().any(|mount| paths::is_below(path, mount));
        let found = match ground {
            RootState { there: false, .. } if !inside => {
                Some((Slug::RootNotThere, wording::disk::root_not_there(path)))
            }
            RootState { there: true, folder: false, .. } => {
                Some((Slug::RootNotWritable, wording::disk::root_not_writable(path, "a file has this name")))
            }
            RootState { writable: false, .. } => Some((
                Slug::RootNotWritable,
                wording::disk::root_not_writable(path, "this user has no permission to write there"),
            )),
            RootState { empty: true, .. } if !inside && landed(machine, &root.name) > 0 => {
                Some((Slug::RootEmptied, wording::disk::root_emptied(path, landed(machine, &root.name))))
            }
            RootState { empty: true, system_disk: true, .. } if mount => {
                Some((Slug::RootNotMounted, wording::disk::root_not_mounted(path)))
            }
            _ => None,
        };
        if let Some((check, words)) = found {
            sink.findings.add(check, Some(root.at), None, words);
        }
    }
}

/// How many files the journals know below a root.
fn landed(machine: &Machine, root: &str) -> usize {
    let below = format!("{{{root}}}/");
    let places = machine.history.places().filter(|place| place.starts_with(&below));
    places.map(|place| machine.history.at(place).iter().filter(|(_, record)| !record.is_gone()).count()).sum()
}

/// Whether a path is one of another system: a drive letter where there are none, or none where there should be one.
fn is_foreign(path: &str, system: System) -> bool {
    let drive = path.as_bytes().get(1) == Some(&b':');
    if system == System::Windows {
        path.starts_with('/') && !path.starts_with("//")
    } else {
        drive || path.starts_with("//")
    }
}

/// Paths of other systems and of other people.
fn strangers(sink: &mut Sink<'_, '_>) {
    let plan = sink.input.plan;
    let used: BTreeSet<usize> = sink.series().filter_map(|series| series.root).collect();
    let roots =
        used.into_iter().filter_map(|root| Some((plan.roots[root].path.as_deref()?, plan.roots[root].at, None)));
    let scenes = plan
        .jobs
        .iter()
        .filter_map(|job| job.scene.as_ref().map(|scene| (scene.value.as_str(), scene.at, Some(&**job))));
    let sounds = plan.jobs.iter().flat_map(|job| {
        let own = job.movies.iter().filter_map(|movie| movie.audio.as_ref());
        own.map(move |audio| (audio.value.as_str(), audio.at, Some(&**job)))
    });
    let mut seen: BTreeSet<Place> = BTreeSet::new();
    let all: Vec<(&str, Place, Option<&Job>)> = roots.chain(scenes).chain(sounds).collect();
    for (path, at, job) in all {
        if !seen.insert(at) {
            continue;
        }
        let name = job.map(|job| job.name.as_str());
        if is_foreign(path, plan.home.system) {
            if sink.input.machine.is_some_and(|machine| machine.elsewhere) {
                continue;
            }
            sink.findings.add(Slug::OtherSystemPath, Some(at), name, wording::disk::other_system_path(path));
        } else if let Some(person) = other_person(path, plan) {
            sink.findings.add(Slug::OtherHome, Some(at), name, wording::disk::other_home(path, person));
        }
    }
}

/// Whose home a path lies in, when it is not this user's.
fn other_person<'p>(path: &'p str, plan: &Plan) -> Option<&'p str> {
    let user = plan.home.user.as_deref().unwrap_or("");
    let own = !user.is_empty() && paths::is_below(path, user);
    // The sheet's own folder may lie in somebody's home: then its files do, too.
    if own || paths::is_below(path, &plan.home.folder) {
        return None;
    }
    let rest = ["/home/", "/Users/", "C:/Users/"].iter().find_map(|home| path.strip_prefix(home))?;
    rest.split('/').next().filter(|person| !person.is_empty() && *person != "Shared" && *person != "Public")
}

/// Files that belong to no series, by folder. `known` tells for each file of a folder whether it belongs to one.
fn unknown<'i>(machine: &'i Machine, known: &HashMap<&str, Vec<bool>>) -> BTreeMap<&'i str, Vec<&'i str>> {
    let of = |(folder, files): (&'i String, &'i Files)| {
        let known = known.get(folder.as_str());
        let is_unknown =
            |(row, (name, _)): &(usize, (&str, _))| !name.starts_with('.') && !known.is_some_and(|known| known[*row]);
        let names: Vec<&str> = files.iter().enumerate().filter(is_unknown).map(|(_, (name, _))| name).collect();
        (!names.is_empty()).then_some((folder.as_str(), names))
    };
    machine.folders.iter().filter_map(of).collect()
}

/// Frames, each with its series in the plan, by the digest of the export that they were rendered from.
type ByExport<'i> = BTreeMap<&'i str, Vec<(usize, i64)>>;

/// The files that are there: by series how many of them and how large, and those that nobody knows.
struct DiskListing<'i> {
    /// Count and bytes of frames that are there, by series of the plan.
    there: HashMap<usize, (i64, u64)>,
    /// Numbers of frames that were made of something else, by series of the plan.
    stale: BTreeMap<usize, Vec<i64>>,
    /// Numbers beyond the frames, by series of the plan.
    beyond: BTreeMap<usize, Vec<i64>>,
    /// Frames by their export, by job.
    exports: BTreeMap<usize, ByExport<'i>>,
    /// Files that belong to no series, by folder.
    unknown: BTreeMap<&'i str, Vec<&'i str>>,
}

impl<'i> DiskListing<'i> {
    fn of(input: super::Input<'i>, machine: &'i Machine) -> DiskListing<'i> {
        let mut listing = DiskListing {
            there: HashMap::new(),
            stale: BTreeMap::new(),
            beyond: BTreeMap::new(),
            exports: BTreeMap::new(),
            unknown: BTreeMap::new(),
        };
        let mut known: HashMap<&str, Vec<bool>> = HashMap::new();
        let own = input.plan.series.iter().enumerate().map(|(at, series)| (Some(at), series));
        let others =
            input.rivals.iter().flat_map(|plan| plan.series.iter().chain(&plan.movies)).map(|series| (None, series));
        let movies = input.plan.movies.iter().map(|series| (None, series));
        for (at, series) in own.chain(others).chain(movies).filter(|(_, series)| series.is_known()) {
            let (folder, file) = series.pattern.split_folder();
            let Some(folder) = folder.fixed() else { continue };
            let Some((folder, files)) = machine.folders.get_key_value(folder.trim_end_matches('/')) else { continue };
            let first = series.frames.as_ref().and_then(crate::frames::Frames::first).or(Some(0));
            let landed = machine.history.of(series);
            let now = at.filter(|_| !landed.is_empty()).and_then(|at| machine.made_of.get(at)?.as_ref());
            let stale = now.map(|now| machine.history.stale(now));
            // Where nothing differs, nothing can be stale.
            let stale = stale.filter(|stale| stale.iter().any(|list| !list.is_empty()));
            let seen = known.entry(folder).or_insert_with(|| vec![false; files.len()]);
            for (row, number) in files.of(&file, input.threads) {
                let (size, _) = files.facts(row);
                seen[row] = true;
                let Some(at) = at else { continue };
                let own = input.plan.jobs[series.job].own_frames.as_ref();
                // Frames that are not asked for now are planned all the same.
                if series.shift.frame(number).zip(own).is_some_and(|(frame, own)| own.contains(frame))
                    && file.frame_width().is_some()
                    && series.frame_of(number).is_none()
                {
                    continue;
                }
                let frame = if file.frame_width().is_some() { series.frame_of(number) } else { first };
                if let Some(frame) = frame {
                    let entry = listing.there.entry(at).or_default();
                    *entry = (entry.0 + 1, entry.1 + size);
                    let is_stale = |stale: &Vec<_>| {
                        let standing = standing(past(landed, series.number(frame), size), size, Some(stale));
                        matches!(standing, Provenance::Stale(_))
                    };
                    let own = input.plan.jobs[series.job].export.is_some();
                    let landing = own.then(|| past(landed, series.number(frame), size)).flatten();
                    let made = landing.filter(|(_, same)| *same).map(|(record, _)| machine.history.made(&record));
                    if let Some(digest) = made.and_then(product) {
                        let of_job = listing.exports.entry(series.job).or_default();
                        of_job.entry(digest).or_default().push((at, frame));
                    }
                    if stale.as_ref().is_some_and(is_stale) {
                        listing.stale.entry(at).or_default().push(frame);
                    }
                } else {
                    listing.beyond.entry(at).or_default().push(number.value());
                }
            }
        }
        listing.unknown = unknown(machine, &known);
        listing
    }
}

fn left_over(sink: &mut Sink<'_, '_>, listing: &DiskListing<'_>) {
    let plan = sink.input.plan;
    for (at, numbers) in &listing.stale {
        let (series, frames) = (&plan.series[*at], crate::frames::Frames::from_any(numbers.clone()));
        let at = series.path.as_ref().map(|path| path.at);
        sink.add(Slug::FramesStale, at, sink.job(series), wording::disk::frames_stale(series, &frames));
    }
    for (job, exports) in listing.exports.iter().filter(|(_, exports)| exports.len() > 1) {
        let Some(fewest) = exports.values().min_by_key(|frames| frames.len()) else { continue };
        let Some((first, _)) = fewest.first() else { continue };
        let own = fewest.iter().filter(|(series, _)| series == first).map(|(_, frame)| *frame).collect();
        let (series, frames) = (&plan.series[*first], crate::frames::Frames::from_any(own));
        let at = plan.jobs[*job].given.values.get(&Key::Export).and_then(|given| given.at);
        let words = wording::disk::exports_differ(&plan.jobs[*job].name, exports.len(), (series, &frames));
        sink.add(Slug::ExportsDiffer, at, sink.job(series), words);
    }
    for (at, numbers) in &listing.beyond {
        let series = &plan.series[*at];
        let job = sink.job(series);
        // Frames that this call did not ask for are no leftovers.
        if !job.narrowed {
            let frames = crate::frames::Frames::from_any(numbers.clone());
            let at = series.path.as_ref().map(|path| path.at);
            sink.add(Slug::FramesLeftOver, at, job, wording::disk::frames_left_over(series, &frames));
        }
    }
    if !sink.input.whole {
        return;
    }
    for (folder, names) in &listing.unknown {
        let own =
            |series: &&Series| series.pattern.folder().and_then(|own| own.fixed()).is_some_and(|own| own == *folder);
        let at = plan.series.iter().find(own).and_then(|series| series.path.as_ref()).map(|path| path.at);
        sink.findings.add(Slug::FilesUnknown, at, None, wording::disk::files_unknown(folder, names));
    }
}

/// What the missing frames will take against what is free, for each disk.
fn space(sink: &mut Sink<'_, '_>, machine: &Machine, listing: &DiskListing<'_>) {
    let plan = sink.input.plan;
    let mut needs: BTreeMap<u64, (f64, usize)> = BTreeMap::new();
    for (at, series) in plan.series.iter().enumerate().filter(|(_, series)| series.is_known()) {
        let Some(root) = series.root else { continue };
        let Some(ground) = plan.roots[root].path.as_ref().and_then(|path| machine.roots.get(path)) else { continue };
        let (there, bytes) = listing.there.get(&at).copied().unwrap_or_default();
        let measured = (there > 0).then(|| bytes as f64 / there as f64);
        let Some(each) = measured.or_else(|| frame_bytes(series)) else { continue };
        let missing = (series.count().unwrap_or(0) - there).max(0);
        needs.entry(ground.disk).or_insert((0.0, root)).0 += each * missing as f64;
    }
    // A movie that has landed once is there, or was taken away by somebody who needs the room.
    for movie in plan.movies.iter().filter(|movie| machine.history.of(movie).is_empty()) {
        let Some((root, bytes)) = movie.root.zip(movie_bytes(movie)) else { continue };
        let Some(ground) = plan.roots[root].path.as_ref().and_then(|path| machine.roots.get(path)) else { continue };
        needs.entry(ground.disk).or_insert((0.0, root)).0 += bytes;
    }
    for (needed, root) in needs.into_values() {
        let root = &plan.roots[root];
        let free = root.path.as_ref().and_then(|path| machine.roots.get(path)).and_then(|ground| ground.free);
        if let Some(free) = free.filter(|free| needed > *free as f64) {
            sink.findings.add(Slug::SpaceSmall, Some(root.at), None, wording::disk::space_small(needed, free));
        }
    }
}

/// What a file of an output will take in bytes, where that can be said.
#[must_use]
pub fn output_bytes(output: &Series) -> Option<f64> {
    if output.film.is_some() { movie_bytes(output) } else { frame_bytes(output) }
}

/// What a movie will take in bytes, from its pixels: what each codec usually leaves of one.
fn movie_bytes(movie: &Series) -> Option<f64> {
    let (film, size) = (movie.film.as_deref()?, movie.size?);
    let each = f64::from(film.codec?.tenths_of_a_byte) / 10.0;
    Some(f64::from(size.width) * f64::from(size.height) * film.shown() as f64 * each)
}

/// What one frame will take in bytes, from size, channels, depth and compression.
fn frame_bytes(series: &Series) -> Option<f64> {
    let (size, known) = (series.size?, series.file_type?);
    let sample = f64::from(series.channels.unwrap_or(Channels::Rgb).count())
        * f64::from(series.bits.or(known.bits.first().copied())?.bytes());
    let compression = series.format.as_deref().and_then(|format| format.compression.as_ref());
    // Rendered pictures lose about four tenths to lossless compression and nine tenths to lossy ones.
    let kept = match compression.and_then(|own| own.value.known()) {
        Some(Compression::None) => 1.0,
        _ if known.lossy => 0.1,
        None if known.name == "bmp" || known.name == "dpx" || known.name == "tga" => 1.0,
        _ => 0.6,
    };
    let passes = series.passes.len().max(1) as f64;
    Some(f64::from(size.width) * f64::from(size.height) * sample * kept * passes)
}
