//! glTF 2.0 (`.gltf`, `.glb`) into a [`Scene`]. Every index and length is checked before it is used: a damaged file ends
//! with a sentence, never with a panic.

use std::path::Path;

use base64::Engine;
use glam::{Quat, Vec3, Vec4};
use gltf::animation::util::ReadOutputs;
use gltf::{Document, Semantic};

use crate::EarlyEnd;
use crate::scene::{Camera, Corner, Keys, Lens, Motion, Node, Pose, Primitive, Scene, SceneLight};

/// The scene in `path` and the outside files it names.
pub fn load(path: &Path) -> Result<(Scene, Vec<String>), EarlyEnd> {
    // Some damaged lengths make the parser panic.
    std::panic::catch_unwind(|| loaded(path)).unwrap_or_else(|_| {
        Err(EarlyEnd::because(path.display(), "it is damaged: the lengths in it contradict each other"))
    })
}

fn loaded(path: &Path) -> Result<(Scene, Vec<String>), EarlyEnd> {
    let stop = |why: &dyn std::fmt::Display| EarlyEnd::because(path.display(), why);
    let bytes = read(path)?;
    let gltf = gltf::Gltf::from_slice(&bytes).map_err(|e| stop(&e))?;
    let folder = path.parent().unwrap_or(Path::new("."));
    let mut resources = Vec::new();
    let mut buffers = Vec::new();
    for buffer in gltf.buffers() {
        let data = match buffer.source() {
            gltf::buffer::Source::Bin => gltf.blob.clone().ok_or_else(|| stop(&"its binary chunk is missing"))?,
            gltf::buffer::Source::Uri(uri) => uri_bytes(uri, folder, &mut resources)?,
        };
        buffers.push(data);
    }
    check_accessors(&gltf.document, &buffers).and_then(|()| check_shapes(&gltf.document)).map_err(|why| stop(&why))?;
    let mut scene = nodes(&gltf.document).map_err(|why| stop(&why))?;
    scene.meshes =
        gltf.meshes().map(|mesh| mesh.primitives().filter_map(|p| primitive(&p, &buffers)).collect()).collect();
    let order: Vec<usize> = scene_order(&gltf.document);
    for animation in gltf.animations() {
        for channel in animation.channels() {
            let Some(node) = order.iter().position(|n| *n == channel.target().node().index()) else { continue };
            scene.motions.extend(motion(&channel, node, &buffers));
        }
    }
    let times = scene.motions.iter().filter_map(|motion| Some((*motion.times.first()?, *motion.times.last()?)));
    let moving = times.filter(|(first, last)| first < last && last.is_finite());
    scene.keys = moving.reduce(|a, b| (a.0.min(b.0), a.1.max(b.1)));
    Ok((scene, resources))
}

fn uri_bytes(uri: &str, folder: &Path, resources: &mut Vec<String>) -> Result<Vec<u8>, EarlyEnd> {
    if let Some(rest) = uri.strip_prefix("data:") {
        let text = rest.split_once(";base64,").map_or("", |(_, text)| text);
        return base64::engine::general_purpose::STANDARD.decode(text).map_err(|e| EarlyEnd::because("a data URI", e));
    }
    let name = percent_encoding::percent_decode_str(uri).decode_utf8_lossy().into_owned();
    let file = folder.join(&name);
    resources.push(name);
    read(&file)
}

/// The bytes of a regular file: a pipe would be waited for, and a device may never end.
fn read(path: &Path) -> Result<Vec<u8>, EarlyEnd> {
    let about = path.metadata().map_err(|e| EarlyEnd::because(path.display(), e))?;
    if !about.is_file() {
        return Err(EarlyEnd::because(path.display(), "this is not a file"));
    }
    std::fs::read(path).map_err(|e| EarlyEnd::because(path.display(), e))
}

/// glTF 2.0, 3.6.2.4: every element of an accessor lies within its buffer view, and the view within its buffer.
fn check_accessors(document: &Document, buffers: &[Vec<u8>]) -> Result<(), EarlyEnd> {
    for accessor in document.accessors() {
        let at = format!("accessor {}", accessor.index());
        if accessor.sparse().is_some() {
            return Err(format!("{at} is sparse, which is not supported").into());
        }
        let view = accessor.view().ok_or_else(|| EarlyEnd(format!("{at} has no buffer view")))?;
        let held = buffers.get(view.buffer().index()).map_or(0, Vec::len) as u64;
        let (size, count) = (accessor.size() as u64, accessor.count() as u64);
        let stride = view.stride().map_or(size, |stride| stride as u64);
        let needs = count
            .saturating_sub(1)
            .saturating_mul(stride)
            .saturating_add(size)
            .saturating_add(accessor.offset() as u64);
        let end = (view.offset() as u64).saturating_add(view.length() as u64);
        if needs > view.length() as u64 || end > held || stride < size {
            return Err(format!("{at} reaches beyond its buffer").into());
        }
    }
    Ok(())
}

/// glTF 2.0, 3.7.2.1 and 3.11: the element types that attributes, indices and animation keys may have.
fn check_shapes(document: &Document) -> Result<(), EarlyEnd> {
    use gltf::accessor::{DataType, Dimensions};
    let needs = |accessor: gltf::Accessor<'_>, shapes: &[Dimensions], types: &[DataType]| {
        let fits = shapes.contains(&accessor.dimensions()) && types.contains(&accessor.data_type());
        if fits {
            Ok(())
        } else {
            Err(EarlyEnd(format!("accessor {} has the wrong element type for its use", accessor.index())))
        }
    };
    let (float, vec3) = (&[DataType::F32], &[Dimensions::Vec3]);
    let parts = [DataType::F32, DataType::U8, DataType::U16, DataType::I8, DataType::I16];
    for primitive in document.meshes().flat_map(|mesh| mesh.primitives().collect::<Vec<_>>()) {
        for (semantic, accessor) in primitive.attributes() {
            match semantic {
                Semantic::Positions | Semantic::Normals => needs(accessor, vec3, float)?,
                Semantic::Colors(0) => needs(accessor, &[Dimensions::Vec3, Dimensions::Vec4], &parts[..3])?,
                _ => {}
            }
        }
        if let Some(indices) = primitive.indices() {
            needs(indices, &[Dimensions::Scalar], &[DataType::U8, DataType::U16, DataType::U32])?;
        }
    }
    for channel in document.animations().flat_map(|animation| animation.channels().collect::<Vec<_>>()) {
        needs(channel.sampler().input(), &[Dimensions::Scalar], float)?;
        match channel.target().property() {
            gltf::animation::Property::Translation | gltf::animation::Property::Scale => {
                needs(channel.sampler().output(), vec3, float)?
            }
            gltf::animation::Property::Rotation => needs(channel.sampler().output(), &[Dimensions::Vec4], &parts)?,
            gltf::animation::Property::MorphTargetWeights => {}
        }
    }
    Ok(())
}

/// Node indices, parents before children; a node that is its own ancestor ends the walk.
fn scene_order(document: &Document) -> Vec<usize> {
    let mut order: Vec<usize> = Vec::new();
    let mut seen = vec![false; document.nodes().len()];
    let roots = document.default_scene().or_else(|| document.scenes().next());
    let mut waiting: Vec<_> = roots.into_iter().flat_map(|scene| scene.nodes().collect::<Vec<_>>()).collect();
    while let Some(node) = waiting.pop() {
        if std::mem::replace(&mut seen[node.index()], true) {
            continue;
        }
        order.push(node.index());
        waiting.extend(node.children());
    }
    order
}

fn nodes(document: &Document) -> Result<Scene, EarlyEnd> {
    let order = scene_order(document);
    let mut place = vec![None; document.nodes().len()];
    for (at, index) in order.iter().enumerate() {
        place[*index] = Some(at);
    }
    let mut parents = vec![None; order.len()];
    let all: Vec<_> = document.nodes().collect();
    for (at, index) in order.iter().enumerate() {
        for child in all[*index].children().filter_map(|child| place[child.index()]) {
            parents[child] = (child > at).then_some(at);
        }
    }
    let mut scene = Scene::default();
    for (at, index) in order.iter().enumerate() {
        let node = &all[*index];
        let (translation, rotation, scale) = node.transform().decomposed();
        let rest = Pose { translation: translation.into(), rotation: Quat::from_array(rotation), scale: scale.into() };
        scene.nodes.push(Node {
            parent: parents[at],
            rest,
            mesh: node.mesh().map(|mesh| mesh.index()),
            light: node.light().and_then(light),
        });
        if let Some(found) = node.camera() {
            let name = node.name().or(found.name()).map_or_else(|| format!("camera{}", found.index()), str::to_owned);
            scene.cameras.push(camera(&found, name, at)?);
        }
    }
    Ok(scene)
}

fn light(found: gltf::khr_lights_punctual::Light<'_>) -> Option<SceneLight> {
    let colour = Vec3::from(found.color()) * found.intensity();
    match found.kind() {
        gltf::khr_lights_punctual::Kind::Directional => Some(SceneLight::Directional { colour }),
        gltf::khr_lights_punctual::Kind::Point => Some(SceneLight::Point { colour, reach: found.range() }),
        gltf::khr_lights_punctual::Kind::Spot { .. } => None,
    }
}

fn camera(found: &gltf::Camera<'_>, name: String, node: usize) -> Result<Camera, EarlyEnd> {
    let (lens, near, far) = match found.projection() {
        gltf::camera::Projection::Perspective(p) => (Lens::Perspective { opening: p.yfov() }, p.znear(), p.zfar()),
        gltf::camera::Projection::Orthographic(o) => {
            (Lens::Orthographic { half_height: o.ymag() }, o.znear(), Some(o.zfar()))
        }
    };
    let opening = match lens {
        Lens::Perspective { opening } => opening > 0.0 && opening < std::f32::consts::PI,
        Lens::Orthographic { half_height } => half_height > 0.0,
    };
    if !opening
        || !near.is_finite()
        || far.is_some_and(|far| far.partial_cmp(&near) != Some(std::cmp::Ordering::Greater))
    {
        return Err(format!("camera '{name}' has an impossible opening, near or far plane").into());
    }
    Ok(Camera { name, node, lens, near: near.max(1e-4), far })
}

fn primitive(found: &gltf::Primitive<'_>, buffers: &[Vec<u8>]) -> Option<Primitive> {
    if found.mode() != gltf::mesh::Mode::Triangles || found.get(&Semantic::Positions).is_none() {
        return None;
    }
    let reader = found.reader(|buffer| buffers.get(buffer.index()).map(Vec::as_slice));
    let material = found.material();
    let base = Vec4::from(material.pbr_metallic_roughness().base_color_factor());
    let mut normals = reader.read_normals();
    let mut colours = reader.read_colors(0).map(gltf::mesh::util::ReadColors::into_rgba_f32);
    let corners: Vec<Corner> = reader
        .read_positions()?
        .map(|position| Corner {
            position: Vec3::from(position),
            normal: normals.as_mut().and_then(Iterator::next).map(Vec3::from),
            colour: base * colours.as_mut().and_then(Iterator::next).map_or(Vec4::ONE, Vec4::from),
        })
        .collect();
    let indices: Vec<u32> = match reader.read_indices() {
        Some(indices) => indices.into_u32().collect(),
        None => (0..u32::try_from(corners.len()).ok()?).collect(),
    };
    let inside = |corner: &u32| (*corner as usize) < corners.len();
    let triangles = indices.chunks_exact(3).filter(|t| t.iter().all(inside)).map(|t| [t[0], t[1], t[2]]).collect();
    Some(Primitive {
        corners,
        triangles,
        emissive: Vec3::from(material.emissive_factor()),
        unlit: material.unlit(),
        blend: material.alpha_mode() == gltf::material::AlphaMode::Blend,
    })
}

/// A channel's keys. Of a cubic spline only the keys themselves are taken and joined linearly.
fn motion(channel: &gltf::animation::Channel<'_>, node: usize, buffers: &[Vec<u8>]) -> Option<Motion> {
    use gltf::animation::Interpolation;
    let reader = channel.reader(|buffer| buffers.get(buffer.index()).map(Vec::as_slice));
    let times: Vec<f32> = reader.read_inputs()?.collect();
    let interpolation = channel.sampler().interpolation();
    let (skip, every) = if interpolation == Interpolation::CubicSpline { (1, 3) } else { (0, 1) };
    let keys = match reader.read_outputs()? {
        ReadOutputs::Translations(keys) => Keys::Translation(keys.skip(skip).step_by(every).map(Vec3::from).collect()),
        ReadOutputs::Scales(keys) => Keys::Scale(keys.skip(skip).step_by(every).map(Vec3::from).collect()),
        ReadOutputs::Rotations(keys) => Keys::Rotation(
            keys.into_f32().skip(skip).step_by(every).map(|key| Quat::from_array(key).normalize()).collect(),
        ),
        ReadOutputs::MorphTargetWeights(_) => return None,
    };
    (!times.is_empty()).then_some(Motion { node, times, step: interpolation == Interpolation::Step, keys })
}
