//! The words of every check of a plan, apart from its decision. Each says what is wrong in a sentence, what stands under
//! the marked characters, and what to write instead.

use crate::adapter::Adapter;
use crate::catalogue::{Bits, Channels, FileType};
use crate::diagnostic::Words;
use crate::frames::Frames;
use crate::plan::{Plan, Series};
use crate::resolve::Job;
use crate::sheet::{Format, Key, Size};
use crate::source::{Place, Spanned};
use crate::template::Token;

fn listed<T: ToString>(items: impl IntoIterator<Item = T>) -> String {
    items.into_iter().map(|item| item.to_string()).collect::<Vec<_>>().join(", ")
}

pub fn no_job() -> Words {
    Words::new("there is no job in this sheet", "").help("write a [[job]] with a name and a scene")
}

pub fn job_without(key: &Key) -> Words {
    let help = match key {
        Key::Path => {
            "write path = \"{renders}/{job}/{job}_{pass}.{frame:4}.{ext}\" in the job or in [defaults]".to_owned()
        }
        key => format!("write {key} = \"...\" in the job or in [defaults]"),
    };
    Words::new(format!("this job has no `{key}`"), "this job").help(help)
}

pub fn token_unknown(name: &str, near: Option<&str>, at: Option<Place>) -> Words {
    let words = Words::new(format!("there is no token `{name}`"), "nothing is called so");
    match (near, at) {
        (Some(near), Some(at)) => {
            let inner = at.end - at.start == u32::try_from(name.len() + 2).unwrap_or(0);
            let words = words.help(format!("write {{{near}}}"));
            if inner { words.fix(at, format!("{{{near}}}")) } else { words }
        }
        _ => words.help(format!("give it a value: vars.{name} = \"...\" in the job or in [defaults]")),
    }
}

pub fn token_without_value(name: &str, root: bool) -> Words {
    let words = Words::new(format!("`{{{name}}}` has no value for this job"), "nothing to write here");
    if root {
        return words.help(format!("[roots] gives `{name}` no path for this system: add one"));
    }
    let give = match name {
        "width" | "height" | "full_width" | "full_height" => "size",
        "bits" | "channels" | "compression" | "quality" | "type" | "ext" => "format",
        "pass" => return words.help("all passes share one file here: write {_pass} or leave it out"),
        "date" | "time" | "user" | "host" => return words.help("this token has no value yet: use a variable"),
        "project" => return words.help("write name = \"...\" under [project]"),
        name => Key::parse(name).map_or("vars", |_| name),
    };
    let give = if give == "vars" { format!("vars.{name}") } else { give.to_owned() };
    words.help(format!("give {give} a value, or write {{_{name}}}, which writes nothing where there is none"))
}

pub fn value_unfit(name: &str, value: &str, why: &str) -> Words {
    Words::new(
        format!("the value of `{{{name}}}` {why} and cannot stand in a path"),
        format!("this would be \"{}\"", value.escape_debug()),
    )
    .help(format!("change the value, or write {{{name}|slug}}, which makes any text fit"))
}

pub fn no_such_form(name: &str) -> Words {
    Words::new(format!("`{{{name}}}` cannot be written in this form"), "a width is for numbers, a clock form for times")
        .help(format!("write {{{name}}}"))
}

pub fn frame_token_missing(frames: &Frames, at: Option<Place>) -> Words {
    let words = Words::new(
        format!("all {} frames would be written to one file", frames.count()),
        "no frame number in this name",
    )
    .help("write .{frame:4} before the extension");
    match at {
        Some(at) => words.fix(at, ".{frame:4}"),
        None => words,
    }
}

pub fn frame_not_separated(fix: Option<Place>) -> Words {
    let words = Words::new("the frame number touches its neighbour", "where does the number begin and end?")
        .help("put a dot before and after it: name.{frame:4}.ext");
    match fix {
        Some(at) => words.fix(at, "."),
        None => words,
    }
}

pub fn padding_narrow(longest: u64, (width, digits): (usize, usize), token: &Token, at: Option<Place>) -> Words {
    let sign = token.sign.map(String::from).unwrap_or_default();
    let write = format!("{{{sign}frame:{digits}}}");
    let words = Words::new(
        format!("frame {longest} has {digits} digits, the padding {width}"),
        "longer numbers are written in full",
    )
    .help(format!("write {write}, so that names sort as frames do"));
    match at.filter(|at| (at.end - at.start) as usize == token.range.len()) {
        Some(at) => words.fix(at, write),
        None => words,
    }
}

pub fn tokens_touch(first: &str, second: &str, between: Option<Place>) -> Words {
    let words = Words::new(
        format!("nothing stands between {{{first}}} and {{{second}}}"),
        "where does one end and the other begin?",
    )
    .help("put a sign between them: _ - . or /");
    match between {
        Some(at) => words.fix(at, "_"),
        None => words,
    }
}

pub fn bad_spelling(error: &str) -> Words {
    Words::new("`spelling` has to be a regular expression", error.lines().last().unwrap_or("").trim().to_owned())
}

pub fn policy_token(wanted: &Spanned<String>) -> Words {
    Words::new(format!("the policy asks for {{{}}} in each path", wanted.value), "it is not in this one")
        .also(wanted.at, "asked for here")
        .help(format!("write {{{}}} somewhere in the path", wanted.value))
}

pub fn policy_spelling(part: &str, file: bool, policy: &Spanned<String>) -> Words {
    let what = if file { "file name" } else { "folder" };
    Words::new(format!("the {what} `{part}` is not spelt as the policy asks"), "made from this")
        .also(policy.at, "each part must match this")
}

pub fn names_meet((a, of_a): (&Series, &Plan), (b, of_b): (&Series, &Plan), example: &str) -> Words {
    let words = Words::new(format!("{} and {} both write {example}", a.id, b.id), "the second writes over the first");
    let (job_a, job_b) = (&of_a.jobs[a.job], &of_b.jobs[b.job]);
    let (x, y) = (job_a.settings.text(&Key::Camera), job_b.settings.text(&Key::Camera));
    let help = if of_a.mode != of_b.mode {
        "put {-mode} into the path, or give the mode a path of its own; final = true says that it means these names"
    } else if of_a.home.folder != of_b.home.folder || of_a.home.sheet != of_b.home.sheet {
        "put {sheet} or {project} into the path"
    } else if job_a.name == job_b.name {
        "put {pass} into the path"
    } else if job_a.job != job_b.job {
        "put {job} into the path"
    } else if x != y {
        "put {camera} into the path"
    } else {
        "put what differs between the two into the path"
    };
    let words = match (&a.path, &b.path) {
        (Some(first), Some(second)) if first.at != second.at => words.also(first.at, "the first"),
        _ => words,
    };
    words.help(help)
}

pub fn frames_unknown(facts: bool) -> Words {
    let label = if facts { "the scene declares no span" } else { "nothing is known about the scene" };
    Words::new("nothing says which frames this job has", label)
        .help("write frames = \"1-96\"; of scenes that know seconds only, fps is needed too")
}

pub fn frames_empty() -> Words {
    Words::new("no frame is left to render", "this leaves nothing")
}

pub fn frames_outside(beyond: &Frames, span: &Frames) -> Words {
    Words::new(format!("frames {beyond} lie outside the scene's span"), format!("the scene declares {span}"))
        .help(format!("write frames = \"{span}\", or leave `frames` out to take the scene's span"))
}

pub fn span_not_covered(left_out: &Frames, span: &Frames) -> Words {
    Words::new(format!("frames {left_out} of the scene are not rendered"), format!("the scene declares {span}"))
        .help("if that is meant: [checks] scene-span-not-covered = \"off\"")
}

pub fn bits_not_held(bits: Bits, known: &FileType, format: &Format) -> Words {
    of_type(
        Words::new(format!("{} cannot hold {bits} bits", known.name), format!("it holds {}", listed(known.bits))),
        format,
    )
}

pub fn channels_not_held(channels: Channels, known: &FileType, format: &Format) -> Words {
    let what = if channels.alpha() {
        format!("{} cannot hold alpha", known.name)
    } else {
        format!("{} cannot hold {channels}", known.name)
    };
    of_type(Words::new(what, format!("it holds {}", listed(known.channels))), format)
}

fn of_type(words: Words, format: &Format) -> Words {
    match &format.kind {
        Some(kind) => words.also(kind.at, "the type").help("take one that it holds, or another type"),
        None => words,
    }
}

pub fn compression_not_held(compression: &Spanned<String>, known: &FileType) -> Words {
    let words =
        Words::new(format!("{} has no compression `{}`", known.name, compression.value), "unknown to this type");
    if known.compressions.is_empty() {
        return words.help("leave `compression` out: this type has nothing to choose");
    }
    let near = crate::diagnostic::nearest(&compression.value, known.compressions.iter().copied());
    let words = words.help(format!("it has {}", listed(known.compressions)));
    match near {
        Some(near) => words.fix(compression.at, near),
        None => words,
    }
}

pub fn codec_not_held(codec: &Spanned<String>, known: &FileType) -> Words {
    let words = Words::new(format!("{} does not hold the codec `{}`", known.name, codec.value), "unknown to this type");
    if known.codecs.is_empty() {
        return words.help("leave `codec` out: this is a picture type");
    }
    let near = crate::diagnostic::nearest(&codec.value, known.codecs.iter().copied());
    let words = words.help(format!("it holds {}", listed(known.codecs)));
    match near {
        Some(near) => words.fix(codec.at, near),
        None => words,
    }
}

pub fn movie_of_nothing(of: &str, near: Option<&str>, at: Place) -> Words {
    let words = Words::new(format!("there is no job `{of}` to make a movie of"), "nothing is called so");
    match near {
        Some(near) => words.help(format!("write \"{near}\"")).fix(at, near),
        None => words.help("a movie shows the frames of a job of this sheet"),
    }
}

pub fn movie_without_pass(pass: &Spanned<String>, job: &Job) -> Words {
    let passes = listed(job.passes.iter().map(|pass| pass.label.clone()));
    Words::new(format!("the job `{}` has no pass `{}` to show", job.name, pass.value), format!("it has {passes}"))
}

pub fn quality_not_held(known: &FileType) -> Words {
    Words::new(format!("{} is lossless and has no quality", known.name), "this would be ignored")
        .help("leave `quality` out, or take a lossy type")
}

pub fn type_unknown(written: Option<&str>) -> Words {
    let help = "give the job a format with a type, or let the path end in .png, .jpg, .tif or .exr";
    match written {
        Some(written) => Words::new(format!("no file type has the extension `{written}`"), "unknown").help(help),
        None => Words::new("nothing says which file type this is", "no format and no extension").help(help),
    }
}

pub fn extension_differs(written: &str, known: &FileType, format: Option<&Format>, at: Option<Place>) -> Words {
    let mut words =
        Words::new(format!("the extension is .{written}, the file type is {}", known.name), "this says another type")
            .help("write {ext}, which always fits");
    if let Some(kind) = format.and_then(|format| format.kind.as_ref()) {
        words = words.also(kind.at, "the type");
    }
    match at {
        Some(at) => words.fix(at, "{ext}"),
        None => words,
    }
}

pub fn layers_not_held(known: &FileType) -> Words {
    Words::new(format!("{} holds one pass a file", known.name), "asks for all passes in one")
        .help("write layers = \"apart\", or take type = \"exr\"")
}

pub fn size_not_held(size: Size, known: &FileType) -> Words {
    Words::new(format!("{size} is larger than {} allows", known.name), format!("at most {0}x{0}", known.largest))
}

pub fn scene_missing(path: &str) -> Words {
    Words::new(format!("the scene {path} is not there"), "no such file")
        .help("a relative path starts at the sheet's own folder")
}

pub fn scene_damaged(path: &str, why: &str) -> Words {
    Words::new(format!("the scene {path} cannot be read"), why.to_owned()).help("export it again")
}

pub fn resource_missing(scene: &str, resource: &str) -> Words {
    Words::new(format!("the scene {scene} needs {resource}, which is not there"), "this scene")
        .help("copy it to where the scene looks for it")
}

pub fn camera_not_in_scene(camera: &str, cameras: &[String], near: Option<&str>, at: Option<Place>) -> Words {
    let has =
        if cameras.is_empty() { "it has no camera at all".to_owned() } else { format!("it has {}", listed(cameras)) };
    let words = Words::new(format!("the scene has no camera `{camera}`"), has);
    match (near, at) {
        (Some(near), Some(at)) => words.help(format!("write \"{near}\"")).fix(at, near),
        _ => words.help("names must agree in every character"),
    }
}

pub fn adapter_unknown(name: &str, near: Option<&str>, at: Option<Place>) -> Words {
    let words = Words::new(format!("there is no adapter `{name}`"), "nothing is called so");
    match (near, at) {
        (Some(near), Some(at)) => words.help(format!("write \"{near}\"")).fix(at, near),
        _ => words.help("the adapter in the box is understudy"),
    }
}

pub fn setting_not_carried(key: &Key, adapter: &Adapter) -> Words {
    Words::new(format!("{} has no way to receive `{key}`", adapter.name), "this would be ignored").help(format!(
        "leave it out; {} takes {}",
        adapter.name,
        listed(adapter.carried())
    ))
}

pub fn option_not_carried(name: &str, adapter: &Adapter) -> Words {
    Words::new(format!("{} has no way to receive the file option `{name}`", adapter.name), "this would be ignored")
        .help("leave it out")
}

pub fn scene_not_accepted(extension: &str, adapter: &Adapter) -> Words {
    Words::new(
        format!("{} does not read .{extension} scenes", adapter.name),
        format!("it reads {}", listed(&adapter.scenes)),
    )
}

pub fn outside_policy(folder: &str, root: Option<&str>, allowed: &[&str]) -> Words {
    let label = match root {
        Some(root) => format!("below the root {root}"),
        None => "below no root".to_owned(),
    };
    let help = if allowed.is_empty() {
        "name a folder under [roots] and begin the path with it, such as {renders}/...".to_owned()
    } else {
        format!(
            "begin the path with {}",
            allowed.iter().map(|name| format!("{{{name}}}")).collect::<Vec<_>>().join(" or ")
        )
    };
    Words::new(format!("the output folder {folder} is outside the folders that the policy allows"), label).help(help)
}

pub fn never_folder(folder: &str, never: &str) -> Words {
    Words::new(format!("outputs never lie in {never}"), format!("writes to {folder}"))
        .help("take a root on a disk that is meant for renders")
}

pub fn output_is_input(input: &str) -> Words {
    Words::new(format!("an output would be written over {input}"), "a scene needs that file")
        .help("give outputs a folder of their own")
}
