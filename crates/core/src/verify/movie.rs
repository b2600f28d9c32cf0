//! A movie file against what was planned of it.

use crate::plan::Series;

use super::Footage;

/// Where a movie differs from its plan: each difference in words, empty where there is none.
pub fn differences(series: &Series, footage: &Footage) -> Vec<String> {
    let mut found = Vec::new();
    let mut compare = |what: &str, planned: Option<String>, is: Option<String>| {
        if let (Some(planned), Some(is)) = (planned, is)
            && planned != is
        {
            found.push(format!("{what} is {is}, planned {planned}"));
        }
    };
    let unknown = |text: Option<String>| Some(text.unwrap_or_else(|| "unknown".to_owned()));
    let format = series.format.as_deref();
    let film = series.film.as_deref();
    compare("type", series.file_type.map(|known| known.name.to_owned()), Some(footage.container.to_owned()));
    compare("codec", film.and_then(|film| film.codec).map(str::to_owned), Some(footage.codec.clone()));
    compare("size", series.size.map(|size| size.to_string()), Some(format!("{}x{}", footage.width, footage.height)));
    let fps = film.and_then(|film| film.fps);
    compare("fps", fps.map(|fps| fps.to_string()), unknown(footage.fps.map(|fps| fps.to_string())));
    let shown = film.map(|film| film.shown()).filter(|shown| *shown > 0);
    compare("number of frames", shown.map(|shown| shown.to_string()), Some(footage.frames.to_string()));
    // What a container does not tell of its codec is not known to differ.
    let chroma = format.and_then(|format| format.chroma.as_ref()).map(|chroma| chroma.value.clone());
    compare("chroma", chroma, footage.chroma.clone());
    compare("bits", series.bits.map(|bits| bits.to_string()), footage.bits.map(|bits| bits.to_string()));
    let with = |alpha: bool| if alpha { "with alpha" } else { "without alpha" }.to_owned();
    compare("it", series.channels.map(|channels| with(channels.alpha())), footage.alpha.map(with));
    let start = film.and_then(|film| film.start).map(|start| start.to_string());
    compare("timecode", start, footage.timecode.clone());
    let Some(film) = film else { return found };
    let audio_codec = format.and_then(|format| format.audio_codec.as_ref()).map(|codec| codec.value.clone());
    match (&film.audio, &footage.sound) {
        (Some(_), None) => found.push("there is no sound in it".to_owned()),
        (None, Some(_)) => found.push("there is sound in it, planned without".to_owned()),
        (Some(_), Some(sound)) => {
            let frame = film.fps.map_or(0.05, |fps| 1.0 / fps.value());
            if let Some(planned) = film.seconds().filter(|planned| (planned - sound.seconds).abs() > frame) {
                found.push(format!("sound lasts {:.3} s, planned {planned:.3} s", sound.seconds));
            }
            if let Some(codec) = audio_codec.filter(|codec| *codec != sound.codec) {
                found.push(format!("audio codec is {}, planned {codec}", sound.codec));
            }
        }
        (None, None) => {}
    }
    found
}
