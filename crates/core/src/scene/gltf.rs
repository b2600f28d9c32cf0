//! glTF 2.0, `.gltf` and `.glb`: camera names, length of the longest animation, outside buffers and images.
//!
//! Only the JSON is looked at. The bounds of an animation's times stand in its input accessor (glTF 2.0, 3.11: `min` and
//! `max` are required there), so that no buffer has to be read.

use super::Facts;

pub fn read(bytes: &[u8]) -> Result<Facts, String> {
    // Some damaged lengths make the parser panic: that is damage, too.
    let parsed = std::panic::catch_unwind(|| gltf::Gltf::from_slice_without_validation(bytes));
    let file =
        parsed.map_err(|_| "its lengths contradict each other".to_owned())?.map_err(|error| error.to_string())?;
    let root = file.document.as_json();
    let mut cameras = Vec::new();
    for node in &root.nodes {
        let Some(index) = &node.camera else { continue };
        let own = root.get(*index).and_then(|camera| camera.name.clone());
        cameras.push(node.name.clone().or(own).unwrap_or_else(|| format!("camera{}", index.value())));
    }
    let ends = root.animations.iter().flat_map(|animation| &animation.samplers).filter_map(|sampler| {
        let accessor = root.get(sampler.input)?;
        accessor.max.as_ref()?.as_array()?.first()?.as_f64()
    });
    let seconds = ends.filter(|end| end.is_finite()).fold(0.0, f64::max);
    let buffers = root.buffers.iter().filter_map(|buffer| buffer.uri.clone());
    let images = root.images.iter().filter_map(|image| image.uri.clone());
    let resources = buffers.chain(images).filter(|uri| !uri.starts_with("data:")).collect();
    Ok(Facts { cameras: Some(cameras), seconds: (seconds > 0.0).then_some(seconds), resources, ..Facts::default() })
}
