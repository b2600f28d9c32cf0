//! `verify PATTERN` and `verify --folder`: pictures and movies that no sheet plans, looked into all the same.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};

use rayon::iter::{IntoParallelRefIterator, ParallelIterator};
use truepath_core::catalogue::{self, FileType};
use truepath_core::frames::{Frames, Number};
use truepath_core::picture::{Asked, OddPolicy, OddRow, Placed};
use truepath_core::resolve::paths::from_system;
use truepath_core::sheet::Size;
use truepath_core::template::Pattern;
use truepath_core::template::foreign::number;
use truepath_core::verify::{Picture, Seen, State};
use truepath_exec::disk;
use truepath_exec::failure::Failure;
use truepath_media::Looked;

use truepath_exec::typed::{numbers_there, pattern};

use super::encode::frames;
use crate::args::{LooseOptions, VerifyArgs, VerifyForm};
use crate::exit_code::Exit;
use crate::lower::Around;
use crate::show;
use crate::show::counter::Counter;
use crate::show::loose::{self, Examined, FoundFile};

/// How deep folders are looked into.
const DEEPEST: usize = 32;

/// Some files that belong together: those of a pattern, or one.
struct Set {
    pattern: Pattern,
    /// The numbers that are expected.
    wanted: Frames,
    /// Those of them of which something is there.
    there: Frames,
}

/// Looks into files that no sheet plans.
pub fn run(args: &VerifyArgs, around: &Around) -> Result<Exit, Failure> {
    let options = &args.loose;
    let expected = ExpectedFiles::of(options)?;
    let mut sets = Vec::new();
    for text in &args.common.jobs {
        let pattern = pattern(text)?;
        let asked = args.common.frames.as_deref().map(frames).transpose()?;
        let is_listed = pattern.split_folder().0.fixed().is_some();
        sets.push(match (asked, is_listed) {
            (Some(wanted), true) => {
                Set { there: wanted.intersect(&numbers_there(&pattern).unwrap_or_default()), pattern, wanted }
            }
            // Names whose folders bear the number are tried one by one.
            (Some(wanted), false) => Set { there: wanted.clone(), pattern, wanted },
            (None, _) => {
                let there = numbers_there(&pattern)?;
                Set { wanted: whole_span(&there), there, pattern }
            }
        });
    }
    if let Some(folder) = &options.folder {
        if !folder.is_dir() {
            return Err(Failure::unreadable(format!("there is no folder {}", folder.display())));
        }
        sets.extend(sequences(folder)?);
        if sets.is_empty() {
            show::tell(&format!("no picture and no movie in {}\n", folder.display()));
            return Ok(Exit::No);
        }
    }
    let counter = Counter::new("reading files", around.err);
    let looked: Vec<Examined> = sets.iter().map(|set| look(set, &expected, (args.deep, &counter))).collect();
    counter.end();
    if args.to == VerifyForm::Junit {
        show::print_exact(&show::junit::text(&looked.iter().map(loose::case).collect::<Vec<_>>()))?;
    } else if args.common.json {
        show::print_exact(&show::json::text(&loose::document(&looked)))?;
    } else {
        show::print(&loose::text(&looked, around.out))?;
    }
    Ok(if looked.iter().all(|set| set.bad() == 0) { Exit::Well } else { Exit::No })
}

/// What files are held against, beside each other.
struct ExpectedFiles {
    size: Option<Size>,
    types: Vec<String>,
}

impl ExpectedFiles {
    fn of(options: &LooseOptions) -> Result<ExpectedFiles, Failure> {
        let size = options.size.as_deref().map(|text| {
            let sides =
                text.split_once('x').and_then(|(width, height)| Some((width.parse().ok()?, height.parse().ok()?)));
            let size = sides.map(|(width, height)| Size { width, height });
            size.ok_or_else(|| Failure::unreadable(format!("--size {text} is not a size such as 1280x720")))
        });
        for name in &options.kind {
            if catalogue::by_name(name).is_none() {
                let known: Vec<&str> = catalogue::types().map(|known| known.name).collect();
                return Err(Failure::unreadable(format!("there is no file type `{name}`"))
                    .help(format!("choose from {}", known.join(", "))));
            }
        }
        Ok(ExpectedFiles { size: size.transpose()?, types: options.kind.clone() })
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
        // Without a plan a palette is no fault, unless the others have none; bytes behind the end always are.
        let shared =
            |word: &&String| usual.is_some_and(|usual| usual.besides.contains(*word)) && !word.contains("more than");
        found.extend(picture.besides.iter().filter(|word| !shared(word)).cloned());
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

/// Numbers with the digits they are written in, by what stands before and after them.
type Numbered = BTreeMap<(String, String), Vec<(usize, i64)>>;

/// The pictures and movies of a folder and of those in it: their names from there on, and their types.
pub fn pictures(folder: &Path) -> Result<Vec<(String, &'static FileType)>, Failure> {
    let mut found = Vec::new();
    let mut open: Vec<(PathBuf, String, usize)> = vec![(folder.to_owned(), String::new(), 0)];
    while let Some((folder, base, depth)) = open.pop() {
        let files = disk::files(&folder).map_err(|error| Failure::machine("list", &folder, &error))?;
        for (name, _) in files.iter().filter(|(name, _)| !name.starts_with('.')) {
            let known = name.rsplit_once('.').and_then(|(_, extension)| catalogue::by_extension(extension));
            found.extend(known.map(|known| (format!("{base}{name}"), known)));
        }
        if depth < DEEPEST {
            let inner = files.others().iter().filter(|name| !name.starts_with('.'));
            let inner = inner.map(|name| (folder.join(name), format!("{base}{name}/"), depth + 1));
            open.extend(inner.filter(|(path, ..)| disk::no_file(path) == Some("a folder")));
        }
    }
    Ok(found)
}

/// The sequences and single files of a folder and of those in it. Pictures whose names differ by nothing but the last number in
/// them are one sequence; every movie is by itself.
fn sequences(folder: &Path) -> Result<Vec<Set>, Failure> {
    let (mut numbered, mut single) = (Numbered::new(), Vec::new());
    let base = from_system(folder);
    for (name, known) in pictures(folder)? {
        let digits = number(&name).filter(|_| !known.is_container());
        match digits.and_then(|digits| Some((name[digits.clone()].parse::<i64>().ok()?, digits))) {
            Some((number, digits)) => {
                let around = (format!("{base}/{}", &name[..digits.start]), name[digits.end..].to_owned());
                numbered.entry(around).or_default().push((digits.len(), number));
            }
            None => single.push(format!("{base}/{name}")),
        }
    }
    let mut all: Vec<Set> = Vec::new();
    for ((head, tail), mut numbers) in numbered {
        // The shortest number says the padding; longer ones fit it where they begin with no zero.
        while let Some(width) = numbers.iter().map(|(digits, _)| *digits).min() {
            let fits = |(digits, number): &(usize, i64)| number.to_string().len().max(width) == *digits;
            let (own, rest) = numbers.into_iter().partition::<Vec<_>, _>(fits);
            numbers = rest;
            let there = Frames::from_any(own.iter().map(|(_, number)| *number).collect());
            match own.as_slice() {
                [(digits, number)] => single.push(format!("{head}{number:0digits$}{tail}")),
                _ => {
                    let mut pattern = Pattern::default();
                    pattern.push_text(&head);
                    pattern.push_frame(width);
                    pattern.push_text(&tail);
                    all.push(Set { pattern, wanted: whole_span(&there), there });
                }
            }
        }
    }
    single.sort();
    all.extend(single.into_iter().map(|path| {
        let mut pattern = Pattern::default();
        pattern.push_text(&path);
        Set { pattern, wanted: Frames::one(1), there: Frames::one(1) }
    }));
    Ok(all)
}

/// Looks into every file of a set that is there.
fn look(set: &Set, expected: &ExpectedFiles, (deep, counter): (bool, &Counter)) -> Examined {
    let numbers: Vec<i64> = set.there.iter().collect();
    let one = |number: &i64| {
        let path = set.pattern.name(Number::new(*number));
        let seen = seen(Path::new(&path), deep);
        counter.add(1);
        (*number, path, seen)
    };
    let looked: Vec<(i64, String, Looked)> = numbers.par_iter().map(one).collect();
    let policy = OddPolicy::default();
    let mut row = OddRow::new(Asked { colour: true, alpha: false }, &policy);
    let mut odd: HashMap<i64, String> = HashMap::new();
    let mut found = Vec::new();
    for (number, path, Looked { seen, content, bytes, .. }) in looked {
        let next = matches!(seen, Seen::Whole(_)).then_some(Placed { key: number, content, bytes });
        odd.extend(row.next(next).map(|(number, odd)| (number, odd.why)));
        found.push((number, path, seen));
    }
    odd.extend(row.next(None).map(|(number, odd)| (number, odd.why)));
    // What most are is what all should be.
    let mut kinds: Vec<(usize, &Picture)> = Vec::new();
    for (.., seen) in &found {
        let Seen::Whole(picture) = seen else { continue };
        match kinds.iter_mut().find(|(_, known)| *known == picture) {
            Some((count, _)) => *count += 1,
            None => kinds.push((1, picture)),
        }
    }
    let usual = kinds.iter().max_by_key(|(count, _)| *count).map(|(_, picture)| (*picture).clone());
    let judged = found.into_iter().filter_map(|(number, path, seen)| {
        let (state, why) = match &seen {
            Seen::Missing => return None,
            Seen::Unreadable(why) => (State::Unreadable, why.clone()),
            Seen::Broken(why) => (State::Broken, why.clone()),
            Seen::Whole(picture) => {
                let differences = expected.differences(picture, usual.as_ref());
                match (differences.is_empty(), &picture.unproven, odd.remove(&number)) {
                    (false, ..) => (State::Wrong, differences.join(", ")),
                    (true, Some(why), _) => (State::Unproven, why.clone()),
                    (true, None, Some(odd)) => (State::Odd, odd),
                    (true, None, None) => (State::Good, String::new()),
                }
            }
            Seen::Movie(_) | Seen::AsLanded => (State::Good, String::new()),
        };
        Some(FoundFile { number, path, state, why })
    });
    let found: Vec<FoundFile> = judged.collect();
    let there = Frames::from_any(found.iter().map(|found| found.number).collect());
    Examined { pattern: set.pattern.typed(), wanted: set.wanted.clone(), missing: set.wanted.minus(&there), found }
}

/// What stands at a path.
fn seen(path: &Path, deep: bool) -> Looked {
    if let Some(what) = disk::no_file(path) {
        return Seen::Unreadable(format!("this is {what}, not a file")).into();
    }
    let extension = path.extension().unwrap_or_default().to_string_lossy().into_owned();
    let is_movie = catalogue::by_extension(&extension).is_some_and(|known| known.is_container());
    let looked = if is_movie {
        truepath_media::movie::probe(path).map(Looked::from)
    } else if deep {
        truepath_media::inspect_any(path)
    } else {
        truepath_media::probe(path).map(Looked::from)
    };
    looked.unwrap_or_else(|error| Seen::Unreadable(format!("it cannot be read: {error}")).into())
}
