//! Words about places.

use crate::diagnostic::Words;
use crate::source::Spanned;

pub fn no_root(name: &Spanned<String>, near: Option<&str>) -> Words {
    let words = Words::new(format!("there is no root `{}`", name.value), "not defined");
    match near {
        Some(near) => words.help(format!("write \"{near}\"")).fix(name.at, near),
        None => words.help(format!("define it under [roots], or remove `{}` from `within`", name.value)),
    }
}

pub fn outside_policy(folder: &str, root: Option<&str>, allowed: &[&str]) -> Words {
    let label = match root {
        Some(root) => format!("this is below the root {root}"),
        None => "this is below no root".to_owned(),
    };
    let help = if allowed.is_empty() {
        "name a folder under [roots] and begin the path with it, such as {renders}/...".to_owned()
    } else {
        format!(
            "begin the path with {}",
            allowed.iter().map(|name| format!("{{{name}}}")).collect::<Vec<_>>().join(" or ")
        )
    };
    Words::new(format!("the output folder {folder} is outside the roots that the policy allows"), label).help(help)
}

pub fn never_folder(folder: &str, never: &str) -> Words {
    Words::new(format!("the policy allows no output in {never}"), format!("writes to {folder}"))
        .help("use a root on a disk for renders")
}

pub fn output_is_input(input: &str) -> Words {
    Words::new(format!("an output would overwrite {input}"), "a scene needs this file")
        .help("write outputs to a folder of their own")
}
