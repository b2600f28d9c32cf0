//! Frames in documents and journals: as an expression, `""` for none. Text that is no expression is an error, never an empty
//! set.

use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::{FrameExpr, Frames};

impl Serialize for Frames {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Frames {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Frames, D::Error> {
        let text = std::borrow::Cow::<'de, str>::deserialize(deserializer)?;
        if text.is_empty() {
            return Ok(Frames::none());
        }
        let frames = FrameExpr::parse(&text).map_err(|error| D::Error::custom(error.message))?;
        frames.frames(None, None).ok_or_else(|| D::Error::custom("frames of a scene that is not defined"))
    }
}

#[cfg(test)]
mod tests {
    use super::{FrameExpr, Frames};

    #[test]
    fn frames_come_back_and_what_are_none_is_an_error() {
        for text in ["", "7", "-12--4", "1-93/4", "1-10,20-30", "1-9223372"] {
            let json = format!("\"{text}\"");
            let frames: Frames = serde_json::from_str(&json).expect(text);
            assert_eq!(serde_json::to_string(&frames).expect("text"), json);
            let parsed = FrameExpr::parse(text).ok().and_then(|frames| frames.frames(None, None));
            assert_eq!(frames, parsed.unwrap_or_default());
        }
        for text in ["\"x\"", "\"9-1\"", "\"scene\"", "\"all/8\"", "\"1-\"", "7", "null", "[1, 2]"] {
            assert!(serde_json::from_str::<Frames>(text).is_err(), "{text} became frames");
        }
    }
}
