//! What is looked for in a USD layer, whichever way it is written: its span and rates, prims, what they refer to, and the
//! render settings with their products and variables (the schemas of UsdRender).

use super::{Facts, RenderProduct};
use crate::sheet::{Fps, Size};

/// One layer.
#[derive(Clone, Debug, Default)]
pub(super) struct UsdLayer {
    pub start: Option<f64>,
    pub end: Option<f64>,
    /// Time codes in a second.
    pub codes: Option<f64>,
    /// Frames in a second.
    pub frames: Option<f64>,
    /// The path of the render settings that hold.
    pub render_settings: Option<String>,
    /// Prims in the order of the file.
    pub prims: Vec<Prim>,
    /// Files that are layers of this one: sublayers, references and payloads.
    pub layers: Vec<String>,
    /// All other files.
    pub assets: Vec<String>,
    /// Attributes and relationships by their paths, such as `/Render/main.resolution`.
    pub settings: Vec<(String, UsdSetting)>,
}

/// One prim.
#[derive(Clone, Debug, Default)]
pub(super) struct Prim {
    pub path: String,
    pub kind: String,
    /// Whether it is defined here: one that is only laid over another may be nowhere.
    pub is_defined: bool,
}

impl Prim {
    fn name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or_default()
    }
}

/// A value that is looked for.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum UsdSetting {
    Two(i32, i32),
    Text(String),
    Paths(Vec<String>),
}

impl UsdLayer {
    /// The facts of this layer alone.
    pub fn facts(&self) -> Facts {
        let mut facts = Facts { cameras: Some(Vec::new()), ..Facts::default() };
        if let (Some(start), Some(end)) = (self.start, self.end) {
            // Where a second has another number of time codes than of frames, a frame is as many of them.
            let rates = self.codes.zip(self.frames).filter(|(codes, frames)| *codes > 0.0 && *frames > 0.0);
            let frames = rates.map_or(1.0, |(codes, frames)| frames / codes);
            let (start, end) = (start * frames, end * frames);
            facts.span = (start <= end && start.abs() < 1e9 && end.abs() < 1e9)
                .then_some((start.round() as i64, end.round() as i64));
        }
        // A layer without a rate has 24 time codes per second, by definition of the format; it is not guessed here.
        facts.fps = self.frames.or(self.codes).and_then(rate);
        for camera in self.prims.iter().filter(|prim| prim.kind == "Camera" && prim.is_defined) {
            facts.cameras.get_or_insert_default().push(camera.name().to_owned());
            facts.camera_paths.push(camera.path.clone());
        }
        for path in self.layers.iter().chain(&self.assets) {
            if !path.is_empty() && !facts.resources.contains(path) {
                facts.resources.push(path.clone());
            }
        }
        facts.layers.clone_from(&self.layers);
        self.rendering(&mut facts);
        facts
    }

    fn setting(&self, prim: &str, name: &str) -> Option<&UsdSetting> {
        let path = format!("{prim}.{name}");
        self.settings.iter().find(|(own, _)| *own == path).map(|(_, setting)| setting)
    }

    fn targets(&self, prim: &str, name: &str) -> Vec<String> {
        match self.setting(prim, name) {
            Some(UsdSetting::Paths(paths)) => paths.clone(),
            _ => Vec::new(),
        }
    }

    /// The size and the products that the scene's render settings ask for: those that the scene names, or the only ones.
    fn rendering(&self, facts: &mut Facts) {
        let of_kind = |kind: &'static str| self.prims.iter().filter(move |prim| prim.kind == kind && prim.is_defined);
        let all: Vec<&str> = of_kind("RenderSettings").map(|prim| prim.path.as_str()).collect();
        let named = self.render_settings.as_deref().filter(|named| all.contains(named));
        let settings = named.or(if all.len() == 1 { all.first().copied() } else { None });
        let size = |prim: &str| match self.setting(prim, "resolution") {
            Some(UsdSetting::Two(width, height)) => {
                let side = |side: i32| u32::try_from(side).ok().filter(|side| *side > 0);
                Some(Size { width: side(*width)?, height: side(*height)? })
            }
            _ => None,
        };
        let name = |path: &str| path.rsplit('/').next().unwrap_or_default().to_owned();
        let camera = |prim: &str| self.targets(prim, "camera").first().map(|path| name(path));
        facts.size = settings.and_then(size);
        let wanted = settings.map(|settings| self.targets(settings, "products")).unwrap_or_default();
        for product in of_kind("RenderProduct").filter(|prim| wanted.is_empty() || wanted.contains(&prim.path)) {
            let path = product.path.as_str();
            let file = match self.setting(path, "productName") {
                Some(UsdSetting::Text(file)) => Some(file.clone()).filter(|file| !file.is_empty()),
                _ => None,
            };
            facts.products.push(RenderProduct {
                name: product.name().to_owned(),
                file,
                // What a product leaves open is that of the settings.
                size: size(path).or(facts.size),
                camera: camera(path).or(settings.and_then(camera)),
                variables: self.targets(path, "orderedVars").iter().map(|path| name(path)).collect(),
            });
        }
    }
}

/// A rate as an exact fraction: whole, or a thousandth-and-one of a whole.
fn rate(value: f64) -> Option<Fps> {
    if !(0.0..1e6).contains(&value) {
        return None;
    }
    if value.fract() == 0.0 {
        return Fps::new(value as u32, 1);
    }
    let ntsc = (value * 1.001).round();
    if ((ntsc / 1.001) - value).abs() < 0.005 {
        Fps::new(ntsc as u32 * 1000, 1001)
    } else {
        Fps::new((value * 1000.0).round() as u32, 1000)
    }
}
