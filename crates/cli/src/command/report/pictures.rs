//! The pictures and movies of a report, as large as the page has room for.

use std::collections::{BTreeSet, HashMap};
use std::path::{Component, Path, PathBuf};

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use truepath_core::catalogue;
use truepath_core::template::{Lookup, Value};
use truepath_core::verify::{State, Verdict};
use truepath_exec::disk::{Stamp, stamp};
use truepath_pictures::contact::between;
use truepath_pictures::thumbnail::{self, Thumbnail, Wish, ends, fit};

use super::{LARGEST, Page, gather};
use crate::args::Common;
use crate::command::gallery::{self, Strip};
use crate::pipeline::{self, LoadOptions, Loaded, Queue};
use crate::show::counter::Counter;
use crate::show::report::{Book, Leaf, Night, PassPart};

/// The widest and the narrowest picture of a player, in pixels.
const WIDEST: usize = 320;
const NARROWEST: usize = 96;
/// Jobs with a player: more of them nobody looks at, and the page has a size.
const MOST_BOOKS: usize = 200;
/// Bytes of a JPEG file whatever it shows, and of each of its pixels, as a guess to begin with.
const HEAD: f64 = 700.0;
const PIXEL: f64 = 0.14;
/// How well pictures are kept, from the best on: what does not fit is tried with the next.
const QUALITIES: [u8; 3] = [80, 65, 50];
/// Bytes of a movie that goes into the page itself, and of all of them.
const SMALL_MOVIE: u64 = 1_500_000;
const ALL_MOVIES: u64 = 2_000_000;

/// Small pictures that were made already, for a page that is written again and again.
pub struct PictureShelf {
    /// Bytes that the pictures of a page may take.
    pub room: usize,
    pictures: HashMap<(String, Option<String>, usize), (Stamp, Thumbnail)>,
}

impl PictureShelf {
    /// An empty one.
    pub fn new() -> PictureShelf {
        PictureShelf { room: LARGEST * 6 / 10, pictures: HashMap::new() }
    }
}

/// A strip with the one of the version before.
struct VersionStrips {
    strip: Strip,
    /// The name of that version, and its file for each frame.
    before: Option<(String, HashMap<i64, String>)>,
}

/// Puts players and movies into a report; pictures take about as many bytes as the shelf has room for.
pub fn fill(
    page: &Page<'_>,
    queue: &Queue,
    (night, verdicts): (&mut Night, &[Vec<Verdict>]),
    shelf: &mut PictureShelf,
) {
    let around = page.around;
    night.movies.clear();
    night.more_books = 0;
    let (mut embedded, mut pairs, mut count) = (0, Vec::new(), 0);
    for (loaded, verdicts) in queue.sheets.iter().zip(verdicts) {
        for (mut part, path) in gather::movies(loaded, verdicts) {
            if part.state != State::Missing.name() {
                part.source = source(&path, page, &mut embedded);
            }
            night.movies.push(part);
        }
        // A job of which nothing is there has nothing to be leafed through.
        let is_there = |own: &&Verdict| !own.is_movie && own.in_state(State::Missing).count() < own.planned.count();
        let there: BTreeSet<usize> =
            verdicts.iter().filter(is_there).map(|own| loaded.plan.series[own.series].job).collect();
        night.more_books += there.len().saturating_sub(MOST_BOOKS - count);
        let there: BTreeSet<usize> = there.into_iter().take(MOST_BOOKS - count).collect();
        count += there.len();
        let is_shown = |own: &&Verdict| !own.is_movie && there.contains(&loaded.plan.series[own.series].job);
        pairs.extend(paired(loaded, gallery::of_sheet(loaded, verdicts.iter().filter(is_shown)), page));
    }
    let there = |pair: &VersionStrips| {
        let own = pair.strip.shots.iter().filter(|shot| shot.state != State::Missing).count();
        own + pair.before.as_ref().map_or(0, |(_, files)| files.len())
    };
    let count: usize = pairs.iter().map(there).sum();
    // Base 64 takes four bytes for three.
    let room = shelf.room as f64 * 0.75;
    let least = HEAD + PIXEL * (NARROWEST * NARROWEST) as f64 * 9.0 / 16.0;
    night.every = ((count as f64 * least / room).ceil() as usize).max(1);
    let each = room / (count.div_ceil(night.every)).max(1) as f64;
    let width = ((each - HEAD).max(1.0) / PIXEL * 16.0 / 9.0).sqrt() as usize;
    let width = (width.clamp(NARROWEST, WIDEST) / 16) * 16;
    let total = (count / night.every) as u64;
    let counter = Counter::of("reading pictures", total, around.err);
    let mut passes: Vec<(String, f64, ReadPass)> = Vec::new();
    for pair in pairs {
        let fps = loaded_fps(queue, &pair.strip.job);
        passes.push((pair.strip.job.clone(), fps, read(pair, (night.every, width), shelf, &counter)));
    }
    counter.end();
    for quality in QUALITIES {
        night.books = books(&passes, quality);
        let bytes: usize = night.books.iter().map(size).sum();
        if bytes as f64 * 0.75 <= room {
            break;
        }
    }
}

fn size(book: &Book) -> usize {
    let length = |text: &Option<String>| text.as_ref().map_or(0, String::len);
    let leaves = book.passes.iter().flat_map(|pass| &pass.leaves);
    leaves.map(|leaf| length(&leaf.picture) + length(&leaf.before)).sum()
}

fn loaded_fps(queue: &Queue, job: &str) -> f64 {
    let jobs = queue.sheets.iter().flat_map(|sheet| &sheet.plan.jobs);
    jobs.filter(|own| own.name == job).find_map(|job| Some(job.fps.as_ref()?.value())).unwrap_or(24.0)
}

/// Each strip with the files of the version before, where there are any.
fn paired(loaded: &Loaded, strips: Vec<Strip>, page: &Page<'_>) -> Vec<VersionStrips> {
    let (common, around) = (page.common, page.around);
    let version = |id: &str| {
        let series = loaded.plan.series.iter().find(|series| series.id == id)?;
        loaded.tokens(series).into_iter().find_map(|(name, value)| match value {
            Lookup::Value(Value::Version(version)) if name == "version" => Some(version),
            _ => None,
        })
    };
    let mut earlier: HashMap<i64, Option<Queue>> = HashMap::new();
    let mut pairs = Vec::new();
    for strip in strips {
        let id = strip.series.clone();
        let before = version(&id).filter(|version| *version > 1).and_then(|version| {
            let queue = earlier.entry(version - 1).or_insert_with(|| {
                let mut set = common.set.clone();
                set.push(format!("version={}", version - 1));
                let own = Common { sheet: vec![loaded.sheet.clone()], set, ..common.clone() };
                pipeline::load(&own, around, LoadOptions { offline: true, ..LoadOptions::default() }).ok()
            });
            let plan = &queue.as_ref()?.sheets.first()?.plan;
            let series = plan.series.iter().find(|series| series.id == id)?;
            let files = strip.shots.iter().map(|shot| (shot.frame, series.name(shot.frame)));
            let own: HashMap<i64, &str> = strip.shots.iter().map(|shot| (shot.frame, shot.path.as_str())).collect();
            let files: HashMap<i64, String> =
                files.filter(|(frame, path)| own[frame] != path && Path::new(path).is_file()).collect();
            (!files.is_empty()).then(|| (format!("v{:03}", version - 1), files))
        });
        pairs.push(VersionStrips { strip, before });
    }
    pairs
}

/// A pass with its small pictures: of each frame its own and the one before.
struct ReadPass {
    pair: VersionStrips,
    leaves: Vec<(usize, Option<Thumbnail>, Option<Thumbnail>)>,
    size: (usize, usize),
}

fn read(pair: VersionStrips, (every, width): (usize, usize), shelf: &mut PictureShelf, counter: &Counter) -> ReadPass {
    let strip = &pair.strip;
    let shape = strip.size.map_or((16, 9), |(width, height)| (width as usize, height as usize));
    let within = (width, width * 2);
    let shown: Vec<usize> =
        (0..strip.shots.len()).filter(|at| at % every == 0 || strip.shots[*at].state == State::Missing).collect();
    let layer = strip.layer.clone();
    let one = |path: &str| -> Option<(Stamp, Thumbnail)> {
        let now = stamp(Path::new(path))?;
        let known = shelf.pictures.get(&(path.to_owned(), layer.clone(), width));
        if let Some((then, picture)) = known.filter(|(then, _)| *then == now) {
            return Some((*then, picture.clone()));
        }
        let wish = Wish { within, stops: 0.0, layer: layer.as_deref(), colour: strip.colour };
        let picture = thumbnail::read(Path::new(path), wish).ok()?;
        Some((now, picture))
    };
    let both = |at: &usize| {
        let shot = &strip.shots[*at];
        let own = if shot.state == State::Missing { None } else { one(&shot.path) };
        let before = pair.before.as_ref().and_then(|(_, files)| one(files.get(&shot.frame)?));
        counter.add(1);
        (*at, own, before)
    };
    let read: Vec<_> = shown.par_iter().map(both).collect();
    let mut leaves = Vec::new();
    for (at, own, before) in read {
        let shot = &strip.shots[at];
        let mut keep = |path: Option<&String>, picture: &Option<(Stamp, Thumbnail)>| {
            if let (Some(path), Some(picture)) = (path, picture) {
                shelf.pictures.insert((path.clone(), layer.clone(), width), picture.clone());
            }
        };
        keep(Some(&shot.path), &own);
        keep(pair.before.as_ref().and_then(|(_, files)| files.get(&shot.frame)), &before);
        leaves.push((at, own.map(|(_, picture)| picture), before.map(|(_, picture)| picture)));
    }
    ReadPass { pair, leaves, size: fit(shape, within) }
}

/// Players with pictures of a quality.
fn books(passes: &[(String, f64, ReadPass)], quality: u8) -> Vec<Book> {
    let mut books: Vec<Book> = Vec::new();
    for (job, fps, read) in passes.iter().filter(|(.., read)| !read.leaves.is_empty()) {
        let pass = pass(read, quality);
        match books.iter_mut().find(|book| book.job == *job) {
            Some(book) => book.passes.push(pass),
            None => books.push(Book { job: job.clone(), fps: *fps, passes: vec![pass] }),
        }
    }
    books
}

fn pass(read: &ReadPass, quality: u8) -> PassPart {
    let strip = &read.pair.strip;
    let ends = ends(read.leaves.iter().flat_map(|(_, own, before)| own.iter().chain(before)));
    let text = |picture: &Option<Thumbnail>| {
        let bytes = picture.as_ref()?.jpeg(ends, quality).ok()?;
        Some(BASE64_STANDARD.encode(bytes))
    };
    let leaf = |(at, own, before): &(usize, Option<Thumbnail>, Option<Thumbnail>)| {
        let shot = &strip.shots[*at];
        let is_good = matches!(shot.state, State::Good | State::Foreign);
        let state = match own {
            Some(_) => (!is_good).then(|| shot.state.name()),
            // What bears a good head may still not be read.
            None => Some(if is_good { State::Broken.name() } else { shot.state.name() }),
        };
        Leaf { frame: shot.frame, state, picture: text(own), before: text(before) }
    };
    PassPart {
        label: strip.pass.clone(),
        shades: ends.map(|(low, high)| between(low, high)),
        size: read.size,
        leaves: read.leaves.par_iter().map(leaf).collect(),
        before: read.pair.before.as_ref().map(|(name, _)| name.clone()),
    }
}

/// What stays as it is in a part of a URL's path (RFC 3986, unreserved).
const PLAIN: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// Where a page finds a movie: a small one in itself, any other by its path from the page on.
fn source(path: &str, page: &Page<'_>, embedded: &mut u64) -> Option<String> {
    let movie = Path::new(path);
    let length = movie.metadata().ok()?.len();
    if length <= SMALL_MOVIE && *embedded + length <= ALL_MOVIES {
        let bytes = std::fs::read(movie).ok()?;
        *embedded += length;
        let extension = movie.extension().unwrap_or_default().to_string_lossy();
        let kind = match catalogue::by_extension(&extension).map(|known| known.name) {
            Some("mov") => "video/quicktime",
            Some("webm") => "video/webm",
            Some("mkv") => "video/x-matroska",
            Some("avi") => "video/x-msvideo",
            _ => "video/mp4",
        };
        return Some(format!("data:{kind};base64,{}", BASE64_STANDARD.encode(bytes)));
    }
    let folder = dunce::canonicalize(crate::command::deliver::folder(&page.around.folder.join(page.out))).ok()?;
    let movie = dunce::canonicalize(movie).ok()?;
    Some(from_page(&folder, &movie))
}

/// A path from a folder on, as a URL: it begins with a dot, or is one of a file, so that no name in it is taken for a scheme.
fn from_page(folder: &Path, file: &Path) -> String {
    let (from, to): (Vec<Component<'_>>, Vec<Component<'_>>) =
        (folder.components().collect(), file.components().collect());
    let shared = from.iter().zip(&to).take_while(|(a, b)| a == b).count();
    let spelt = |part: &Component<'_>| utf8_percent_encode(&part.as_os_str().to_string_lossy(), PLAIN).to_string();
    if shared == 0 {
        let all: PathBuf = to.iter().collect();
        let parts = all.to_string_lossy().replace('\\', "/");
        let parts: Vec<String> = parts.split('/').map(|part| utf8_percent_encode(part, PLAIN).to_string()).collect();
        return format!("file:///{}", parts.join("/"));
    }
    let up = "../".repeat(from.len() - shared);
    let down: Vec<String> = to[shared..].iter().map(spelt).collect();
    format!("{}{}", if up.is_empty() { "./" } else { &up }, down.join("/"))
}
