//! `verify --pattern` and `verify --folder`: pictures and movies that no sheet plans, looked into all the same.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use serde_json::{Value, json};
use truepath_core::catalogue;
use truepath_core::frames::Frames;
use truepath_core::sheet::Size;
use truepath_core::template::Pattern;
use truepath_core::verify::{Picture, STATES, Seen, State};
use truepath_exec::disk;
use truepath_exec::failure::Failure;

use super::encode::{frames, numbers_there, pattern};
use crate::args::{LooseOptions, VerifyArgs};
use crate::exit_code::Exit;
use crate::lower::{Screen, Surroundings};
use crate::show::counter::Counter;
use crate::show::{self, BAD, GOOD, HEAD, QUIET, counted, paint, verdicts};

/// Files that are named before the rest is only counted.
const MOST_LINES: usize = 20;
/// How deep folders are looked into.
const DEEPEST: usize = 32;

/// Some files that belong together: those of a pattern, or one.
struct Set {
    pattern: Pattern,
    /// The numbers that are expected.
    wanted: Frames,
}

/// What was found at one name.
struct Found {
    number: i64,
    path: String,
    state: State,
    why: String,
}

/// Looks into files that no sheet plans.
pub fn run(args: &VerifyArgs, around: &Surroundings) -> Result<Exit, Failure> {
    let options = &args.loose;
    let expected = Expected::of(options)?;
    let mut sets = Vec::new();
    for text in &options.pattern {
        let pattern = pattern(text)?;
        let wanted = match &args.common.frames {
            Some(text) => frames(text)?,
            None => whole_span(&numbers_there(&pattern)?),
        };
        sets.push(Set { pattern, wanted });
    }
    if let Some(folder) = &options.folder {
        if !folder.is_dir() {
            return Err(Failure::unreadable(format!("there is no folder {}", folder.display())));
        }
        sets.extend(sequences(folder)?);
        if sets.is_empty() {
            show::tell(&format!("there is no picture and no movie in {}\n", folder.display()));
            return Ok(Exit::No);
        }
    }
    let counter = Counter::new("looking at files", around.err);
    let looked: Vec<Vec<Found>> = sets.iter().map(|set| look(set, &expected, (args.deep, &counter))).collect();
    counter.end();
    let lacking = looked.iter().flatten().filter(|found| !matches!(found.state, State::Good | State::Odd)).count();
    if args.common.json {
        show::print_exact(&show::json::text(&document(&sets, &looked)))?;
    } else {
        show::print(&text(&sets, &looked, around.out))?;
    }
    Ok(if lacking == 0 { Exit::Well } else { Exit::No })
}

/// What files are held against, beside each other.
struct Expected {
    size: Option<Size>,
    types: Vec<String>,
}

impl Expected {
    fn of(options: &LooseOptions) -> Result<Expected, Failure> {
        let size = options.size.as_deref().map(|text| {
            let sides =
                text.split_once('x').and_then(|(width, height)| Some((width.parse().ok()?, height.parse().ok()?)));
            let size = sides.map(|(width, height)| Size { width, height });
            size.ok_or_else(|| Failure::unreadable(format!("--size {text} is no size such as 1280x720")))
        });
        for name in &options.kind {
            if catalogue::by_name(name).is_none() {
                let known: Vec<&str> = catalogue::types().map(|known| known.name).collect();
                return Err(Failure::unreadable(format!("there is no file type `{name}`"))
                    .help(format!("there are {}", known.join(", "))));
            }
        }
        Ok(Expected { size: size.transpose()?, types: options.kind.clone() })
    }

    /// Why a picture is not what it should be. `usual` is what most of its neighbours are.
    fn differences(&self, picture: &Picture, usual: Option<&Picture>) -> Vec<String> {
        let mut found = Vec::new();
        let size = format!("{}x{}", picture.width, picture.height);
        let wanted = self.size.map(|size| (size.to_string(), "asked for"));
        let wanted = wanted.or_else(|| usual.map(|usual| (format!("{}x{}", usual.width, usual.height), "most are")));
        if let Some((wanted, how)) = wanted.filter(|(wanted, _)| *wanted != size) {
            found.push(format!("size is {size}, {how} {wanted}"));
        }
        let own = picture.file_type;
        if !self.types.is_empty() && !self.types.iter().any(|name| name == own) {
            found.push(format!("type is {own}, asked for {}", self.types.join(" or ")));
        }
        let Some(usual) = usual else { return found };
        let spelt = |value: Option<String>| value.unwrap_or("unknown".to_owned());
        let pairs = [
            ("type", own.to_owned(), usual.file_type.to_owned()),
            ("bits", spelt(picture.bits.map(|b| b.to_string())), spelt(usual.bits.map(|b| b.to_string()))),
            ("channels", spelt(picture.channels.map(|c| c.to_string())), spelt(usual.channels.map(|c| c.to_string()))),
        ];
        let differing = pairs.into_iter().filter(|(_, is, most)| is != most);
        found.extend(differing.map(|(what, is, most)| format!("{what} is {is}, most are {most}")));
        found
    }
}

fn whole_span(there: &Frames) -> Frames {
    there.first().zip(there.last()).map_or_else(Frames::none, |(first, last)| Frames::range(first, last))
}

/// The sequences and single files of a folder and of those in it. Names that differ by nothing but the last number in them are
/// one sequence.
fn sequences(folder: &Path) -> Result<Vec<Set>, Failure> {
    let mut sets: BTreeMap<(String, usize, String), BTreeSet<i64>> = BTreeMap::new();
    let mut single: BTreeSet<String> = BTreeSet::new();
    let mut open: Vec<(PathBuf, usize)> = vec![(folder.to_owned(), 0)];
    while let Some((folder, depth)) = open.pop() {
        let files = disk::files(&folder).map_err(|error| Failure::machine("list", &folder, &error))?;
        let base = truepath_core::resolve::paths::from_system(&folder);
        for (name, _) in files.iter().filter(|(name, _)| !name.starts_with('.')) {
            let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
            let known =
                name.rsplit_once('.').is_some_and(|(_, extension)| catalogue::by_extension(extension).is_some());
            if !known {
                continue;
            }
            let end = stem.rfind(|c: char| c.is_ascii_digit()).map(|at| at + 1);
            let start = end.map(|end| stem[..end].rfind(|c: char| !c.is_ascii_digit()).map_or(0, |at| at + 1));
            match start.zip(end).and_then(|(start, end)| Some((start, end, name[start..end].parse::<i64>().ok()?))) {
                Some((start, end, number)) => {
                    let (head, tail) = (format!("{base}/{}", &name[..start]), name[end..].to_owned());
                    sets.entry((head, end - start, tail)).or_default().insert(number);
                }
                None => drop(single.insert(format!("{base}/{name}"))),
            }
        }
        if depth < DEEPEST {
            let inner = files.others().iter().filter(|name| !name.starts_with('.')).map(|name| folder.join(name));
            open.extend(inner.filter(|path| disk::no_file(path) == Some("a folder")).map(|path| (path, depth + 1)));
        }
    }
    let mut all: Vec<Set> = Vec::new();
    for ((head, width, tail), numbers) in sets {
        let mut pattern = Pattern::default();
        pattern.push_text(&head);
        if let (1, Some(number)) = (numbers.len(), numbers.first()) {
            pattern.push_text(&format!("{number:0width$}"));
        } else {
            pattern.push_frame(width);
        }
        pattern.push_text(&tail);
        let wanted = if numbers.len() == 1 {
            Frames::one(1)
        } else {
            whole_span(&Frames::from_any(numbers.into_iter().collect()))
        };
        all.push(Set { pattern, wanted });
    }
    for path in single {
        let mut pattern = Pattern::default();
        pattern.push_text(&path);
        all.push(Set { pattern, wanted: Frames::one(1) });
    }
    Ok(all)
}

/// Looks into every file of a set.
fn look(set: &Set, expected: &Expected, (deep, counter): (bool, &Counter)) -> Vec<Found> {
    let numbers: Vec<i64> = set.wanted.iter().collect();
    let one = |number: &i64| {
        let path = set.pattern.name(truepath_core::frames::Number::new(*number));
        let seen = seen(Path::new(&path), deep);
        counter.add(1);
        (*number, path, seen)
    };
    let looked: Vec<(i64, String, (Seen, Option<String>))> = numbers.par_iter().map(one).collect();
    // What most are is what all should be.
    let mut kinds: Vec<(usize, &Picture)> = Vec::new();
    for (.., (seen, _)) in &looked {
        let Seen::Whole(picture) = seen else { continue };
        match kinds.iter_mut().find(|(_, known)| *known == picture) {
            Some((count, _)) => *count += 1,
            None => kinds.push((1, picture)),
        }
    }
    let usual = kinds.iter().max_by_key(|(count, _)| *count).map(|(_, picture)| (*picture).clone());
    let judged = looked.into_iter().map(|(number, path, (seen, odd))| {
        let (state, why) = match &seen {
            Seen::Missing => (State::Missing, "not there".to_owned()),
            Seen::Unreadable(why) => (State::Unreadable, why.clone()),
            Seen::Broken(why) => (State::Broken, why.clone()),
            Seen::Whole(picture) => match (expected.differences(picture, usual.as_ref()), odd) {
                (found, None) if found.is_empty() => (State::Good, String::new()),
                (found, Some(odd)) if found.is_empty() => (State::Odd, odd),
                (found, _) => (State::Wrong, found.join(", ")),
            },
            Seen::Movie(_) | Seen::AsLanded => (State::Good, String::new()),
        };
        Found { number, path, state, why }
    });
    judged.collect()
}

/// What stands at a path, and what is odd about it.
fn seen(path: &Path, deep: bool) -> (Seen, Option<String>) {
    if let Some(what) = disk::no_file(path) {
        return (Seen::Unreadable(format!("{what} stands there, not a file")), None);
    }
    let extension = path.extension().unwrap_or_default().to_string_lossy().into_owned();
    let is_movie = catalogue::by_extension(&extension).is_some_and(|known| known.is_container());
    let unread = |error: std::io::Error| (Seen::Unreadable(format!("it cannot be read: {error}")), None);
    if is_movie {
        return truepath_media::movie::probe(path).map_or_else(unread, |seen| (seen, None));
    }
    if deep {
        let looked = truepath_media::inspect_any(path);
        return looked.map_or_else(unread, |(seen, content)| (seen, content.odd(true)));
    }
    truepath_media::probe(path).map_or_else(unread, |seen| (seen, None))
}

/// The frames of a state.
fn in_state(found: &[Found], state: State) -> Frames {
    Frames::from_any(found.iter().filter(|found| found.state == state).map(|found| found.number).collect())
}

fn text(sets: &[Set], looked: &[Vec<Found>], screen: Screen) -> String {
    let spelt: Vec<String> = sets.iter().map(|set| set.pattern.spelt()).collect();
    let widest = spelt.iter().map(|text| show::width(text)).max().unwrap_or(0);
    let mut out =
        format!("{}\n", paint(screen, HEAD, format!("{:widest$}  {:>7}  {:>7}  state", "files", "count", "good")));
    for (name, found) in spelt.iter().zip(looked) {
        let states = STATES.iter().filter(|(_, state)| *state != State::Good).filter_map(|(word, state)| {
            let frames = in_state(found, *state);
            let numbers =
                if found.len() > 1 { format!(" {}", verdicts::cut(&frames.to_string())) } else { String::new() };
            (!frames.is_empty()).then(|| paint(screen, verdicts::style(*state), format!("{word}{numbers}")))
        });
        let states: Vec<String> = states.collect();
        let state = if states.is_empty() { paint(screen, GOOD, "complete") } else { states.join("  ") };
        let good = found.iter().filter(|found| found.state == State::Good).count();
        out.push_str(&format!("{}  {:>7}  {good:>7}  {state}\n", show::pad(name, widest), found.len()));
    }
    let bad: Vec<&Found> = looked.iter().flatten().filter(|found| found.state != State::Good).collect();
    if !bad.is_empty() {
        out.push('\n');
    }
    for found in bad.iter().take(MOST_LINES) {
        let word = paint(screen, verdicts::style(found.state), format!("{:<10}", found.state.name()));
        let why = if found.state == State::Missing { String::new() } else { format!(": {}", found.why) };
        out.push_str(&format!("  {word}  {}{why}\n", found.path));
    }
    if bad.len() > MOST_LINES {
        out.push_str(&paint(screen, QUIET, format!("  and {} more; --json lists them all\n", bad.len() - MOST_LINES)));
    }
    let all = looked.iter().map(Vec::len).sum::<usize>() as i64;
    let lacking = bad.iter().filter(|found| found.state != State::Odd).count() as i64;
    let closing = match lacking {
        0 => paint(screen, GOOD, format!("complete: {}", counted(all, "file"))),
        _ => paint(screen, BAD, format!("not complete: {} of {} good", all - lacking, counted(all, "file"))),
    };
    out + &format!("\n{closing}\n")
}

fn document(sets: &[Set], looked: &[Vec<Found>]) -> Value {
    let one = |(set, found): (&Set, &Vec<Found>)| {
        let mut row = json!({ "pattern": set.pattern.spelt(), "frames": set.wanted, "count": found.len() });
        for (word, state) in STATES {
            row[word] = json!(in_state(found, state));
        }
        let bad = found.iter().filter(|found| found.state != State::Good);
        let told = bad.map(|found| json!({ "path": found.path, "state": found.state.name(), "why": found.why }));
        row["findings"] = told.collect::<Vec<_>>().into();
        row
    };
    let lacking = looked.iter().flatten().any(|found| !matches!(found.state, State::Good | State::Odd));
    json!({
        "truepath": 1, "files": sets.iter().zip(looked).map(one).collect::<Vec<_>>(),
        "outcome": if lacking { "incomplete" } else { "complete" },
    })
}
