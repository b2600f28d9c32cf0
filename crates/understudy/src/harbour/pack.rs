//! glTF 2.0 files from meshes, nodes, lights, cameras and animations.

use base64::Engine;
use glam::{Mat3, Quat, Vec3};
use serde_json::{Value, json};

use super::mesh::Shape;

/// Where the numbers go.
pub enum BufferStorage {
    /// A file beside the scene.
    Beside(&'static str),
    /// The binary container, `.glb`.
    Binary,
    /// A data URI.
    Inside,
}

/// How a surface answers light.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Surface {
    Lit,
    /// Shows its own colour.
    Glow,
    /// Shows its own colour and lets through what is behind it.
    Haze,
}

/// Component types of accessors (glTF 2.0, 3.6.2.2): 32-bit floats and unsigned integers.
const FLOAT: u32 = 5126;
const UNSIGNED: u32 = 5125;

/// How the elements of an accessor lie in its bytes.
struct AccessorLayout {
    kind: &'static str,
    component: u32,
    count: usize,
}

/// What an animation changes of a node, and how it goes from key to key.
struct AnimationChannel {
    path: &'static str,
    kind: &'static str,
    way: &'static str,
}

const SLIDE: AnimationChannel = AnimationChannel { path: "translation", kind: "VEC3", way: "LINEAR" };
const TURN: AnimationChannel = AnimationChannel { path: "rotation", kind: "VEC4", way: "LINEAR" };
const BLINK: AnimationChannel = AnimationChannel { path: "scale", kind: "VEC3", way: "STEP" };

/// Where a camera stands and what it looks at.
pub struct CameraLook {
    pub from: Vec3,
    pub to: Vec3,
}

#[derive(Clone, Copy)]
pub struct PackedLens {
    opening: Option<f32>,
    half_height: f32,
    clip: Option<(f32, f32)>,
}

impl PackedLens {
    /// Vertical opening in radians; neither aspect nor far plane.
    pub fn perspective(opening: f32) -> PackedLens {
        PackedLens { opening: Some(opening), half_height: 0.0, clip: None }
    }

    pub fn orthographic(half_height: f32) -> PackedLens {
        PackedLens { opening: None, half_height, clip: None }
    }

    /// The same lens with an aspect of 16:9 and both clipping planes.
    pub fn within(self, near: f32, far: f32) -> PackedLens {
        PackedLens { clip: Some((near, far)), ..self }
    }
}

/// A file in the making.
pub struct Packer {
    name: &'static str,
    bytes: Vec<u8>,
    views: Vec<Value>,
    accessors: Vec<Value>,
    meshes: Vec<Value>,
    cameras: Vec<Value>,
    lights: Vec<Value>,
    nodes: Vec<Value>,
    channels: Vec<Value>,
    samplers: Vec<Value>,
    roots: Vec<usize>,
}

impl Packer {
    pub fn new(name: &'static str) -> Packer {
        let none = Vec::new;
        Packer {
            name,
            bytes: Vec::new(),
            views: none(),
            accessors: none(),
            meshes: none(),
            cameras: none(),
            lights: none(),
            nodes: none(),
            channels: none(),
            samplers: none(),
            roots: Vec::new(),
        }
    }

    /// A node at a place, below `parent` or at the top.
    pub fn node(&mut self, parent: Option<usize>, name: &str, at: Vec3) -> usize {
        let index = self.nodes.len();
        self.nodes.push(json!({ "name": name, "translation": at.to_array() }));
        match parent {
            Some(parent) => match self.nodes[parent].get_mut("children").and_then(Value::as_array_mut) {
                Some(children) => children.push(json!(index)),
                None => self.nodes[parent]["children"] = json!([index]),
            },
            None => self.roots.push(index),
        }
        index
    }

    /// A node that shows a shape.
    pub fn part(&mut self, parent: Option<usize>, name: &str, shape: &Shape, surface: Surface) -> usize {
        let numbers = |values: Vec<f32>| values.into_iter().flat_map(f32::to_le_bytes).collect::<Vec<u8>>();
        let low = shape.positions.iter().copied().fold(Vec3::INFINITY, Vec3::min).to_array();
        let high = shape.positions.iter().copied().fold(Vec3::NEG_INFINITY, Vec3::max).to_array();
        let positions = numbers(shape.positions.iter().flat_map(|p| p.to_array()).collect());
        let positions = self.accessor(
            &positions,
            AccessorLayout { kind: "VEC3", component: FLOAT, count: shape.positions.len() },
            json!({ "min": low, "max": high }),
        );
        let colours = numbers(shape.colours.iter().flat_map(|c| c.to_array()).collect());
        let colours = self.accessor(
            &colours,
            AccessorLayout { kind: "VEC4", component: FLOAT, count: shape.colours.len() },
            json!({}),
        );
        let indices: Vec<u8> = shape.indices.iter().flat_map(|i| i.to_le_bytes()).collect();
        let indices = self.accessor(
            &indices,
            AccessorLayout { kind: "SCALAR", component: UNSIGNED, count: shape.indices.len() },
            json!({}),
        );
        self.meshes.push(json!({ "name": name, "primitives": [{
            "attributes": { "POSITION": positions, "COLOR_0": colours }, "indices": indices, "material": surface as usize,
        }]}));
        let node = self.node(parent, name, Vec3::ZERO);
        self.nodes[node]["mesh"] = json!(self.meshes.len() - 1);
        node
    }

    pub fn camera(&mut self, parent: Option<usize>, name: &str, look: CameraLook, lens: PackedLens) {
        let CameraLook { from, to } = look;
        let (near, far) = lens.clip.unwrap_or((0.1, 2000.0));
        let mut camera = match lens.opening {
            Some(opening) => json!({ "type": "perspective", "perspective": { "yfov": opening, "znear": near } }),
            None => json!({ "type": "orthographic", "orthographic": {
                "xmag": lens.half_height * 16.0 / 9.0, "ymag": lens.half_height, "znear": near, "zfar": far } }),
        };
        if lens.clip.is_some() {
            camera["perspective"]["zfar"] = json!(far);
            camera["perspective"]["aspectRatio"] = json!(16.0 / 9.0);
        }
        self.cameras.push(camera);
        let node = self.node(parent, name, from);
        self.nodes[node]["rotation"] = json!(towards(from - to).to_array());
        self.nodes[node]["camera"] = json!(self.cameras.len() - 1);
    }

    /// Light from a direction, like the moon's.
    pub fn moonlight(&mut self, towards_moon: Vec3, colour: Vec3) {
        let node = self.node(None, "moonlight", Vec3::ZERO);
        self.nodes[node]["rotation"] = json!(towards(towards_moon).to_array());
        self.light(node, json!({ "type": "directional", "color": colour.to_array() }));
    }

    pub fn lamp(&mut self, parent: Option<usize>, at: Vec3, colour: Vec3, reach: f32) {
        let node = self.node(parent, "lamp", at);
        let strength = colour.max_element();
        self.light(
            node,
            json!({ "type": "point", "color": (colour / strength).to_array(), "intensity": strength, "range": reach }),
        );
    }

    fn light(&mut self, node: usize, light: Value) {
        self.nodes[node]["extensions"] = json!({ "KHR_lights_punctual": { "light": self.lights.len() } });
        self.lights.push(light);
    }

    /// Moves a node along a path, evenly between the keys.
    pub fn slide(&mut self, node: usize, keys: &[(f32, Vec3)]) {
        let keys = ending_on_a_frame(keys, |a, b, part| a.lerp(b, part));
        let values = keys.iter().flat_map(|(_, at)| at.to_array()).collect();
        self.animate(node, &SLIDE, keys.iter().map(|(time, _)| *time), values);
    }

    pub fn turn(&mut self, node: usize, keys: &[(f32, Quat)]) {
        let keys = ending_on_a_frame(keys, |a, b, part| a.slerp(b, part));
        let values = keys.iter().flat_map(|(_, turn)| turn.to_array()).collect();
        self.animate(node, &TURN, keys.iter().map(|(time, _)| *time), values);
    }

    /// Switches a node between its full size and nothing.
    pub fn blink(&mut self, node: usize, keys: &[(f32, bool)]) {
        let keys = ending_on_a_frame(keys, |before, _, _| before);
        let values = keys.iter().flat_map(|(_, on)| [if *on { 1.0 } else { 0.0 }; 3]).collect();
        self.animate(node, &BLINK, keys.iter().map(|(time, _)| *time), values);
    }

    fn animate(&mut self, node: usize, channel: &AnimationChannel, times: impl Iterator<Item = f32>, values: Vec<f32>) {
        let times: Vec<f32> = times.collect();
        let (first, last) = (times.first().copied().unwrap_or(0.0), times.last().copied().unwrap_or(0.0));
        let bytes = |values: &[f32]| values.iter().flat_map(|v| v.to_le_bytes()).collect::<Vec<u8>>();
        let input = self.accessor(
            &bytes(&times),
            AccessorLayout { kind: "SCALAR", component: FLOAT, count: times.len() },
            json!({ "min": [first], "max": [last] }),
        );
        let output = self.accessor(
            &bytes(&values),
            AccessorLayout { kind: channel.kind, component: FLOAT, count: times.len() },
            json!({}),
        );
        self.channels.push(json!({ "sampler": self.samplers.len(), "target": { "node": node, "path": channel.path } }));
        self.samplers.push(json!({ "input": input, "output": output, "interpolation": channel.way }));
    }

    fn accessor(&mut self, bytes: &[u8], layout: AccessorLayout, more: Value) -> usize {
        let AccessorLayout { kind, component, count } = layout;
        self.views.push(json!({ "buffer": 0, "byteOffset": self.bytes.len(), "byteLength": bytes.len() }));
        self.bytes.extend(bytes);
        let mut accessor =
            json!({ "bufferView": self.views.len() - 1, "componentType": component, "count": count, "type": kind });
        if let (Some(to), Some(from)) = (accessor.as_object_mut(), more.as_object()) {
            to.extend(from.clone());
        }
        self.accessors.push(accessor);
        self.accessors.len() - 1
    }

    /// The scene file's bytes and, where they are kept beside it, the buffer's.
    pub fn finish(self, storage: BufferStorage) -> (Vec<u8>, Vec<u8>) {
        let material = |name: &str| json!({ "name": name, "doubleSided": true, "pbrMetallicRoughness": { "metallicFactor": 0.0 } });
        let glow = |name: &str, mode: &str| {
            let mut glow = material(name);
            glow["extensions"] = json!({ "KHR_materials_unlit": {} });
            glow["alphaMode"] = json!(mode);
            glow
        };
        let mut buffer = json!({ "byteLength": self.bytes.len() });
        match storage {
            BufferStorage::Beside(name) => buffer["uri"] = json!(name),
            BufferStorage::Inside => {
                let text = base64::engine::general_purpose::STANDARD.encode(&self.bytes);
                buffer["uri"] = json!(format!("data:application/octet-stream;base64,{text}"));
            }
            BufferStorage::Binary => {}
        }
        let root = json!({
            "asset": { "version": "2.0", "generator": "True Path harbour" },
            "extensionsUsed": ["KHR_materials_unlit", "KHR_lights_punctual"],
            "extensions": { "KHR_lights_punctual": { "lights": self.lights } },
            "scene": 0, "scenes": [{ "name": self.name, "nodes": self.roots }],
            "nodes": self.nodes, "meshes": self.meshes, "cameras": self.cameras,
            "materials": [material("lit"), glow("glow", "OPAQUE"), glow("haze", "BLEND")],
            "animations": [{ "name": self.name, "channels": self.channels, "samplers": self.samplers }],
            "accessors": self.accessors, "bufferViews": self.views, "buffers": [buffer],
        });
        let text = root.to_string().into_bytes();
        match storage {
            BufferStorage::Binary => (container(text, self.bytes), Vec::new()),
            BufferStorage::Beside(_) => (text, self.bytes),
            BufferStorage::Inside => (text, Vec::new()),
        }
    }
}

/// Frames in a second of the harbour.
const RATE: f32 = 24.0;

/// Keys of a motion that ends at a whole second, until the last frame before: frame 1 is at 0.
fn ending_on_a_frame<V: Copy>(keys: &[(f32, V)], between: impl Fn(V, V, f32) -> V) -> Vec<(f32, V)> {
    let mut keys = keys.to_vec();
    if let [.., (from, before), (to, last)] = keys.as_mut_slice() {
        let end = *to - 1.0 / RATE;
        *last = between(*before, *last, (end - *from) / (*to - *from));
        *to = end;
    }
    keys
}

/// The rotation that points a node's +Z along `back` and keeps it upright.
fn towards(back: Vec3) -> Quat {
    let z = back.normalize();
    let up = if z.y.abs() > 0.999 { Vec3::NEG_Z } else { Vec3::Y };
    let x = up.cross(z).normalize();
    Quat::from_mat3(&Mat3::from_cols(x, z.cross(x), z))
}

/// glTF 2.0, section 4: a 12-byte header, a JSON chunk padded with blanks, a binary chunk padded with zeros.
fn container(mut text: Vec<u8>, mut bytes: Vec<u8>) -> Vec<u8> {
    text.resize(text.len().next_multiple_of(4), b' ');
    bytes.resize(bytes.len().next_multiple_of(4), 0);
    let mut out = b"glTF".to_vec();
    out.extend(2u32.to_le_bytes());
    out.extend((28 + text.len() as u32 + bytes.len() as u32).to_le_bytes());
    for (kind, chunk) in [(b"JSON", text), (b"BIN\0", bytes)] {
        out.extend((chunk.len() as u32).to_le_bytes());
        out.extend(kind);
        out.extend(chunk);
    }
    out
}
