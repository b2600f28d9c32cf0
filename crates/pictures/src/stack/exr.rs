//! A multi-part OpenEXR: a part for each pass, with its samples, its window and its compression as they are.

use std::path::Path;

use exr::image::Blocks;
use exr::meta::attribute::LineOrder;
use exr::prelude::{
    AnyChannels, FlatSamples, Image, Layer as Part, ReadChannels, ReadLayers, Text, WritableImage, read,
};
use smallvec::SmallVec;

use super::{Fault, StackLayer};

type Parts = SmallVec<[Part<AnyChannels<FlatSamples>>; 2]>;

pub fn write(layers: &[StackLayer], out: &Path) -> Result<(), Fault> {
    let mut parts = Parts::new();
    let mut attributes = None;
    for layer in layers {
        let image = read()
            .no_deep_data()
            .largest_resolution_level()
            .all_channels()
            .all_layers()
            .all_attributes()
            .non_parallel()
            .from_file(&layer.file)
            .map_err(|_| format!("{} cannot be read as OpenEXR", layer.file.display()))?;
        let window = image.attributes.display_window;
        let first = attributes.get_or_insert_with(|| image.attributes.clone());
        if first.display_window != window {
            return Err(format!("{} has a different display window than {}", layer.name, layers[0].name).into());
        }
        let several = image.layer_data.len() > 1;
        for mut part in image.layer_data {
            let own = part.attributes.layer_name.take().filter(|_| several);
            let name = own.map_or_else(|| layer.name.clone(), |own| format!("{}.{own}", layer.name));
            part.attributes.layer_name = Some(Text::from(name.as_str()));
            // Every reader knows scan lines.
            part.encoding.blocks = Blocks::ScanLines;
            part.encoding.line_order = LineOrder::Increasing;
            parts.push(part);
        }
    }
    let attributes = attributes.ok_or("there is no pass")?;
    let image = Image { attributes, layer_data: parts };
    image.write().non_parallel().to_file(out).map_err(|error| Fault::disk(out, error))
}
