//! Patterns as they are typed on a command line: `{frame}`, what other programs write for it, or `*`.

use std::path::Path;

use truepath_core::catalogue;
use truepath_core::frames::{Frames, Number};
use truepath_core::plan::Series;
use truepath_core::template::{Lookup, Pattern, Template, Value, expand, foreign};

use crate::disk;
use crate::failure::{Cause, Failure};
use crate::threads::Cores;

/// Whether all that was typed are names of files, not of jobs: they have a frame in them, or the extension of a picture or movie.
#[must_use]
pub fn are_patterns(texts: &[String]) -> bool {
    !texts.is_empty() && texts.iter().all(|text| is_pattern(text))
}

/// The same for one text.
#[must_use]
pub fn is_pattern(text: &str) -> bool {
    let extension = Path::new(text).extension().and_then(|extension| extension.to_str());
    text.contains("{frame") || extension.and_then(catalogue::by_extension).is_some()
}

/// A path with `{frame}` in it as a pattern. What other programs write for the frame is read as well, unless a file is called
/// like that.
///
/// # Errors
/// For a text that is not a pattern, and for a `*` that matches no sequence or several.
pub fn pattern(text: &str) -> Result<Pattern, Failure> {
    let mut text = text.replace('\\', "/");
    if !Path::new(&text).exists() {
        text = foreign::typed(&text);
        if let (Some(star), false) = (text.rfind('*'), text.contains("{frame")) {
            return starred(&text, star);
        }
    }
    let template = Template::parse(&text).map_err(|error| {
        Failure::unreadable(format!("{text} is not a file pattern: {}", error.message)).help(error.help)
    })?;
    if let Some(token) = template.tokens().find(|token| token.name != "frame") {
        return Err(Failure::unreadable(format!("there is no token `{}` here", token.name))
            .help("{frame} is the only token here"));
    }
    let value = |name: &str| if name == "frame" { Lookup::Value(Value::Frame) } else { Lookup::Unknown };
    let (pattern, troubles) = expand(&template, &value);
    if troubles.is_empty() {
        Ok(pattern)
    } else {
        Err(Failure::unreadable(format!("{text} cannot be read as a pattern of names")))
    }
}

/// The sequence that a path with a `*` matches.
fn starred(text: &str, star: usize) -> Result<Pattern, Failure> {
    let file = text.rfind('/').map_or(0, |slash| slash + 1);
    if star < file || text.matches('*').count() > 1 {
        return Err(Failure::unreadable(format!("{text} has a `*` where none is read"))
            .help("one `*` may stand in the name of the file, for the frame; write {frame:4} where it is"));
    }
    let mut whole = pattern(&text[..file])?;
    let folder = whole.fixed().unwrap_or_default();
    let path = Path::new(if folder.is_empty() { "." } else { &folder });
    let files = disk::files(path).map_err(|error| Failure::machine("list", path, &error))?;
    let own = foreign::starred(&text[file..], files.iter().map(|(name, _)| name));
    match own {
        Ok(own) => {
            whole.extend(&own);
            Ok(whole)
        }
        Err(all) if all.is_empty() => Err(Failure::new(Cause::Refused, format!("no numbered file matches {text}"))),
        Err(all) => {
            let (count, folder) = (all.len(), &text[..file]);
            let named: Vec<String> = all.iter().take(4).map(|own| format!("{folder}{}", own.typed())).collect();
            let more = if count > named.len() { ", ..." } else { "" };
            Err(Failure::unreadable(format!("{text} matches {count} sequences"))
                .help(format!("name one: {}{more}", named.join(", "))))
        }
    }
}

/// The numbers of the files of a pattern that are there.
///
/// # Errors
/// Where there is none, where the folder cannot be listed, and for frame numbers in names of folders.
pub fn numbers_there(pattern: &Pattern) -> Result<Frames, Failure> {
    if pattern.frame_width().is_none() {
        return Ok(Frames::one(1));
    }
    let (folder, file) = pattern.split_folder();
    let folder = folder.fixed().ok_or_else(|| {
        Failure::unreadable("frame numbers in folder names are not searched").help("give them: --frames 1-96")
    })?;
    let path = if folder.is_empty() { Path::new(".") } else { Path::new(&folder) };
    let files = disk::files(path).map_err(|error| Failure::machine("list", path, &error))?;
    let numbers: Vec<i64> = files.of(&file, &Cores).into_iter().map(|(_, number)| number.value()).collect();
    if numbers.is_empty() {
        return Err(Failure::new(Cause::Refused, format!("no file matches {}", pattern.typed())));
    }
    Ok(Frames::from_any(numbers))
}

/// How many files of a series are there, whatever their numbers; where names of folders bear the number, of those planned.
#[must_use]
pub fn there(series: &Series) -> u64 {
    if let Some(path) = series.pattern.fixed() {
        return u64::from(!path.is_empty() && Path::new(&path).exists());
    }
    if let Ok(there) = numbers_there(&series.pattern) {
        return there.count().unsigned_abs();
    }
    let numbers = series.numbers().unwrap_or_default();
    numbers.iter().filter(|number| Path::new(&series.pattern.name(Number::new(*number))).exists()).count() as u64
}
