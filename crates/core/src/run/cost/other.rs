//! What was measured under other circumstances: at another size, with other samples, of another scene, by another adapter.

use crate::run::fingerprint::Fingerprint;

/// What measured frames say of those that a plan has now.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Worth {
    /// The same, times so much: by pixels and samples.
    Times(f64),
    /// Little: of another scene or by another adapter. Times so much, by pixels and samples.
    Other(f64),
}

impl Worth {
    /// What frames that were made of `was` are worth where they are made of `is` now.
    pub fn of(was: &[(String, String)], is: &Fingerprint) -> Worth {
        let differences = is.differences(was);
        let ratio = |name: &str, measure: fn(&str) -> Option<f64>| {
            let own = differences.iter().find(|own| own.name == name)?;
            Some(measure(own.is.as_deref()?)? / measure(own.was.as_deref()?)?)
        };
        let times = ratio("size", pixels).unwrap_or(1.0) * ratio("samples", |text| text.parse().ok()).unwrap_or(1.0);
        let times = if times.is_finite() && times > 0.0 { times } else { 1.0 };
        let is_other =
            |name: &str| ["scene bytes", "exported scene", "adapter"].contains(&name) || name.starts_with("bytes of ");
        if differences.iter().any(|own| own.was.is_some() && own.is.is_some() && is_other(&own.name)) {
            Worth::Other(times)
        } else {
            Worth::Times(times)
        }
    }

    /// The factor alone.
    pub fn times(self) -> f64 {
        match self {
            Worth::Times(times) | Worth::Other(times) => times,
        }
    }
}

/// The pixels of a size such as `1280x720`.
fn pixels(text: &str) -> Option<f64> {
    let (width, height) = text.split_once('x')?;
    Some(width.parse::<f64>().ok()? * height.parse::<f64>().ok()?)
}

#[cfg(test)]
mod tests {
    use super::{Fingerprint, Worth};

    #[test]
    fn frames_are_scaled_by_pixels_and_samples_and_of_another_scene_worth_little() {
        let made = |size: &str, samples: &str, scene: &str| {
            let parts = [("samples", samples), ("scene bytes", scene), ("size", size)];
            parts.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect::<Vec<_>>()
        };
        let now = Fingerprint { parts: made("640x360", "64", "a") };
        assert_eq!(Worth::of(&made("640x360", "64", "a"), &now), Worth::Times(1.0));
        assert_eq!(Worth::of(&made("320x180", "16", "a"), &now), Worth::Times(16.0));
        assert_eq!(Worth::of(&made("320x180", "64", "b"), &now), Worth::Other(4.0));
        assert_eq!(Worth::of(&made("0x0", "?", "a"), &now), Worth::Times(1.0));
        assert_eq!(Worth::of(&[], &now), Worth::Times(1.0), "what is not known is not compared");
    }
}
