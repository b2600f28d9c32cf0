//! Facts that a renderer tells about a scene: one JSON object with `cameras`, `frames`, `fps`, `size`, `seconds` (the length, or
//! the times of the first and the last key), `passes`, `variables`, `resources` and `unsaved` (a path, or true), each null or left
//! out where it is unknown.

use crate::flaw::Flaw;
use serde_json::Value;

use super::Facts;
use crate::frames::FrameExpr;
use crate::sheet::{Fps, Size};

/// Reads what a renderer printed. Anything around the object, such as a greeting, is skipped.
///
/// # Errors
/// In words, where there is no object, or a value in it is none of its kind.
pub fn read(printed: &str) -> Result<Facts, Flaw> {
    let object = printed
        .lines()
        .find(|line| line.trim_start().starts_with('{'))
        .map_or(printed, |line| &printed[offset(printed, line)..]);
    let mut stream = serde_json::Deserializer::from_str(object).into_iter::<Value>();
    let value = stream.next().ok_or("it printed nothing")?.map_err(Flaw::of)?;
    let Value::Object(told) = &value else { return Err("it printed no JSON object".into()) };
    let names = |key: &str| {
        let list = told.get(key)?.as_array()?;
        Some(
            list.iter()
                .filter_map(|name| name.as_str().or_else(|| name.get("path")?.as_str()))
                .map(str::to_owned)
                .collect::<Vec<_>>(),
        )
    };
    let text = |key: &str| match told.get(key) {
        Some(Value::String(text)) => Some(text.clone()),
        Some(Value::Number(number)) => Some(number.to_string()),
        _ => None,
    };
    let frames = text("frames").and_then(|text| FrameExpr::parse(&text).ok()?.frames(None, None));
    let fraction = |text: String| {
        let (frames, seconds) = text.split_once('/').unwrap_or((&text, "1"));
        Fps::new(frames.trim().parse().ok()?, seconds.trim().parse().ok()?)
    };
    let size = |text: String| {
        let (width, height) = text.split_once('x')?;
        Some(Size { width: width.trim().parse().ok()?, height: height.trim().parse().ok()? })
    };
    Ok(Facts {
        cameras: names("cameras"),
        seconds: told.get("seconds").and_then(Value::as_f64),
        keys: told.get("seconds").and_then(|keys| Some((keys.get(0)?.as_f64()?, keys.get(1)?.as_f64()?))),
        span: frames.and_then(|frames| Some((frames.first()?, frames.last()?))),
        fps: text("fps").and_then(fraction),
        size: text("size").and_then(size),
        passes: names("passes"),
        variables: names("variables"),
        unsaved: text("unsaved").or_else(|| {
            told.get("unsaved").and_then(Value::as_bool).filter(|unsaved| *unsaved).map(|_| "in the program".to_owned())
        }),
        resources: names("resources").unwrap_or_default(),
        ..Facts::default()
    })
}

/// Where a line of a text begins.
fn offset(text: &str, line: &str) -> usize {
    line.as_ptr() as usize - text.as_ptr() as usize
}

#[cfg(test)]
mod tests {
    use super::read;

    #[test]
    fn what_is_told_is_taken_and_what_is_not_stays_unknown() {
        let facts = read("hello\n{\"cameras\":[\"a\"],\"frames\":\"5-9\",\"fps\":\"24000/1001\",\"size\":\"64x36\",\"passes\":null,\n\"resources\":[\"x\",{\"path\":\"y\"}]}\nbye").expect("facts");
        assert_eq!((facts.cameras, facts.span, facts.passes), (Some(vec!["a".to_owned()]), Some((5, 9)), None));
        assert_eq!(
            (facts.fps.map(|fps| fps.to_string()), facts.size.map(|size| size.to_string())),
            (Some("24000/1001".into()), Some("64x36".into()))
        );
        assert_eq!(facts.resources, ["x", "y"]);
        let keys = read("{\"seconds\":[0, 1.5]}").expect("facts");
        assert_eq!((keys.keys, keys.seconds, keys.length()), (Some((0.0, 1.5)), None, Some(1.5)));
        for text in ["", "no", "[1]", "{\"frames\":"] {
            assert!(read(text).is_err(), "{text}");
        }
    }
}
