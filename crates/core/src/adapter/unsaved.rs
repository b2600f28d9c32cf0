//! Unsaved copies that a program keeps beside a scene, by the names that its adapter declares.

use wildmatch::WildMatch;

/// The tokens that a name may have.
pub const TOKENS: [&str; 3] = ["{scene_file}", "{scene_name}", "{scene_ext}"];

/// Whether a pattern has no other token, and names a file in the scene's own folder.
#[must_use]
pub fn is_pattern(pattern: &str) -> bool {
    let rest = TOKENS.iter().fold(pattern.to_owned(), |rest, token| rest.replace(token, ""));
    rest != pattern && !rest.contains(['{', '}', '/', '\\'])
}

/// A pattern for one scene: what is left in it are `*` for any text.
#[must_use]
pub fn of_scene(pattern: &str, scene: &str) -> String {
    let (stem, ext) = scene.rsplit_once('.').unwrap_or((scene, ""));
    TOKENS.iter().zip([scene, stem, ext]).fold(pattern.to_owned(), |text, (token, value)| text.replace(token, value))
}

/// Whether a file beside a scene is an unsaved copy of it. Both are names without folders.
#[must_use]
pub fn fits(pattern: &str, scene: &str, other: &str) -> bool {
    other != scene && WildMatch::new(&of_scene(pattern, scene)).matches(other)
}

#[cfg(test)]
mod tests {
    use super::{fits, is_pattern};

    #[test]
    fn names_of_copies_are_those_that_the_adapter_declares() {
        for (pattern, fitting, other) in [
            ("{scene_name}.autosave.{scene_ext}", "ferry.autosave.glb", "ferry.glb"),
            ("{scene_file}~*", "ferry.glb~2", "harbour.glb~2"),
            (".{scene_file}.open", ".ferry.glb.open", "ferry.glb.open"),
        ] {
            assert!(is_pattern(pattern));
            assert!(fits(pattern, "ferry.glb", fitting) && !fits(pattern, "ferry.glb", other), "{pattern}");
        }
        for pattern in ["autosave", "saves/{scene_file}", "{scene}.bak", "{scene_name", "*"] {
            assert!(!is_pattern(pattern), "{pattern}");
        }
    }
}
