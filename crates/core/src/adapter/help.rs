//! The help that a program prints about itself to a first adapter: what is recognised becomes an argument with the line it
//! was taken from, and the rest is listed. It is a start: what is true of it, `prove` tells.

use std::fmt::Write as _;

/// One option of a program, as its help tells it.
#[derive(Clone, Debug, PartialEq, Eq)]
struct HelpOption {
    /// Its names, such as `-f` and `--frames`.
    names: Vec<String>,
    /// Whether it takes a value.
    takes_value: bool,
    /// Whether its value is joined with `=`.
    is_joined: bool,
    /// What it does.
    about: String,
    /// The line as it was printed.
    line: String,
}

impl HelpOption {
    /// The longest name: it says the most.
    fn name(&self) -> &str {
        self.names.iter().max_by_key(|name| name.len()).map_or("", String::as_str)
    }

    /// How well a rule fits; 0 where it does not.
    fn fits(&self, rule: &Rule) -> u32 {
        let long = || self.names.iter().map(|name| name.trim_start_matches('-')).filter(|name| name.len() > 1);
        let about = words(&self.about);
        let is_meant = |word: &String| rule.any.contains(&word.as_str());
        if !about.iter().any(is_meant) && !long().flat_map(words).any(|word| is_meant(&word)) {
            return 0;
        }
        let named = |word: &str| rule.names.contains(&word);
        // A letter alone says little, and a capital one something else.
        let is_letter = |name: &String| name.len() == 2 && named(&name[1..]);
        let begins = about.first().is_some_and(|word| word.len() > 1 && named(word));
        match () {
            () if long().any(|name| named(&name.to_lowercase())) => 4,
            () if long().flat_map(words).any(|word| word.len() > 2 && named(&word)) => 3,
            () if self.names.iter().any(is_letter) => 2,
            () if long().next().is_none() && begins => 1,
            () => 0,
        }
    }
}

/// The words of a text, in lower case.
fn words(text: &str) -> Vec<String> {
    let words = text.split(|sign: char| !sign.is_alphanumeric()).filter(|word| !word.is_empty());
    words.map(str::to_lowercase).collect()
}

/// What an option may be for.
struct Rule {
    about: &'static str,
    /// Words of which its name has one.
    names: &'static [&'static str],
    /// Words of which its name or its text has one.
    any: &'static [&'static str],
    /// Its value in an adapter.
    value: &'static str,
}

const fn rule(
    about: &'static str,
    names: &'static [&'static str],
    any: &'static [&'static str],
    value: &'static str,
) -> Rule {
    Rule { about, names, any, value }
}

/// What options may be for, in the order of their arguments.
const RULES: &[Rule] = &[
    rule("first", &["first", "start", "begin", "from", "s", "f"], &["frame", "page"], "{first}"),
    rule("last", &["last", "end", "stop", "to", "e", "l"], &["frame", "page"], "{last}"),
    rule("step", &["step", "increment", "skip", "every", "stride"], &["frame", "step", "increment"], "{step}"),
    rule("frames", &["frames", "range", "framerange"], &["frames", "range"], "{frames}"),
    rule("frame", &["frame"], &["frame"], "{frame}"),
    rule(
        "folder",
        &["outdir", "folder", "directory", "outputdir"],
        &["output", "outdir", "write", "written", "save"],
        "{out_folder}",
    ),
    rule(
        "out",
        &["output", "out", "o", "image", "destination"],
        &["output", "write", "written", "file", "image", "picture", "save"],
        "{out}",
    ),
    rule("width", &["width", "w", "xres"], &["width", "horizontal"], "{width}"),
    rule("height", &["height", "h", "yres"], &["height", "vertical"], "{height}"),
    rule(
        "size",
        &["size", "resolution", "res", "dimensions"],
        &["size", "resolution", "pixels", "width"],
        "{width}x{height}",
    ),
    rule("camera", &["camera", "cam"], &["camera", "cam"], "{camera}"),
    rule(
        "threads",
        &["threads", "jobs", "cpus", "cores", "nthreads", "t"],
        &["threads", "thread", "cpus", "cores"],
        "{threads}",
    ),
    rule("samples", &["samples", "spp", "aa"], &["samples", "sampling", "spp"], "{samples}"),
    rule("fps", &["fps", "rate", "framerate"], &["fps", "rate", "second"], "{fps}"),
    rule("type", &["format", "type", "filetype"], &["format", "type"], "{type}"),
    rule("quality", &["quality"], &["quality"], "{quality}"),
    rule("compression", &["compression"], &["compression"], "{compression}"),
    rule("bits", &["depth", "bits", "bitdepth"], &["bit", "bits", "depth"], "{bits}"),
    rule("pass", &["pass", "layer", "aov", "element"], &["pass", "layer", "aov", "element"], "{word}"),
    rule("device", &["device", "gpu"], &["device", "gpu"], "{device}"),
    rule("log", &["log", "logfile"], &["log"], "{log}"),
    rule("region", &["region", "crop"], &["region", "crop"], "{region}"),
    rule("scene", &["scene", "input", "i"], &["scene", "input"], "{scene}"),
];

/// Settings that a renderer can do without: their arguments are left out where a job does not give them.
const OPTIONAL: [&str; 12] = [
    "camera",
    "threads",
    "samples",
    "fps",
    "type",
    "quality",
    "compression",
    "bits",
    "device",
    "log",
    "region",
    "step",
];

/// An adapter from the help of a program.
#[must_use]
pub fn from_help(name: &str, program: &str, help: &str) -> String {
    let options = options(help);
    let is_about =
        |option: &HelpOption, word: &str| option.names.iter().any(|name| name.trim_start_matches('-') == word);
    let version = options.iter().find(|option| is_about(option, "version")).map(|option| option.name().to_owned());
    let said: Vec<&HelpOption> =
        options.iter().filter(|option| !is_about(option, "help") && !is_about(option, "version")).collect();
    let (found, taken) = recognised(&said);
    let rest: Vec<&&HelpOption> =
        said.iter().zip(&taken).filter(|(_, taken)| !**taken).map(|(option, _)| option).collect();
    let has = |own: &str| found.iter().any(|(known, ..)| *known == own);
    let mut out = head(name, program, version.as_deref());
    out.push_str(&arguments(help, &found));
    out.push_str("]\n\n[frames]\n");
    let (per, why) = match () {
        () if has("frames") => ("list", "any frames in one call: {frames}"),
        () if has("first") && has("last") => ("range", "a run of frames in one call: {first} to {last}"),
        () => ("frame", "a call for each frame: its help mentions no way to ask for several"),
    };
    let _ = writeln!(out, "per = \"{per}\"{:width$}# {why}", "", width = 34_usize.saturating_sub(per.len()));
    let _ = writeln!(
        out,
        "\n[out]\n{}\n# writes = [\"{{out_stem}}{{frame:4}}.{{ext}}\"]    # what it really writes, where that is not {{out}}",
        number_of_names(help, per)
    );
    if has("pass") {
        out.push_str("\n[passes]\ncan = [\"pass\"]                             # a call for each; \"call\" where one call writes several\n");
    }
    out.push_str(TO_BE_LOOKED_AT);
    if !rest.is_empty() {
        out.push_str("\n# Options that were not recognised. Those that a job should set are native settings:\n# native = [\"--{key}\", \"{value}\"]\n");
        for option in rest {
            let _ = writeln!(out, "#   {}", option.line.trim());
        }
    }
    out
}

/// What no help says.
const TO_BE_LOOKED_AT: &str = "
[accepts]                                  # what it reads and writes: shorten these
types = [\"png\"]
# scenes = [\"gltf\"]

[log]                                      # run it once, and look at what it prints
# A file is whole once this line names it. Without such a line, nothing lands of a call that ends badly in a script.
# wrote = '^saved (?<path>.+)$'
# Only after this line is the whole call believed to be done.
# finished = '^done'
# The call has failed, whatever its exit code is.
# fatal = '^FATAL'
problem = '^(warning|error|Warning|Error)[: ]+(?<text>.+)$'

[exit]
ok = [0]
";

/// The first lines: which program it is, and how it is asked for its version.
fn head(name: &str, program: &str, version: Option<&str>) -> String {
    let version = version.map_or_else(
        || "# version = [\"--version\"]                # its help mentions no way to ask for its version".to_owned(),
        |option| format!("version = [{}]", quoted(option)),
    );
    format!(
        "# A first adapter for {program}, from the help that it prints. Lines that begin with # are what it says of itself.\n\
         # Look at each, then: truepath adapter show {name}, truepath adapter prove {name} --scene FILE\n\
         adapter = 1\nname = {}\nkind = \"renderer\"\nprogram = {}\n{version}\n",
        quoted(name),
        quoted(program)
    )
}

/// The arguments that were recognised, each below the line that it was taken from.
fn arguments(help: &str, found: &[Recognised<'_>]) -> String {
    let mut out = "\narguments = [\n".to_owned();
    let mut order: Vec<&Recognised<'_>> = found.iter().collect();
    order.sort_by_key(|(own, ..)| RULES.iter().position(|rule| rule.about == *own));
    if !found.iter().any(|(own, ..)| *own == "scene") {
        let mut lines = help.lines().map(str::trim).skip_while(|line| !line.to_lowercase().starts_with("usage"));
        let usage = lines.next().unwrap_or_default();
        let usage = if usage.ends_with(':') { lines.find(|line| !line.is_empty()).unwrap_or_default() } else { usage };
        let _ = writeln!(out, "  # {usage}\n  \"{{scene}}\",");
    }
    for (own, value, option) in order {
        let _ = writeln!(out, "  # {}", option.line.trim());
        let words = if option.is_joined {
            quoted(&format!("{}={value}", option.name()))
        } else {
            format!("{}, {}", quoted(option.name()), quoted(value))
        };
        let _ = if OPTIONAL.contains(own) { writeln!(out, "  [{words}],") } else { writeln!(out, "  {words},") };
    }
    if !found.iter().any(|(_, value, _)| value.contains("{out")) {
        out.push_str("  # nothing in its help says where it writes to: put {out}, or {out_folder} and {out_stem}, where it belongs\n  # \"{out}\",\n");
    }
    out
}

/// How the program is told where the frame number stands in a name.
fn number_of_names(help: &str, per: &str) -> &'static str {
    if help.contains("%0") || help.contains("%d") {
        "number = \"%d\"                              # its help shows a number as %d"
    } else if help.contains("##") {
        "number = \"#\"                               # its help shows a number as ####"
    } else if per == "frame" {
        "# number = \"#\"                             # left out: each call is given the final name"
    } else {
        "number = \"none\"                            # its help shows no place for a number: it may add its own to the name"
    }
}

/// An option that is recognised: what it is about, its value in an adapter, and the option.
type Recognised<'o> = (&'static str, &'static str, &'o HelpOption);

/// The options that are recognised, and which of all those are.
fn recognised<'o>(said: &[&'o HelpOption]) -> (Vec<Recognised<'o>>, Vec<bool>) {
    // Whatever fits best is taken first.
    let mut pairs: Vec<(u32, usize, usize)> = Vec::new();
    for (at, option) in said.iter().enumerate().filter(|(_, option)| option.takes_value) {
        pairs.extend(
            RULES.iter().enumerate().map(|(number, rule)| (option.fits(rule), number, at)).filter(|pair| pair.0 > 0),
        );
    }
    pairs.sort_by_key(|(score, number, at)| (std::cmp::Reverse(*score), *number, *at));
    let mut found: Vec<Recognised<'o>> = Vec::new();
    let mut taken = vec![false; said.len()];
    for (_, number, at) in pairs {
        let rule = &RULES[number];
        if !taken[at] && !found.iter().any(|(about, ..)| *about == rule.about) {
            taken[at] = true;
            // A pass whose file stands beside it in one word.
            let pair = ["=PATH", "=FILE", "=OUT"].iter().any(|end| said[at].line.to_uppercase().contains(end));
            let value = if rule.about == "pass" && pair { "{word}={out}" } else { rule.value };
            found.push((rule.about, value, said[at]));
        }
    }
    // A size in two numbers needs none in one.
    let both = ["width", "height"].iter().all(|own| found.iter().any(|(known, ..)| known == own));
    if both {
        found.retain(|(own, ..)| *own != "size");
    }
    (found, taken)
}

/// A TOML string.
fn quoted(text: &str) -> String {
    serde_json::Value::String(text.to_owned()).to_string()
}

/// The options that a help text lists.
fn options(help: &str) -> Vec<HelpOption> {
    let lines: Vec<&str> = help.lines().collect();
    let mut all = Vec::new();
    for (at, line) in lines.iter().enumerate() {
        let trimmed = line.trim_start();
        if !trimmed.starts_with('-') || trimmed.starts_with("---") || trimmed == "-" {
            continue;
        }
        let (head, mut about) = head_and_about(trimmed);
        if about.is_empty() {
            // Some programs tell what an option is for on the next line, further in.
            let indent = line.len() - trimmed.len();
            let next = lines.get(at + 1).filter(|next| next.len() - next.trim_start().len() > indent);
            about = next.map(|next| next.trim().to_owned()).unwrap_or_default();
        }
        let (mut names, mut takes_value, mut is_joined) = (Vec::new(), false, false);
        for part in head.split([',', '|']).map(str::trim) {
            let end = part.find([' ', '=', '<', '[']).unwrap_or(part.len());
            let (name, value) = part.split_at(end);
            if name.len() < 2 || !name.starts_with('-') {
                takes_value |= !name.is_empty() && !names.is_empty();
                continue;
            }
            names.push(name.to_owned());
            takes_value |= !value.trim().is_empty();
            is_joined |= value.trim_start_matches('[').starts_with('=');
        }
        if !names.is_empty() {
            all.push(HelpOption { names, takes_value, is_joined, about, line: (*line).to_owned() });
        }
    }
    all
}

/// The names of an option with its value, and what it is for: two blanks, a tab or a colon tell them apart.
fn head_and_about(line: &str) -> (&str, String) {
    let ends = ["  ", "\t", " : "].iter().filter_map(|sign| line.find(sign));
    match ends.min() {
        Some(end) => (&line[..end], line[end..].trim_start_matches([' ', '\t', ':']).trim().to_owned()),
        None => (line, String::new()),
    }
}

#[cfg(test)]
mod tests {
    use super::{from_help, options};
    use crate::adapter::adapter;
    use crate::diagnostic::Findings;
    use crate::source::FileId;

    const HELP: &str = "lamp 2.1\nUsage: lamp [options] SCENE\n  -s, --start-frame N    first frame to render\n  -e, --end-frame N      last frame to render\n\
        \x20 -o, --output=<PATTERN> where pictures are written, #### is the frame\n  --camera <NAME>        the camera\n  -w, --width <PX>\n          width in pixels\n  --height <PX>    height in pixels\n\
        \x20 -t, --threads N\tthreads\n  --ghosting <AMOUNT>    how much\n  --version   print the version\n  -h, --help  this\n";

    #[test]
    fn what_a_program_says_of_itself_becomes_arguments() {
        assert_eq!(options(HELP).len(), 10);
        let text = from_help("lamp", "/opt/it's/lamp", HELP);
        let mut findings = Findings::default();
        let read = adapter(FileId(0), &text, &mut findings);
        assert_eq!(findings.iter().count(), 0, "{text}");
        for token in ["scene", "first", "last", "out", "camera", "width", "height", "threads"] {
            assert!(read.uses(token), "{token}: {text}");
        }
        for line in [
            "\"--output={out}\",",
            "[\"--camera\", \"{camera}\"],",
            "per = \"range\"",
            "number = \"#\"",
            "version = [\"--version\"]",
            "#   --ghosting <AMOUNT>    how much",
        ] {
            assert!(text.contains(line), "{line}: {text}");
        }
    }

    #[test]
    fn any_text_gives_an_adapter_that_can_be_read() {
        for help in [
            "",
            "-",
            "--",
            "no options at all",
            "  -\"x\" <y>  first frame\n -- \n-=\n",
            "\u{1f600} --frames {x} frames\n",
        ] {
            let mut findings = Findings::default();
            let text = from_help("a", "b", help);
            adapter(FileId(0), &text, &mut findings);
            assert!(!findings.iter().any(|finding| finding.check == "not-toml"), "{help:?}: {text}");
        }
    }
}
