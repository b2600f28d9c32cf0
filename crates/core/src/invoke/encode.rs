//! A movie to the arguments of its encoder.

use crate::adapter::Adapter;
use crate::catalogue;
use crate::sheet::{Format, Fps};
use crate::template::{Lookup, Value};

use super::spread::spread;

/// All that an encoder is told about one movie.
#[derive(Clone, Copy, Debug)]
pub struct Encoding<'e> {
    /// The pictures: a path with the frame spelt as the adapter's `number` says.
    pub input: &'e str,
    /// The first picture.
    pub input_first: &'e str,
    /// The first frame, as it is numbered in names.
    pub first: i64,
    /// The last one.
    pub last: i64,
    /// Frames per second.
    pub fps: Option<Fps>,
    /// The sound.
    pub audio: Option<&'e str>,
    /// Its file options.
    pub format: &'e Format,
    /// The file to write.
    pub out: &'e str,
}

/// The arguments of an encoder.
#[must_use]
pub fn encode(adapter: &Adapter, encoding: &Encoding<'_>) -> Vec<String> {
    spread(&adapter.arguments, adapter, &|name| lookup(adapter, encoding, name))
}

/// A token's value. What a format leaves open and the encoder has to know is what is usual for the codec.
fn lookup(adapter: &Adapter, encoding: &Encoding<'_>, name: &str) -> Lookup {
    let format = encoding.format;
    let text = |value: &str| Lookup::Value(Value::Text(adapter.word(name, value).to_owned()));
    let some = |value: Option<&str>| value.map_or(Lookup::NoValue, text);
    let number = |value: Option<i64>| value.map_or(Lookup::NoValue, |value| Lookup::Value(Value::Number(value)));
    let codec = format.codec.as_ref().and_then(|codec| catalogue::codec(&codec.value));
    match name {
        "input" => text(encoding.input),
        "input_first" => text(encoding.input_first),
        "first" => number(Some(encoding.first)),
        "last" => number(Some(encoding.last)),
        "fps" => some(encoding.fps.map(|fps| fps.to_string()).as_deref()),
        "audio" => some(encoding.audio),
        "out" => text(encoding.out),
        "codec" => some(format.codec.as_ref().map(|codec| codec.value.as_str())),
        "chroma" => {
            let given = format.chroma.as_ref().map(|chroma| chroma.value.as_str());
            some(given.or(codec.and_then(|codec| codec.chroma.first().copied())))
        }
        "bits" => {
            let usual = codec.and_then(|codec| codec.bits.first().copied());
            let bits = format.bits.as_ref().map(|bits| bits.value).or(usual);
            some(bits.map(|bits| bits.to_string()).as_deref())
        }
        "channels" => some(format.channels.as_ref().map(|channels| channels.value.to_string()).as_deref()),
        "speed" => some(format.speed.as_ref().map(|speed| speed.value.as_str())),
        "quality" => number(format.quality.as_ref().map(|quality| quality.value)),
        "audio_quality" => number(format.audio_quality.as_ref().map(|quality| quality.value)),
        "audio_codec" => {
            some(format.audio_codec.as_ref().filter(|_| encoding.audio.is_some()).map(|codec| codec.value.as_str()))
        }
        "type" => some(format.kind.as_ref().map(|kind| kind.value.as_str())),
        _ => Lookup::NoValue,
    }
}
