//! Slips of the finger in a sheet, made by rule: every key and every word with a meaning is misspelt in several ways. Each slip is
//! one finding, in its own line, and what is proposed brings the right text back.

use std::collections::BTreeMap;

use crate::support::Project;

/// A sheet in which every word is used once or twice, and nothing is amiss.
const SHEET: &str = r#"sheet = 1

[project]
name = "night-ferry"

[roots]
renders = "renders"

[formats.master]
type = "exr"
bits = "half"
channels = "rgba"
compression = "zip"

[formats.review]
type = "mp4"
codec = "h264"
quality = 75

[defaults]
adapter = "understudy"
fps = 24
size = "64x36"
format = "master"
colour = "linear"
passes = ["beauty", "depth"]
version = 1
path = "{renders}/{job}/{pass}/{version}{-mode}/{job}_{camera}_{pass}_{version}.{frame:4}.{ext}"

[modes.draft]
scale = 50
frames = "all/8"

[[job]]
name = "crossing"
scene = "scenes/crossing.gltf"
each = { camera = ["quay", "mast"] }

[[job]]
name = "lighthouse"
scene = "scenes/lighthouse.glb"
camera = "cliff"
frames = "1-48"

[[movie]]
name = "review"
of = "crossing"
format = "review"
colour = "display"
over = "black"
path = "{renders}/{job}_{camera}_{version}{-mode}.{ext}"

[policy]
within = ["renders"]
tokens = ["version"]

[checks]
alpha-flat = "off"
sequence-without-movie = "off"

[run]
chunk = 12
existing = "keep"
"#;

/// Words that are not keys: where they stand, and what is misspelt of them.
const WORDS: [(&str, &str); 24] = [
    ("type = \"exr\"", "exr"),
    ("bits = \"half\"", "half"),
    ("channels = \"rgba\"", "rgba"),
    ("compression = \"zip\"", "zip"),
    ("type = \"mp4\"", "mp4"),
    ("codec = \"h264\"", "h264"),
    ("adapter = \"understudy\"", "understudy"),
    ("format = \"master\"", "master"),
    ("colour = \"linear\"", "linear"),
    ("\"beauty\"", "beauty"),
    ("{renders}/{job}/{pass}", "renders"),
    ("{job}/{pass}/{version}", "pass"),
    ("_{camera}_{pass}_", "camera"),
    (".{frame:4}.", "frame"),
    ("camera = [\"quay\"", "quay"),
    ("camera = \"cliff\"", "cliff"),
    ("of = \"crossing\"", "crossing"),
    ("format = \"review\"", "review"),
    ("colour = \"display\"", "display"),
    ("within = [\"renders\"]", "renders"),
    ("alpha-flat", "alpha-flat"),
    ("alpha-flat = \"off\"", "off"),
    ("existing = \"keep\"", "keep"),
    ("all/8", "all"),
];

/// Keys that can be called anything: names of roots, formats and modes.
const NAMES: [&str; 4] = ["renders", "master", "review", "draft"];

/// A word with a letter twice, with one left out, with two changed about, in capitals.
fn slips(word: &str) -> Vec<String> {
    let letters: Vec<char> = word.chars().collect();
    let middle = letters.len() / 2;
    let mut twice = letters.clone();
    twice.insert(middle, letters[middle]);
    let mut less = letters.clone();
    less.remove(middle);
    let mut turned = letters.clone();
    turned.swap(middle - 1, middle);
    let all = [twice, less, turned].map(|letters| letters.into_iter().collect::<String>());
    let mut all: Vec<String> = all.into_iter().chain([word.to_uppercase()]).collect();
    // A word of three letters that lacks one may be any word.
    all.retain(|slip| slip != word && slip.len() > 2);
    all.sort();
    all.dedup();
    all
}

/// Where each key stands: its bytes in the sheet.
fn keys() -> Vec<std::ops::Range<usize>> {
    let mut all = Vec::new();
    let mut start = 0;
    for line in SHEET.lines() {
        let head = line.trim_start_matches('[');
        let at = start + line.len() - head.len();
        let end = head.find(|c: char| !(c.is_ascii_alphanumeric() || c == '_' || c == '-')).unwrap_or(0);
        let word = &head[..end];
        let is_heading = line.starts_with('[');
        if end > 2 && !NAMES.contains(&word) && (is_heading || line.contains(" = ")) {
            all.push(at..at + end);
        }
        start += line.len() + 1;
    }
    all
}

#[test]
fn a_slip_is_one_finding_in_its_line_and_what_is_proposed_brings_the_right_text_back() {
    let project = Project::with(SHEET);
    let clean = project.say("check --json").ended(0).json();
    assert_eq!(clean["findings"].as_array().unwrap().len(), 0, "{clean:#}");
    let words = WORDS.iter().map(|(place, word)| {
        let at = SHEET.find(place).unwrap_or_else(|| panic!("{place}"));
        let at = at + place.rfind(word).unwrap();
        at..at + word.len()
    });
    let places: BTreeMap<usize, usize> =
        keys().into_iter().chain(words).map(|range| (range.start, range.end)).collect();
    let (mut count, mut open, mut wrong) = (0, 0, Vec::new());
    for (start, end) in places {
        for slip in slips(&SHEET[start..end]) {
            let text = format!("{}{slip}{}", &SHEET[..start], &SHEET[end..]);
            project.write("truepath.toml", &text);
            let line = SHEET[..start].matches('\n').count() as u64 + 1;
            let said = project.say("check --json");
            count += 1;
            let document = said.json();
            let found = document["findings"].as_array().unwrap();
            let errors: Vec<_> = found.iter().filter(|own| own["level"] == "error").collect();
            let describe = || {
                let all = found.iter().map(|own| format!("{}: {}", own["check"], own["message"]));
                format!("line {line}: {slip} for {}: {:?}", &SHEET[start..end], all.collect::<Vec<_>>())
            };
            let [only] = errors[..] else {
                wrong.push(format!("{} errors; {}", errors.len(), describe()));
                continue;
            };
            if only["at"]["line"].as_u64() != Some(line) {
                wrong.push(format!("at line {}; {}", only["at"]["line"], describe()));
            }
            if found.len() > 1 {
                wrong.push(format!("more than one finding; {}", describe()));
            }
            let proposed = only["fix"]["write"].as_str().unwrap_or_default();
            // A word that is as near to another is not guessed.
            open += usize::from(proposed.is_empty());
            if !proposed.is_empty() && !proposed.contains(&SHEET[start..end]) {
                wrong.push(format!("proposed {proposed:?}; {}", describe()));
            }
            let said = project.say("check --fix");
            let after = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
            let is_left = after == text;
            if after != SHEET && !(is_left && said.code == 1) {
                wrong.push(format!("fixed to something else; {}", describe()));
            }
        }
    }
    assert!(wrong.is_empty(), "{} of {count}:\n{}", wrong.len(), wrong.join("\n"));
    assert!(count > 150 && open * 50 <= count, "{open} of {count}");
}
