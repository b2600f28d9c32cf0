//! USD in its binary form, `.usdc`: the crate file format of OpenUSD (pxr/usd/sdf, `crateFile.h`), versions 0.4 to 0.12.
//!
//! A table of contents names sections: tokens, strings, fields, lists of fields, paths and specs. A spec is a path with a
//! list of fields; a field is a token with a value, which stands in the field itself or at an offset. Every count is bounded
//! by the bytes that it lies in, so that a damaged file costs no more than a sound one of its size.

mod packed;

use super::Facts;
use super::usd::{Prim, UsdLayer, UsdSetting};
use crate::flaw::Flaw;
use packed::Cursor;

pub fn read(bytes: &[u8]) -> Result<Facts, Flaw> {
    Ok(layer(bytes)?.facts())
}

fn layer(bytes: &[u8]) -> Result<UsdLayer, Flaw> {
    let damaged = |what: &str| Flaw::new(format!("its {what} cannot be read"));
    if !bytes.starts_with(b"PXR-USDC") {
        return Err("it does not begin with PXR-USDC".into());
    }
    let version = bytes.get(8..11).ok_or_else(|| damaged("head"))?;
    if version[0] != 0 || version[1] < 4 {
        return Err(
            format!("it is written in version {}.{}.{} of its format", version[0], version[1], version[2]).into()
        );
    }
    let file = CrateFile::open(bytes, version[1]).ok_or_else(|| damaged("tables"))?;
    file.layer().ok_or_else(|| damaged("prims"))
}

/// A value, or where it lies.
#[derive(Clone, Copy)]
struct UsdcValue(u64);

/// Types of values (`crateDataTypes.h`) that are read here.
mod kind {
    pub const INT: u64 = 3;
    pub const FLOAT: u64 = 8;
    pub const DOUBLE: u64 = 9;
    pub const STRING: u64 = 10;
    pub const TOKEN: u64 = 11;
    pub const ASSET: u64 = 12;
    pub const INTS2: u64 = 22;
    pub const PATHS: u64 = 34;
    pub const REFERENCES: u64 = 35;
    pub const SPECIFIER: u64 = 42;
    pub const PAYLOAD: u64 = 47;
    pub const STRINGS: u64 = 50;
    pub const PAYLOADS: u64 = 55;
}

impl UsdcValue {
    fn is_array(self) -> bool {
        self.0 >> 63 & 1 == 1
    }

    fn is_inlined(self) -> bool {
        self.0 >> 62 & 1 == 1
    }

    fn kind(self) -> u64 {
        self.0 >> 48 & 0xff
    }

    /// The value itself, or its offset in the file.
    fn payload(self) -> usize {
        (self.0 & 0xffff_ffff_ffff) as usize
    }
}

/// Ends a list of fields.
const END: u32 = u32::MAX;
/// Kinds of specs.
const ATTRIBUTE: u32 = 1;
const PRIM: u32 = 6;
const ROOT: u32 = 7;
const RELATIONSHIP: u32 = 8;

/// A file with its tables.
struct CrateFile<'b> {
    bytes: &'b [u8],
    minor: u8,
    tokens: Vec<String>,
    /// Of each string its token.
    strings: Vec<u32>,
    /// Of each field its name, a token, and its value.
    fields: Vec<(u32, UsdcValue)>,
    lists: Vec<u32>,
    paths: Vec<String>,
    /// Path, list of fields, kind.
    specs: Vec<[u32; 3]>,
}

impl<'b> CrateFile<'b> {
    fn open(bytes: &'b [u8], minor: u8) -> Option<CrateFile<'b>> {
        let sections = sections(bytes)?;
        let section =
            |name: &str| sections.iter().find(|(own, _)| own == name).map(|(_, start)| Cursor { bytes, at: *start });
        let mut file = CrateFile {
            bytes,
            minor,
            tokens: tokens(section("TOKENS")?)?,
            strings: Vec::new(),
            fields: Vec::new(),
            lists: Vec::new(),
            paths: Vec::new(),
            specs: Vec::new(),
        };
        let mut cursor = section("STRINGS")?;
        let count = cursor.count()?;
        file.strings = (0..count).map(|_| cursor.u32()).collect::<Option<_>>()?;
        let mut cursor = section("FIELDS")?;
        let count = cursor.count()?;
        let names = cursor.integers(count)?;
        let values = cursor.unpacked(count.checked_mul(8)?)?;
        let mut values = Cursor { bytes: &values, at: 0 };
        file.fields = names.into_iter().map(|name| Some((name, UsdcValue(values.u64()?)))).collect::<Option<_>>()?;
        let mut cursor = section("FIELDSETS")?;
        let count = cursor.count()?;
        file.lists = cursor.integers(count)?;
        file.paths = file.paths(section("PATHS")?)?;
        let mut cursor = section("SPECS")?;
        let count = cursor.count()?;
        let (paths, lists, kinds) = (cursor.integers(count)?, cursor.integers(count)?, cursor.integers(count)?);
        file.specs = paths.into_iter().zip(lists).zip(kinds).map(|((path, list), kind)| [path, list, kind]).collect();
        Some(file)
    }

    /// The paths: each an element below the one that a jump leads to. Their text together is bounded, since a chain of
    /// `n` elements has paths of `n` lengths.
    fn paths(&self, mut cursor: Cursor<'_>) -> Option<Vec<String>> {
        const MOST_TEXT: usize = 1 << 28;
        let total = cursor.count()?;
        let count = cursor.count()?;
        let (places, elements, jumps) = (cursor.integers(count)?, cursor.integers(count)?, cursor.integers(count)?);
        let mut paths = vec![String::new(); total];
        let (mut text, mut steps) = (0, 0);
        // Where a branch goes on, and the path above it.
        let mut open: Vec<(usize, Option<String>)> = vec![(0, None)];
        while let Some((mut at, mut above)) = open.pop() {
            loop {
                let (place, element, jump) = (*places.get(at)?, *elements.get(at)? as i32, *jumps.get(at)? as i32);
                let path = match &above {
                    None => "/".to_owned(),
                    Some(above) => {
                        let name = self.tokens.get(element.unsigned_abs() as usize)?;
                        match (element < 0, above.as_str(), name.starts_with('{')) {
                            (true, above, _) => format!("{above}.{name}"),
                            (false, "/", _) => format!("/{name}"),
                            (false, above, true) => format!("{above}{name}"),
                            (false, above, false) => format!("{above}/{name}"),
                        }
                    }
                };
                // Jumps that lead to the same place twice belong to a damaged file.
                (text, steps) = (text + path.len(), steps + 1);
                if text > MOST_TEXT || steps > count {
                    return None;
                }
                paths.get_mut(place as usize)?.clone_from(&path);
                let (has_child, has_sibling) = (jump > 0 || jump == -1, jump >= 0);
                if has_child && has_sibling {
                    // A jump goes forward only: what it leads to is read once.
                    open.push((at.checked_add(usize::try_from(jump).ok()?)?, above.clone()));
                }
                if has_child || above.is_none() {
                    above = Some(path);
                }
                if !has_child && !has_sibling {
                    break;
                }
                at += 1;
            }
        }
        Some(paths)
    }

    /// The fields of a spec, by name.
    fn fields_of(&self, list: u32) -> impl Iterator<Item = (&str, UsdcValue)> {
        let from = self.lists.get(list as usize..).unwrap_or_default();
        let fields =
            from.iter().take_while(|field| **field != END).filter_map(|field| self.fields.get(*field as usize));
        fields.filter_map(|(name, value)| Some((self.tokens.get(*name as usize)?.as_str(), *value)))
    }

    fn token(&self, at: usize) -> Option<&str> {
        self.tokens.get(at).map(String::as_str)
    }

    fn string(&self, at: u32) -> Option<&str> {
        self.token(*self.strings.get(at as usize)? as usize)
    }

    fn at(&self, value: UsdcValue) -> Cursor<'b> {
        Cursor { bytes: self.bytes, at: value.payload() }
    }

    fn number(&self, value: UsdcValue) -> Option<f64> {
        match (value.kind(), value.is_inlined()) {
            // A number that a float holds exactly is one.
            (kind::DOUBLE | kind::FLOAT, true) => Some(f64::from(f32::from_bits(value.payload() as u32))),
            (kind::DOUBLE, false) => Some(f64::from_bits(self.at(value).u64()?)),
            (kind::FLOAT, false) => Some(f64::from(f32::from_bits(self.at(value).u32()?))),
            (kind::INT, true) => Some(f64::from(value.payload() as u32 as i32)),
            (kind::INT, false) => Some(f64::from(self.at(value).u32()? as i32)),
            _ => None,
        }
        .filter(|number| number.is_finite())
    }

    fn text(&self, value: UsdcValue) -> Option<&str> {
        match value.kind() {
            kind::TOKEN | kind::ASSET if !value.is_array() => {
                let at = if value.is_inlined() { value.payload() } else { self.at(value).u32()? as usize };
                self.token(at)
            }
            kind::STRING => {
                let at = if value.is_inlined() { value.payload() as u32 } else { self.at(value).u32()? };
                self.string(at)
            }
            _ => None,
        }
    }

    /// Two whole numbers; where each fits into a byte, they are in the value itself.
    fn two(&self, value: UsdcValue) -> Option<(i32, i32)> {
        if value.kind() != kind::INTS2 || value.is_array() {
            return None;
        }
        if value.is_inlined() {
            let byte = |at: usize| i32::from((value.payload() >> (at * 8)) as u8 as i8);
            return Some((byte(0), byte(1)));
        }
        let mut cursor = self.at(value);
        Some((cursor.u32()? as i32, cursor.u32()? as i32))
    }

    /// The assets that a value names.
    fn assets(&self, value: UsdcValue) -> Option<Vec<String>> {
        if value.kind() != kind::ASSET {
            return None;
        }
        if !value.is_array() {
            return self.text(value).map(|text| vec![text.to_owned()]);
        }
        if value.payload() == 0 {
            return Some(Vec::new());
        }
        let mut cursor = self.at(value);
        if self.minor < 5 {
            // An array began with its rank.
            cursor.u32()?;
        }
        let count = if self.minor < 7 { cursor.u32()? as usize } else { cursor.count()? };
        // In a list each is a string, where one alone is a token.
        (0..count).map(|_| self.string(cursor.u32()?).map(str::to_owned)).collect()
    }

    /// The files of references, payloads or sublayers; in its own file a reference names none.
    fn layers_of(&self, value: UsdcValue) -> Option<Vec<String>> {
        let mut cursor = self.at(value);
        let mut found = Vec::new();
        match value.kind() {
            kind::STRINGS => {
                let count = cursor.count()?;
                for _ in 0..count {
                    found.push(self.string(cursor.u32()?)?.to_owned());
                }
            }
            kind::PAYLOAD => found.push(self.reference(&mut cursor, true)?),
            kind::REFERENCES | kind::PAYLOADS => {
                let is_payload = value.kind() == kind::PAYLOADS;
                for _ in 0..lists_in(cursor.take(1)?[0]) {
                    let count = cursor.count()?;
                    for _ in 0..count {
                        found.push(self.reference(&mut cursor, is_payload)?);
                    }
                }
            }
            _ => return None,
        }
        found.retain(|path| !path.is_empty());
        Some(found)
    }

    /// One reference or payload: its file. What else it says is passed over.
    fn reference(&self, cursor: &mut Cursor<'_>, is_payload: bool) -> Option<String> {
        let asset = self.string(cursor.u32()?).unwrap_or_default().to_owned();
        cursor.u32()?;
        if !is_payload || self.minor >= 8 {
            cursor.take(16)?;
        }
        if !is_payload {
            // A dictionary: each key with the distance to the value that follows.
            let count = cursor.count()?;
            for _ in 0..count {
                cursor.u32()?;
                let from = cursor.at;
                let distance = usize::try_from(cursor.u64()?).ok()?;
                cursor.at = from.checked_add(distance)?;
                cursor.u64()?;
            }
        }
        Some(asset)
    }

    /// The paths that a relationship leads to.
    fn targets(&self, value: UsdcValue) -> Option<Vec<String>> {
        if value.kind() != kind::PATHS {
            return None;
        }
        let mut cursor = self.at(value);
        let mut found = Vec::new();
        for _ in 0..lists_in(cursor.take(1)?[0]) {
            let count = cursor.count()?;
            for _ in 0..count {
                found.push(self.paths.get(cursor.u32()? as usize)?.clone());
            }
        }
        Some(found)
    }

    /// What of it is looked for.
    fn layer(&self) -> Option<UsdLayer> {
        let mut layer = UsdLayer::default();
        for [path, list, kind] in &self.specs {
            let path = self.paths.get(*path as usize)?;
            match *kind {
                ROOT => self.root(*list, &mut layer),
                PRIM => {
                    let mut prim = Prim { path: path.clone(), ..Prim::default() };
                    for (name, value) in self.fields_of(*list) {
                        match name {
                            "typeName" => prim.kind = self.text(value).unwrap_or_default().to_owned(),
                            "specifier" => prim.is_defined = value.kind() == kind::SPECIFIER && value.payload() == 0,
                            "references" | "payload" => layer.layers.extend(self.layers_of(value).unwrap_or_default()),
                            _ => {}
                        }
                    }
                    layer.prims.push(prim);
                }
                ATTRIBUTE | RELATIONSHIP => {
                    for (name, value) in self.fields_of(*list) {
                        let setting = match name {
                            "default" => {
                                layer.assets.extend(self.assets(value).unwrap_or_default());
                                let two = self.two(value).map(|(width, height)| UsdSetting::Two(width, height));
                                two.or_else(|| self.text(value).map(|text| UsdSetting::Text(text.to_owned())))
                            }
                            "targetPaths" => self.targets(value).map(UsdSetting::Paths),
                            _ => None,
                        };
                        layer.settings.extend(setting.map(|setting| (path.clone(), setting)));
                    }
                }
                _ => {}
            }
        }
        Some(layer)
    }

    fn root(&self, list: u32, layer: &mut UsdLayer) {
        for (name, value) in self.fields_of(list) {
            match name {
                "startTimeCode" => layer.start = self.number(value),
                "endTimeCode" => layer.end = self.number(value),
                "timeCodesPerSecond" => layer.codes = self.number(value),
                "framesPerSecond" => layer.frames = self.number(value),
                "renderSettingsPrimPath" => layer.render_settings = self.text(value).map(str::to_owned),
                "subLayers" => layer.layers.extend(self.layers_of(value).unwrap_or_default()),
                _ => {}
            }
        }
    }
}

/// How many lists of a list operation are there, by the bits of its head.
fn lists_in(head: u8) -> u32 {
    (head & 0b1111_1110).count_ones()
}

fn tokens(mut cursor: Cursor<'_>) -> Option<Vec<String>> {
    let count = cursor.count()?;
    let size = cursor.size()?;
    let text = String::from_utf8(cursor.unpacked(size)?).ok()?;
    Some(text.split('\0').take(count).map(str::to_owned).collect())
}

/// The sections by name, and where each begins.
fn sections(bytes: &[u8]) -> Option<Vec<(String, usize)>> {
    let at = Cursor { bytes, at: 16 }.size()?;
    let mut cursor = Cursor { bytes, at };
    let count = cursor.size()?.min(bytes.len() / 32);
    let one = |_| {
        let name = cursor.take(16)?;
        let end = name.iter().position(|byte| *byte == 0).unwrap_or(name.len());
        let (start, _) = (cursor.size()?, cursor.size()?);
        Some((String::from_utf8_lossy(&name[..end]).into_owned(), start))
    };
    (0..count).map(one).collect()
}
