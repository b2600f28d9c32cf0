//! `contact`: many small pictures on one, to be looked at instead of a folder.

use std::collections::{BTreeSet, HashSet};
use std::path::Path;

use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use serde_json::json;
use truepath_core::picture::{Asked, OddPolicy, OddRow as Neighbours, Placed};
use truepath_core::sheet::Colour;
use truepath_core::verify::{Seen, State};
use truepath_exec::failure::{Cause, Failure};
use truepath_exec::guard::{Deliveries, Kind, Taken};
use truepath_exec::observe::Look;
use truepath_exec::typed;
use truepath_pictures::contact::{Contact, ContactCell, Mark, Row};
use truepath_pictures::conversion::meant;
use truepath_pictures::thumbnail::{self, Thumbnail, Wish};

use super::deliver::{self, Beside};
use super::gallery::{self, Shot, Strip};
use crate::args::{Common, ContactArgs, Rows};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::pipeline::{self, LoadOptions, Queue};
use crate::show::counter::Counter;
use crate::show::{self, counted};

/// Pictures side by side where several rows are drawn and nothing says how many frames of each.
const BESIDE: usize = 8;

/// Draws the sheet and says what is on it.
pub fn run(args: &ContactArgs, around: &Around) -> Result<Exit, Failure> {
    if !args.out.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("png")) {
        return Err(
            Failure::unreadable(format!("{} is not a PNG file", args.out.display())).help("end its name with .png")
        );
    }
    if !args.exposure.is_finite() || args.exposure.abs() > 64.0 {
        return Err(Failure::unreadable(format!("--exposure {} is not a number of stops", args.exposure))
            .help("write one between -64 and 64"));
    }
    let how = deliver::asked(Kind::Picture, args.replace);
    let mut loaded = None;
    let (title, strips) = match typed::are_patterns(&args.common.jobs) {
        true => {
            deliveries(args, None, &[], around).judge(&args.out, how)?;
            loose(args)?
        }
        false => {
            let queue = loaded.insert(pipeline::load(&args.common, around, LoadOptions::default())?);
            deliveries(args, Some(queue), &[], around).judge(&args.out, how)?;
            if let Some(exit) = super::not_to_be_judged(queue, around) {
                return Ok(exit);
            }
            truepath_project::guards::files(queue)?;
            let mut strips = Vec::new();
            for (at, sheet) in queue.sheets.iter().enumerate() {
                strips.extend(gallery::of_sheet(sheet, &pipeline::verdicts(queue, at, Look::Heads, around)?));
            }
            let project =
                queue.sheets.first().and_then(|sheet| sheet.plan.project.as_ref().map(|name| name.value.clone()));
            let mode = args.common.mode.iter().map(|mode| format!(" @{mode}")).collect::<String>();
            (format!("{}{mode}", project.unwrap_or_else(|| "contact sheet".to_owned())), strips)
        }
    };
    let is_loose = strips.iter().all(|strip| strip.job.is_empty());
    let (mut strips, hidden) = chosen(strips, args.rows);
    if strips.is_empty() {
        return Err(Failure::new(Cause::Refused, "there are no pictures to show").help("`truepath names` lists them"));
    }
    let shown: Vec<&str> = strips.iter().flat_map(|strip| &strip.shots).map(|shot| shot.path.as_str()).collect();
    let deliveries = deliveries(args, loaded.as_ref(), &shown, around);
    deliveries.judge(&args.out, how)?;
    let is_alone = strips.len() == 1;
    strips.iter_mut().for_each(|strip| thin(strip, args, is_alone));
    drawn(args, Wall { title, is_loose, strips, hidden }, &deliveries, around)
}

/// The picture that is to be written, beside those that are shown.
fn deliveries(args: &ContactArgs, queue: Option<&Queue>, shown: &[&str], around: &Around) -> Deliveries {
    let add = |taken: &mut Taken| shown.iter().for_each(|path| taken.file(path, deliver::INPUT));
    // What is typed as jobs may be patterns.
    let common = Common { jobs: Vec::new(), ..args.common.clone() };
    Beside { common: &common, queue, around }.deliveries([args.out.as_path()], add)
}

fn loose(args: &ContactArgs) -> Result<(String, Vec<Strip>), Failure> {
    let of = |text: &String| gallery::of_pattern(&typed::pattern(text)?, args.common.frames.as_deref());
    let strips = args.common.jobs.iter().map(of).collect::<Result<Vec<Strip>, Failure>>()?;
    let title = if let [one] = strips.as_slice() { one.label.clone() } else { "contact sheet".to_owned() };
    Ok((title, strips))
}

/// Of all series those that a row is wanted for, and the others.
fn chosen(strips: Vec<Strip>, rows: Rows) -> (Vec<Strip>, Vec<Strip>) {
    let mut seen = HashSet::new();
    strips.into_iter().filter(|strip| !strip.shots.is_empty()).partition(|strip| {
        let key = match rows {
            Rows::Series => return true,
            Rows::Pass => &strip.pass,
            Rows::Camera => &strip.camera,
            Rows::Job => &strip.job,
        };
        seen.insert(key.clone())
    })
}

/// Leaves of a row the frames that are shown: bad ones take the places of good ones.
fn thin(strip: &mut Strip, args: &ContactArgs, is_alone: bool) {
    let count = strip.shots.len();
    let most = args.columns.map_or(BESIDE, usize::from);
    let sampled: BTreeSet<usize> = match args.every {
        Some(every) => (0..count).step_by(every as usize).collect(),
        None if is_alone || count <= most => return,
        None => evenly(count, most).collect(),
    };
    let is_bad = |at: &usize| !matches!(strip.shots[*at].state, State::Good | State::Foreign);
    let bad: Vec<usize> = (0..count).filter(is_bad).collect();
    let mut kept = sampled.clone();
    if bad.len() >= sampled.len() {
        kept = evenly(bad.len(), sampled.len()).map(|at| bad[at]).collect();
    } else {
        for at in bad {
            if kept.insert(at) {
                // The nearest good one leaves its place.
                let good = kept.iter().filter(|own| !is_bad(own)).min_by_key(|own| own.abs_diff(at)).copied();
                good.map(|good| kept.remove(&good));
            }
        }
    }
    let mut at = 0;
    strip.shots.retain(|_| {
        at += 1;
        kept.contains(&(at - 1))
    });
}

/// At most so many of some numbers: the first and the last one, and as evenly as can be what is between.
fn evenly(count: usize, most: usize) -> impl Iterator<Item = usize> {
    let most = most.min(count);
    (0..most).map(move |at| at * count.saturating_sub(1) / most.saturating_sub(1).max(1))
}

/// What a row is, in words: the states of all its frames, and how many of them are shown.
fn label(strip: &Strip) -> String {
    let states = bad_states(std::iter::once(strip)).map(|(name, frames)| format!("  {frames} {name}"));
    let mut label = strip.label.clone() + &states.collect::<String>();
    if (strip.shots.len() as i64) < strip.count() {
        label += &format!("  {} of {} frames", strip.shots.len(), strip.count());
    }
    label
}

/// States that somebody should know of, with how many frames have them.
fn bad_states<'s>(strips: impl Iterator<Item = &'s Strip> + Clone) -> impl Iterator<Item = (&'static str, i64)> {
    let all = truepath_core::verify::STATES.into_iter();
    let all = all.filter(|(_, state)| !matches!(state, State::Good | State::Foreign));
    let counted = all.map(move |(name, state)| (name, strips.clone().map(|own| own.in_state(state).count()).sum()));
    counted.filter(|(_, count)| *count > 0)
}

/// All that is drawn.
struct Wall {
    title: String,
    /// Whether no sheet says what it should be.
    is_loose: bool,
    strips: Vec<Strip>,
    /// Series without a row.
    hidden: Vec<Strip>,
}

/// One frame, read.
type ReadFrame = (Option<Thumbnail>, Shot, Option<Placed<usize>>);

fn drawn(args: &ContactArgs, wall: Wall, deliveries: &Deliveries, around: &Around) -> Result<Exit, Failure> {
    let Wall { title, is_loose, mut strips, hidden } = wall;
    let cells = |strip: &Strip| strip.shots.iter().map(|shot| cell(shot, true)).collect();
    let rows = strips.iter().map(|strip| Row { label: label(strip), cells: cells(strip) });
    let mut contact = Contact { title, rows: rows.collect() };
    let shape = strips.iter().find_map(|strip| strip.size.or_else(|| shape(strip))).unwrap_or((16, 9));
    let layout = contact.layout(usize::from(args.width), args.columns.map(usize::from), shape);
    let layout = layout.map_err(|why| {
        Failure::of(Cause::Refused, why)
            .help("name fewer jobs, show fewer frames with --every N, or change --rows, --columns or --width")
    })?;
    let total = strips.iter().map(|strip| strip.shots.len() as u64).sum();
    let counter = Counter::of("reading pictures", total, around.err);
    let read = |(strip, shot): &(&Strip, &Shot)| {
        let read = look(strip, shot, (layout.cell, args.exposure));
        counter.add(1);
        read
    };
    let flat: Vec<(&Strip, &Shot)> =
        strips.iter().flat_map(|strip| strip.shots.iter().map(move |shot| (strip, shot))).collect();
    let mut read: Vec<ReadFrame> = flat.par_iter().map(read).collect();
    counter.end();
    let (mut pictures, mut shown) = (Vec::new(), Vec::new());
    for (strip, row) in strips.iter_mut().zip(&mut contact.rows) {
        let mut own: Vec<ReadFrame> = read.drain(..strip.shots.len()).collect();
        if is_loose {
            note_odd(&mut own);
        }
        row.cells = own.iter().map(|(picture, shot, _)| cell(shot, picture.is_some())).collect();
        let shots: Vec<Shot> = own.iter().map(|(_, shot, _)| shot.clone()).collect();
        strip.seen(&shots);
        row.label = label(strip);
        shown.push(shots);
        pictures.push(own.into_iter().map(|(picture, ..)| picture).collect::<Vec<_>>());
    }
    if strips.iter().any(|strip| meant(strip.light, strip.colour) == Colour::Linear) {
        contact.title += &format!("   exposure {:+}", args.exposure);
    }
    let png = contact.draw(layout, &pictures).png();
    let png = png.map_err(|error| Failure::machine("draw", &args.out, &error))?;
    deliveries.open(&args.out, deliver::asked(Kind::Picture, args.replace))?.write(&png)?;
    if args.common.json {
        let mut document = document(args.exposure, layout.size, &strips, &shown);
        document["path"] = json!(around.folder.join(&args.out));
        show::print_exact(&show::json::text(&document))?;
    } else {
        show::print(&said(args, layout.size, (&strips, &hidden)))?;
    }
    Ok(Exit::Well)
}

/// The size of the first picture of a row that can be read.
fn shape(strip: &Strip) -> Option<(u32, u32)> {
    strip.shots.iter().find_map(|shot| match truepath_media::probe(Path::new(&shot.path)).ok()? {
        Seen::Whole(picture) => Some((picture.width, picture.height)),
        _ => None,
    })
}

/// Reads one frame; what cannot be read is broken, whatever its head said.
fn look(strip: &Strip, shot: &Shot, (within, stops): ((usize, usize), f32)) -> ReadFrame {
    let mut shot = shot.clone();
    if matches!(shot.state, State::Missing | State::Unreadable) {
        return (None, shot, None);
    }
    let wish = Wish { within, stops, layer: strip.layer.as_deref(), colour: strip.colour };
    let path = Path::new(&shot.path);
    // Of a planned frame it is known whether it is odd.
    let read = match strip.job.is_empty() {
        true => thumbnail::read_with_content(path, wish).map(|(picture, content)| (picture, Some(content))),
        false => thumbnail::read(path, wish).map(|picture| (picture, None)),
    };
    match read {
        Ok((picture, content)) => {
            let bytes = path.metadata().map_or(0, |about| about.len());
            (Some(picture), shot, content.map(|content| Placed { key: 0, content, bytes }))
        }
        Err(why) => {
            // A state that says more already stays.
            if matches!(shot.state, State::Good | State::Foreign | State::Odd) {
                (shot.state, shot.why) = (State::Broken, Some(why.to_string()));
            }
            (None, shot, None)
        }
    }
}

/// Pictures outside any sheet that are odd by themselves or beside their neighbours.
fn note_odd(row: &mut [ReadFrame]) {
    let policy = OddPolicy::default();
    let mut neighbours = Neighbours::new(Asked { colour: true, alpha: false }, &policy);
    let mut found = Vec::new();
    for (at, (.., placed)) in row.iter_mut().enumerate() {
        let next = placed.take().map(|placed| Placed { key: at, ..placed });
        found.extend(neighbours.next(next));
    }
    found.extend(neighbours.next(None));
    for (at, odd) in found {
        (row[at].1.state, row[at].1.why) = (State::Odd, Some(odd.why));
    }
}

fn cell(shot: &Shot, is_read: bool) -> ContactCell {
    let word = shot.state.name();
    let mark = match (shot.state, is_read) {
        (State::Good | State::Foreign, true) => Mark::Good,
        (_, true) => Mark::Odd(word),
        (_, false) => Mark::Lost(word),
    };
    ContactCell { caption: shot.frame.to_string(), mark }
}

/// What is on the sheet, in words.
fn said(args: &ContactArgs, (width, height): (usize, usize), (strips, hidden): (&[Strip], &[Strip])) -> String {
    let planned = || strips.iter().chain(hidden);
    let (all, shown): (i64, usize) =
        (planned().map(Strip::count).sum(), strips.iter().map(|own| own.shots.len()).sum());
    let mut words = vec![counted(all, "frame")];
    if (shown as i64) < all {
        words[0] += &format!(" ({shown} shown)");
    }
    words.extend(bad_states(planned()).map(|(name, count)| format!("{count} {name}")));
    format!("{}: {width}x{height}, {}\n", args.out.display(), words.join(", "))
}

/// The sheet that was drawn, without its path.
fn document(
    exposure: f32,
    (width, height): (usize, usize),
    strips: &[Strip],
    shown: &[Vec<Shot>],
) -> serde_json::Value {
    let row = |(strip, shots): (&Strip, &Vec<Shot>)| {
        let frames = shots
            .iter()
            .map(|shot| json!({ "frame": shot.frame, "path": shot.path, "state": shot.state.name(), "why": shot.why }));
        let states: serde_json::Map<_, _> =
            bad_states(std::iter::once(strip)).map(|(name, count)| (name.to_owned(), count.into())).collect();
        json!({ "series": strip.label, "count": strip.count(), "states": states, "frames": frames.collect::<Vec<_>>() })
    };
    json!({
        "truepath": 1, "width": width, "height": height, "exposure": exposure,
        "rows": strips.iter().zip(shown).map(row).collect::<Vec<_>>(),
    })
}
