//! Paths as text with `/`: joined and tidied without asking any disk.

use super::Home;
use crate::source::Place;

/// An absolute path: `~` is the user's home, anything relative starts at the folder of the text it stands in.
#[must_use]
pub fn absolute(path: &str, at: Place, home: &Home) -> String {
    let path = path.replace('\\', "/");
    let full = match (path.strip_prefix('~'), &home.user) {
        (Some(rest), Some(user)) if rest.is_empty() || rest.starts_with('/') => format!("{user}{rest}"),
        _ if is_absolute(&path) => path,
        _ => format!("{}/{path}", home.folder_of(at)),
    };
    tidy(&full)
}

/// A path of this system as text with `/`.
#[must_use]
pub fn from_system(path: &std::path::Path) -> String {
    let text = path.to_string_lossy().into_owned();
    if cfg!(windows) { text.replace('\\', "/") } else { text }
}

/// A path as people write it who stand in `folder`: relative where it lies below it, else whole.
#[must_use]
pub fn seen_from(path: &str, folder: &str) -> String {
    let below = path.strip_prefix(folder.trim_end_matches('/')).and_then(|rest| rest.strip_prefix('/'));
    below.filter(|rest| !rest.is_empty()).unwrap_or(path).to_owned()
}

/// Whether a path starts at the top: `/`, a drive letter, or a machine's share.
#[must_use]
pub fn is_absolute(path: &str) -> bool {
    path.starts_with('/')
        || (path.as_bytes().get(1) == Some(&b':') && path.as_bytes().first().is_some_and(u8::is_ascii_alphabetic))
}

/// Without `.`, `..` and doubled separators, except at the head of a share.
#[must_use]
pub fn tidy(path: &str) -> String {
    let head = if path.starts_with("//") {
        "//"
    } else if path.starts_with('/') {
        "/"
    } else {
        ""
    };
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." if parts.last().is_some_and(|last| *last != "..") => {
                parts.pop();
            }
            ".." if !head.is_empty() => {}
            part => parts.push(part),
        }
    }
    format!("{head}{}", parts.join("/"))
}

/// Whether `path` is `folder` or lies below it.
#[must_use]
pub fn is_below(path: &str, folder: &str) -> bool {
    let folder = folder.trim_end_matches('/');
    path.strip_prefix(folder).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// The last part of a path.
#[must_use]
pub fn file_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// All but the last part of a path.
#[must_use]
pub fn parent(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// The last part without its extension.
#[must_use]
pub fn stem(path: &str) -> &str {
    let name = file_name(path);
    name.rsplit_once('.').map_or(name, |(stem, _)| if stem.is_empty() { name } else { stem })
}

#[cfg(test)]
mod tests {
    use super::{is_below, stem, tidy};

    #[test]
    fn paths_are_tidied_without_a_disk() {
        for (path, tidied) in [
            ("/a/./b//c/../d", "/a/b/d"),
            ("//host/share/x/", "//host/share/x"),
            ("/..", "/"),
            ("R:/x/..", "R:"),
            ("../a", "../a"),
        ] {
            assert_eq!(tidy(path), tidied);
        }
        assert!(is_below("/a/b", "/a") && is_below("/a", "/a/") && !is_below("/ab", "/a"));
        assert_eq!((stem("/s/x.tar.gz"), stem(".hidden")), ("x.tar", ".hidden"));
    }
}
