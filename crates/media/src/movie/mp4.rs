//! MP4 (ISO/IEC 14496-12) and MOV (QuickTime File Format), fragmented ones too.

use truepath_core::frames::Timecode;
use truepath_core::verify::{Footage, Fps, SoundTrack};

use super::number::{be16, be32, be64};
use super::{MovieBytes, codec, cut};
use crate::Flaw;

/// One track, as far as it matters.
#[derive(Default)]
struct Track {
    id: u32,
    handler: [u8; 4],
    timescale: u32,
    /// In units of the track.
    duration: u64,
    /// In units of the movie, from the edit list; `None` without one.
    edited: Option<u64>,
    mark: Vec<u8>,
    record: Vec<u8>,
    size: (u32, u32),
    rate: u32,
    channels: u16,
    object: Option<u8>,
    samples: u64,
    /// How long samples last: runs of count and duration.
    times: Vec<(u64, u32)>,
    /// The place and size of the first sample.
    first: Option<(u64, u64)>,
    /// The end of the last byte of any sample.
    end: u64,
    /// Duration of a sample in fragments that say none, and its size.
    usual: (u32, u32),
}

/// Boxes in some bytes: mark, and what is in them.
fn boxes(bytes: &[u8]) -> impl Iterator<Item = (&[u8], &[u8])> {
    let mut rest = bytes;
    std::iter::from_fn(move || {
        let (size, head) = match (rest.len() >= 8).then(|| be32(rest, 0))? {
            0 => (rest.len(), 8),
            1 => (usize::try_from(be64(rest, 8)).unwrap_or(usize::MAX), 16),
            size => (size as usize, 8),
        };
        if size < head || size > rest.len() {
            return None;
        }
        let (own, after) = rest.split_at(size);
        rest = after;
        Some((&own[4..8], &own[head..]))
    })
}

fn inner<'b>(bytes: &'b [u8], mark: &[u8]) -> Option<&'b [u8]> {
    boxes(bytes).find(|(own, _)| *own == mark).map(|(_, inside)| inside)
}

pub fn read(source: &mut MovieBytes) -> Result<Footage, Flaw> {
    let MovieBoxes { moov, brand, fragments } = boxes_of(source)?;
    let movie_scale =
        inner(&moov, b"mvhd").map_or(0, |head| be32(head, if head.first() == Some(&1) { 20 } else { 12 }));
    let tracks = tracks(&moov, &fragments);
    if tracks.iter().any(|track| track.end > source.length) {
        return Err(cut());
    }
    let pictures = tracks.iter().find(|track| &track.handler == b"vide").ok_or("it has no pictures")?;
    if pictures.samples == 0 {
        return Err("it has no pictures".into());
    }
    let first = pictures.first.map(|(place, size)| source.first(place, size)).unwrap_or_default();
    let coded = match (pictures.mark.as_slice(), pictures.object) {
        // ISO/IEC 14496-1, table 5: pictures under a general mark.
        (b"mp4v", Some(0x6c)) => codec::jpeg(&first),
        (b"mp4v", Some(0x6d)) => codec::png(&first),
        (mark, _) => codec::of(mark, &pictures.record, &first),
    };
    let sound = tracks.iter().find(|track| &track.handler == b"soun").map(|track| SoundTrack {
        codec: codec::sound(&track.mark, track.object),
        rate: track.rate,
        channels: track.channels,
        seconds: match track.edited.filter(|_| movie_scale > 0) {
            Some(edited) => edited as f64 / f64::from(movie_scale),
            None => track.length() as f64 / f64::from(track.timescale.max(1)),
        },
    });
    let timecode = tracks.iter().find(|track| &track.handler == b"tmcd").and_then(|track| timecode(source, track));
    let mut footage = Footage {
        container: if brand.starts_with(b"qt") || brand.is_empty() { "mov" } else { "mp4" },
        width: pictures.size.0,
        height: pictures.size.1,
        fps: pictures.fps(),
        frames: pictures.samples,
        sound,
        timecode,
        ..Footage::default()
    };
    coded.put_into(&mut footage);
    Ok(footage)
}

/// What the boxes of the outermost level hold.
struct MovieBoxes {
    moov: Vec<u8>,
    brand: Vec<u8>,
    /// Where each begins, and what is in it.
    fragments: Vec<(u64, Vec<u8>)>,
}

fn boxes_of(source: &mut MovieBytes) -> Result<MovieBoxes, Flaw> {
    let (mut at, mut moov, mut brand, mut data) = (0, None, Vec::new(), false);
    let mut fragments = Vec::new();
    while at < source.length {
        let left = source.length - at;
        if left < 8 {
            return Err(cut());
        }
        let head = source.at(at, left.min(16))?;
        let (size, skip) = match be32(&head, 0) {
            0 => (left, 8),
            1 => (be64(&head, 8), 16),
            size => (u64::from(size), 8),
        };
        if size < skip {
            return Err("a box in it has no size".into());
        }
        if size > left {
            return Err(cut());
        }
        match &head[4..8] {
            b"ftyp" => brand = source.at(at + skip, (size - skip).min(4))?,
            b"moov" => moov = Some(source.at(at + skip, size - skip)?),
            b"moof" => fragments.push((at, source.at(at + skip, size - skip)?)),
            b"mdat" => data = true,
            mark if !mark.iter().all(|byte| byte.is_ascii_graphic() || *byte == b' ') => {
                return Err("a part of it is damaged: a box has no name".into());
            }
            _ => {}
        }
        at += size;
    }
    let moov = moov.ok_or("its tables are missing: it was not finished, or is cut off")?;
    if !data {
        return Err("it has no pictures".into());
    }
    Ok(MovieBoxes { moov, brand, fragments })
}

fn tracks(moov: &[u8], fragments: &[(u64, Vec<u8>)]) -> Vec<Track> {
    let mut tracks: Vec<Track> =
        boxes(moov).filter(|(mark, _)| *mark == b"trak").map(|(_, inside)| track(inside)).collect();
    for (_, usual) in inner(moov, b"mvex").into_iter().flat_map(boxes).filter(|(mark, _)| *mark == b"trex") {
        let id = be32(usual, 4);
        tracks
            .iter_mut()
            .filter(|track| track.id == id)
            .for_each(|track| track.usual = (be32(usual, 12), be32(usual, 16)));
    }
    for (place, fragment) in fragments {
        for (_, run) in boxes(fragment).filter(|(mark, _)| *mark == b"traf") {
            track_fragment(run, *place, &mut tracks);
        }
    }
    tracks
}

/// The timecode of the first frame.
fn timecode(source: &mut MovieBytes, track: &Track) -> Option<String> {
    let bytes = track.first.map(|(place, _)| source.first(place, 4))?;
    // The description says frames per second behind its flags, and whether frames are dropped.
    let (flags, fps) = (be32(&track.record, 4), u32::from(*track.record.get(16)?));
    (bytes.len() == 4 && fps > 0).then(|| Timecode { frame: be32(&bytes, 0), fps, drop: flags & 1 != 0 }.to_string())
}

impl Track {
    fn length(&self) -> u64 {
        let sum = self
            .times
            .iter()
            .fold(0u64, |sum, (count, each)| sum.saturating_add(count.saturating_mul(u64::from(*each))));
        if sum > 0 { sum } else { self.duration }
    }

    /// The rate: exact where all frames but the last last as long.
    fn fps(&self) -> Option<Fps> {
        let runs = match self.times.as_slice() {
            [rest @ .., (1, _)] if !rest.is_empty() => rest,
            all => all,
        };
        let each = runs.first()?.1;
        if runs.iter().all(|run| run.1 == each) {
            return Fps::new(self.timescale, each);
        }
        super::usual_rate(self.samples as f64 * f64::from(self.timescale) / self.length() as f64, 1e-3)
    }
}

fn track(bytes: &[u8]) -> Track {
    let mut track = Track::default();
    let Some(media) = inner(bytes, b"mdia") else { return track };
    track.id = inner(bytes, b"tkhd").map_or(0, |head| be32(head, if head.first() == Some(&1) { 20 } else { 12 }));
    if let Some(list) = inner(bytes, b"edts").and_then(|edits| inner(edits, b"elst")) {
        let long = list.first() == Some(&1);
        // Entries that play nothing delay what follows.
        let entries = (0..be32(list, 4) as usize).map(|at| if long { (8 + at * 20, 8) } else { (8 + at * 12, 4) });
        let entries = entries.take_while(|(at, width)| at + 2 * width <= list.len());
        let read = |at: usize, width: usize| if width == 8 { be64(list, at) } else { u64::from(be32(list, at)) };
        track.edited =
            Some(entries.fold(0u64, |sum, (at, width)| sum.saturating_add(read(at, width)))).filter(|sum| *sum > 0);
    }
    if let Some(head) = inner(media, b"mdhd") {
        let long = head.first() == Some(&1);
        track.timescale = be32(head, if long { 20 } else { 12 });
        track.duration = if long { be64(head, 24) } else { u64::from(be32(head, 16)) };
    }
    if let Some(kind) = inner(media, b"hdlr").and_then(|handler| handler.get(8..12)) {
        track.handler.copy_from_slice(kind);
    }
    let Some(table) = inner(media, b"minf").and_then(|info| inner(info, b"stbl")) else { return track };
    if let Some(entry) = inner(table, b"stsd").and_then(|list| list.get(8..)) {
        description(entry, &mut track);
    }
    if let Some(times) = inner(table, b"stts") {
        let rows = times.get(8..).unwrap_or_default().chunks_exact(8).take(be32(times, 4) as usize);
        track.times = rows.map(|row| (u64::from(be32(row, 0)), be32(row, 4))).collect();
    }
    samples(table, &mut track);
    track
}

/// The description of samples: of what codec, and how large.
fn description(entry: &[u8], track: &mut Track) {
    let Some((mark, inside)) = boxes(entry).next() else { return };
    track.mark = mark.to_vec();
    match &track.handler {
        b"vide" => {
            track.size = (u32::from(be16(inside, 24)), u32::from(be16(inside, 26)));
            let more = inside.get(78..).unwrap_or_default();
            let record = |mark: &&&[u8; 4]| inner(more, **mark);
            let marks: [&[u8; 4]; 5] = [b"avcC", b"hvcC", b"av1C", b"vpcC", b"glbl"];
            track.record = marks.iter().find_map(|mark| record(&mark)).unwrap_or_default().to_vec();
            track.object = inner(more, b"esds").and_then(object);
        }
        b"soun" => {
            let version = be16(inside, 8);
            track.channels = be16(inside, 16);
            track.rate = u32::from(be16(inside, 24));
            // The second version of MOV's description has its numbers as others have theirs.
            let more = match version {
                2 => {
                    let rate = f64::from_bits(be64(inside, 32));
                    track.rate = if rate.is_finite() { rate as u32 } else { 0 };
                    track.channels = u16::try_from(be32(inside, 40)).unwrap_or(0);
                    inside.get(64..)
                }
                1 => inside.get(44..),
                _ => inside.get(28..),
            };
            let more = more.unwrap_or_default();
            let esds = inner(more, b"esds").or_else(|| inner(inner(more, b"wave")?, b"esds"));
            track.object = esds.and_then(object);
            // FLAC and rates beyond 65535 say theirs in their own boxes.
            if let Some(block) = inner(more, b"dfLa").filter(|block| block.len() >= 22) {
                track.rate = be32(block, 18) >> 12;
            }
            if mark == b"Opus" {
                track.rate = 48_000;
            }
        }
        b"tmcd" => track.record = inside.get(8..).unwrap_or_default().to_vec(),
        _ => {}
    }
}

/// The kind of object in a description of ISO/IEC 14496-1, 7.2.6: behind the marks 3 and 4, each with a size.
fn object(esds: &[u8]) -> Option<u8> {
    let mut at = 4;
    let size = |at: &mut usize| {
        while esds.get(*at).is_some_and(|byte| byte & 0x80 != 0) {
            *at += 1;
        }
        *at += 1;
    };
    if esds.get(at) == Some(&3) {
        at += 1;
        size(&mut at);
        at += 3;
    }
    (esds.get(at) == Some(&4)).then(|| {
        at += 1;
        size(&mut at);
        esds.get(at).copied()
    })?
}

/// Where samples lie: of those in chunks the first, and the end of the last.
fn samples(table: &[u8], track: &mut Track) {
    let Some(sizes) = inner(table, b"stsz") else { return };
    let (same, count) = (be32(sizes, 4), u64::from(be32(sizes, 8)));
    let each = sizes.get(12..).unwrap_or_default();
    if same == 0 && count > each.len() as u64 / 4 {
        // A table that ends early holds fewer frames than it says.
        track.end = u64::MAX;
        return;
    }
    track.samples = count;
    let size = |at: u64| if same > 0 { u64::from(same) } else { u64::from(be32(each, at as usize * 4)) };
    let (places, long) = match (inner(table, b"co64"), inner(table, b"stco")) {
        (Some(places), _) => (places, true),
        (None, Some(places)) => (places, false),
        _ => return,
    };
    let rows = places.get(8..).unwrap_or_default();
    let width = if long { 8 } else { 4 };
    let chunks = u64::from(be32(places, 4)).min((rows.len() / width) as u64);
    let place =
        |chunk: u64| if long { be64(rows, chunk as usize * 8) } else { u64::from(be32(rows, chunk as usize * 4)) };
    let runs: Vec<(u64, u64)> = inner(table, b"stsc").map_or_else(Vec::new, |list| {
        let rows = list.get(8..).unwrap_or_default().chunks_exact(12).take(be32(list, 4) as usize);
        rows.map(|row| (u64::from(be32(row, 0)).max(1) - 1, u64::from(be32(row, 4)))).collect()
    });
    track.first = (count > 0 && chunks > 0).then(|| (place(0), size(0)));
    let (mut sample, mut run) = (0u64, 0);
    for chunk in 0..chunks {
        while run + 1 < runs.len() && runs[run + 1].0 <= chunk {
            run += 1;
        }
        let in_chunk = runs.get(run).map_or(1, |run| run.1).min(count - sample);
        // Sound has a row for each of its samples: those of one size need no walk.
        let bytes = match same {
            0 => (sample..sample + in_chunk).fold(0u64, |sum, at| sum.saturating_add(size(at))),
            same => u64::from(same).saturating_mul(in_chunk),
        };
        // Uncompressed sound of old MOV counts samples of one byte; what its chunks hold is not told by sizes.
        let bytes = if &track.handler == b"soun" && same == 1 { 0 } else { bytes };
        track.end = track.end.max(place(chunk).saturating_add(bytes));
        sample += in_chunk;
    }
    if sample < count {
        track.end = u64::MAX;
    }
}

/// One run of a fragmented movie (8.8.7 and 8.8.8).
fn track_fragment(run: &[u8], fragment: u64, tracks: &mut [Track]) {
    let Some(head) = inner(run, b"tfhd") else { return };
    let (flags, id) = (be32(head, 0) & 0xff_ffff, be32(head, 4));
    let Some(track) = tracks.iter_mut().find(|track| track.id == id) else { return };
    let mut at = 8;
    let mut base = fragment;
    let mut usual = track.usual;
    if flags & 1 != 0 {
        base = be64(head, at);
        at += 8;
    }
    if flags & 2 != 0 {
        at += 4;
    }
    if flags & 8 != 0 {
        usual.0 = be32(head, at);
        at += 4;
    }
    if flags & 16 != 0 {
        usual.1 = be32(head, at);
    }
    for (_, list) in boxes(run).filter(|(mark, _)| *mark == b"trun") {
        let (flags, count) = (be32(list, 0) & 0xff_ffff, u64::from(be32(list, 4)));
        let mut at = 8;
        let mut place = base;
        if flags & 1 != 0 {
            place = base.saturating_add_signed(i64::from(be32(list, at) as i32));
            at += 4;
        }
        if flags & 4 != 0 {
            at += 4;
        }
        let row = [0x100, 0x200, 0x400, 0x800].iter().filter(|bit| flags & **bit != 0).count() * 4;
        // A run of samples that say nothing of their own is as long as it says.
        let most = list.len().saturating_sub(at).checked_div(row);
        let count = most.map_or(count, |most| count.min(most as u64));
        let has = |bit: u32| flags & bit != 0;
        if row == 0 {
            track.times.push((count, usual.0));
            let size = u64::from(usual.1);
            track.first = track.first.or((count > 0).then_some((place, size)));
            track.end = track.end.max(place.saturating_add(size.saturating_mul(count)));
        }
        for sample in 0..if row == 0 { 0 } else { count } {
            let start = at + sample as usize * row;
            let duration = if has(0x100) { be32(list, start) } else { usual.0 };
            let size = if has(0x200) { be32(list, start + if has(0x100) { 4 } else { 0 }) } else { usual.1 };
            match track.times.last_mut() {
                Some((run, each)) if *each == duration => *run += 1,
                _ => track.times.push((1, duration)),
            }
            track.first = track.first.or(Some((place, u64::from(size))));
            place = place.saturating_add(u64::from(size));
        }
        track.end = track.end.max(place);
        track.samples = track.samples.saturating_add(count);
    }
}
