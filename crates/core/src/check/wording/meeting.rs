//! Words about names that meet.

use crate::diagnostic::Words;
use crate::plan::Plan;
use crate::plan::Series;

pub fn names_meet((a, of_a): (&Series, &Plan), (b, of_b): (&Series, &Plan), example: &str) -> Words {
    let words = Words::new(format!("{} and {} both write {example}", a.id, b.id), "the second overwrites the first");
    let (job_a, job_b) = (&of_a.jobs[a.job], &of_b.jobs[b.job]);
    let (x, y) = (job_a.camera.as_deref(), job_b.camera.as_deref());
    let help = if of_a.mode != of_b.mode {
        "put {-mode} into the path, or give the mode its own path; write final = true if the mode is to write the final names"
    } else if of_a.home.folder != of_b.home.folder || of_a.home.sheet != of_b.home.sheet {
        "put {sheet} or {project} into the path"
    } else if job_a.name == job_b.name {
        "put {pass} into the path"
    } else if job_a.job != job_b.job {
        "put {job} into the path"
    } else if x != y {
        "put {camera} into the path"
    } else {
        "put a token into the path whose value differs between the two"
    };
    let words = match (&a.path, &b.path) {
        (Some(first), Some(second)) if first.at != second.at => words.also(first.at, "the first"),
        _ => words,
    };
    words.help(help)
}

pub fn names_alike(first: &str, second: &str) -> Words {
    let head = "Linux keeps these two names apart, Windows and macOS do not".to_owned();
    Words::new(format!("{first} and {second} differ only by case or spelling"), head)
        .help("put a token into the path that differs in more than case or spelling")
}

pub fn folder_wanted(file: &Series, (folder, of): (&Series, &Plan), name: &str) -> Words {
    let words = Words::new(
        format!("{} writes the file {name}, where {} needs a folder", file.id, folder.id),
        "one name cannot be a file and a folder",
    );
    let words = match &folder.path {
        Some(path) if Some(path.at) != file.path.as_ref().map(|path| path.at) => words.also(path.at, "the folder"),
        _ => words.also(of.jobs[folder.job].at, "this job needs a folder of this name"),
    };
    words.help("rename one of them")
}
