//! To which job, pass, version and frame a file belongs, or which part of its name does not fit.

use regex_lite::Regex;

use crate::plan::{Plan, Series, SeriesKind};
use crate::resolve::paths;
use crate::sheet::{RootPaths, Sheet, System};
use crate::template::{Piece, folded};

/// The answer for one file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Owner {
    /// It belongs to a series: its number among pictures and movies, and the job's frame; none for a movie.
    Series(usize, Option<i64>),
    /// It matches no name: why, and the series whose names are most like it.
    Nobody(String, Option<usize>),
}

/// A file's path as this system writes it: separators turned, and a root of another system put in place of ours.
#[must_use]
pub fn localized(path: &str, sheet: &Sheet, plan: &Plan, here: &str) -> String {
    let turned = path.replace('\\', "/");
    for root in &sheet.roots {
        let RootPaths::BySystem(list) = &root.paths else { continue };
        let own = plan.roots.iter().find(|own| own.name == root.name.value).and_then(|own| own.path.as_deref());
        for (system, other) in list {
            let (other, Some(own)) = (other.value.replace('\\', "/"), own) else { continue };
            let head = turned.get(..other.len()).unwrap_or("");
            let alike = if *system == System::Linux { head == other } else { head.eq_ignore_ascii_case(&other) };
            if alike && turned[other.len()..].starts_with('/') {
                return paths::tidy(&format!("{own}{}", &turned[other.len()..]));
            }
        }
    }
    if paths::is_absolute(&turned) { paths::tidy(&turned) } else { paths::tidy(&format!("{here}/{turned}")) }
}

/// The owners of a file of which only the name is known, without its folder.
#[must_use]
pub fn owners_of_name(name: &str, plan: &Plan) -> Vec<Owner> {
    let all = plan.series.iter().chain(&plan.movies).enumerate().filter(|(_, series)| series.is_known());
    let own = all.filter_map(|(at, series)| {
        let (_, file) = series.pattern.split_folder();
        let number = file.read(name)?;
        if series.kind == SeriesKind::Movie || file.frame_width().is_none() {
            let only = series.frames.as_ref().filter(|frames| frames.count() == 1).and_then(|frames| frames.first());
            return Some(Owner::Series(at, only.filter(|_| series.kind != SeriesKind::Movie)));
        }
        Some(Owner::Series(at, Some(series.frame_of(number)?)))
    });
    own.collect()
}

/// Finds the owner of a file. `path` is absolute and local.
#[must_use]
pub fn owner(path: &str, plan: &Plan) -> Owner {
    let all = || plan.series.iter().chain(&plan.movies).enumerate().filter(|(_, series)| series.is_known());
    for (at, series) in all() {
        let Some(number) = series.pattern.read(path) else { continue };
        if series.kind == SeriesKind::Movie {
            return Owner::Series(at, None);
        }
        let frame = if series.pattern.frame_width().is_some() {
            series.frame_of(number)
        } else {
            series.frames.as_ref().and_then(|frames| frames.first())
        };
        if frame.is_some() {
            return Owner::Series(at, frame);
        }
    }
    let near = all().filter_map(|(at, series)| Some((near_miss(path, plan, series)?, at))).min();
    match near {
        Some(((_, why), at)) => Owner::Nobody(why, Some(at)),
        None => Owner::Nobody("no name in this sheet is similar".to_owned(), None),
    }
}

/// How far a path is from the names of a series, and which part does not fit; the smaller the number the nearer.
fn near_miss(path: &str, plan: &Plan, series: &Series) -> Option<(usize, String)> {
    if let Some(number) = series.pattern.read(path) {
        let frames = series.numbers()?;
        let job = &plan.jobs[series.job].name;
        return Some((0, format!("{job} has no frame {number}: its frames are {frames}")));
    }
    if let Some(found) = frame_of(path, series) {
        let width = series.pattern.frame_width().unwrap_or(0);
        return Some((
            1,
            format!(
                "the frame number is written {found}; names of this series have at least {width} digits and no more zeros"
            ),
        ));
    }
    if series.pattern.folded().read(&folded(path)).is_some() {
        let planned = series.pattern.spelt();
        let (is, was) = first_difference(path, &planned);
        return Some((2, format!("upper and lower case differ: {is} should be {was}")));
    }
    let planned = series.pattern.spelt();
    let (is, was) = first_difference(path, &planned);
    let version = Regex::new(r"v\d{3,}").ok().is_some_and(|version| {
        let plain = |text: &str| version.replace_all(text, "v").into_owned();
        plain(path) != path && regex_of(series, &plain).is_some_and(|regex| regex.is_match(&plain(path)))
    });
    if version {
        return Some((3, format!("the version differs: {is}, the sheet has {was}")));
    }
    // A path that shares only its root is no neighbour; of the others the one with the fewest letters to change is.
    let root = series.root.and_then(|root| plan.roots[root].path.as_deref()).unwrap_or("");
    let like = series.name(series.frames.as_ref().and_then(|frames| frames.first()).unwrap_or(0));
    let distance = 4 + strsim::levenshtein(path, &like);
    paths::is_below(path, root).then(|| (distance, format!("{is} does not match; this series has {was}")))
}

/// The number as it stands where the frame should, when everything else fits.
fn frame_of(path: &str, series: &Series) -> Option<String> {
    let regex = regex_of(series, &str::to_owned)?;
    Some(regex.captures(path)?.get(1)?.as_str().to_owned())
}

/// A regular expression for the names of a series in which any digits stand for the frame.
fn regex_of(series: &Series, change: &dyn Fn(&str) -> String) -> Option<Regex> {
    let piece = |piece: &Piece| match piece {
        Piece::Text(text) => regex_lite::escape(&change(text)),
        Piece::Frame { .. } => r"(-?\d+)".to_owned(),
        Piece::Version => r"v\d+".to_owned(),
    };
    let rule: String = series.pattern.pieces().iter().map(piece).collect();
    Regex::new(&format!("^{rule}$")).ok()
}

/// The first part in which two paths differ.
fn first_difference(path: &str, planned: &str) -> (String, String) {
    let mut pairs = path.split('/').zip(planned.split('/'));
    pairs.find(|(a, b)| a != b).map_or_else(
        || (paths::file_name(path).to_owned(), paths::file_name(planned).to_owned()),
        |(a, b)| (a.to_owned(), b.to_owned()),
    )
}
