//! Every key of a sheet: what it takes, and at which characters a wrong value is marked.

use truepath_core::diagnostic::{Finding, Findings};
use truepath_core::sheet::{Existing, Key, Setting, Sheet, parse};
use truepath_core::source::FileId;

fn read(text: &str) -> (Sheet, Vec<Finding>) {
    let mut findings = Findings::default();
    let sheet = parse::sheet(FileId(0), text, &mut findings);
    (sheet, findings.sorted())
}

/// The check and the marked text of each finding.
fn marked(text: &str) -> Vec<(&'static str, String)> {
    let part = |finding: &Finding| {
        let at = finding.at.as_ref().unwrap().at;
        text[at.start as usize..at.end as usize].to_owned()
    };
    read(text).1.iter().map(|finding| (finding.check.name(), part(finding))).collect()
}

#[test]
fn wrong_values_are_marked_to_the_character() {
    for (text, check, mark) in [
        ("[defaults]\nscene = 3", "value-not-understood", "3"),
        ("[defaults]\nscene = \"\"", "value-not-understood", "\"\""),
        ("[defaults]\nsamples = 0", "value-not-understood", "0"),
        ("[defaults]\nsamples = \"many\"", "value-not-understood", "\"many\""),
        ("[defaults]\nscale = -5", "value-not-understood", "-5"),
        ("[defaults]\nsize = \"640\"", "value-not-understood", "640"),
        ("[defaults]\nsize = \"0x5\"", "value-not-understood", "0x5"),
        ("[defaults]\nfps = \"24/0\"", "value-not-understood", "24/0"),
        ("[defaults]\nframes = \"1-9,5-x\"", "frames-not-understood", "5-x"),
        ("[defaults]\nframes = \"9-1/2\"", "frames-not-understood", "9-1/2"),
        ("[defaults]\nhandles = [1]", "value-not-understood", "[1]"),
        ("[defaults]\nhandles = [1, -2]", "value-not-understood", "-2"),
        ("[defaults]\nlayers = \"together!\"", "value-not-understood", "together!"),
        ("[defaults]\ncolour = 1", "value-not-understood", "1"),
        ("[defaults]\nenabled = \"no\"", "value-not-understood", "\"no\""),
        ("[defaults]\npasses = []", "value-not-understood", "[]"),
        ("[defaults]\npasses = [{ as = \"x\" }]", "value-not-understood", "{ as = \"x\" }"),
        ("[defaults]\npasses = [{ name = \"x\", format = 3 }]", "value-not-understood", "3"),
        ("[defaults]\npasses = [{ name = \"x\", fromat = \"y\" }]", "unknown-key", "fromat"),
        ("[defaults]\npath = \"{a}/{b\"", "template-not-understood", "{"),
        ("[defaults]\npath = \"{a|loud}\"", "template-not-understood", "{a|loud}"),
        ("[defaults]\nversion = -1", "value-not-understood", "-1"),
        ("[defaults]\nregion = \"0,0,10%,10%\"", "value-not-understood", "0,0,10%,10%"),
        ("[defaults]\nvars.x = [1]", "value-not-understood", "[1]"),
        ("[defaults]\nleave = [\"sampels\"]", "value-not-understood", "sampels"),
        ("[defaults]\nsampels = 1", "unknown-key", "sampels"),
        ("defaults = 3", "value-not-understood", "3"),
        ("sheet = 2", "value-not-understood", "2"),
        ("[project]\ntitle = \"x\"", "unknown-key", "title"),
        ("[roots]\nr = { linx = \"/r\" }", "unknown-key", "linx"),
        ("[formats.x]\ntype = \"jpg\"", "value-not-understood", "jpg"),
        ("[formats.x]\nbits = 9", "value-not-understood", "9"),
        ("[formats.x]\nquality = 101", "value-not-understood", "101"),
        ("[formats.x]\nchannels = \"grey alpha\"", "value-not-understood", "grey alpha"),
        ("[passes.x]\nkind = \"picture\"", "value-not-understood", "picture"),
        ("[job]\nname = \"x\"", "value-not-understood", "[job]"),
        ("[[job]]\neach = 3", "value-not-understood", "3"),
        ("[[job]]\neach = { camera = [] }", "value-not-understood", "[]"),
        ("[[movie]]\nname = \"m\"\npath = \"x\"", "key-missing", "m"),
        ("[policy]\nsystems = [\"linux\", \"window\"]", "value-not-understood", "window"),
        ("[checks]\nnames-met = \"off\"", "unknown-key", "names-met"),
        ("[checks]\nnames-meet = \"quiet\"", "value-not-understood", "quiet"),
        ("[run]\nworkers = 0", "value-not-understood", "0"),
        ("[run]\nsilence = \"20 moons\"", "value-not-understood", "20 moons"),
        ("[run]\nafter = [\"notify\"]", "value-not-understood", "\"notify\""),
        ("[run]\nafter = [[\"notify\", \"{result}\"]]", "token-unknown", "{result}"),
        ("[modes.x]\nfinal = 1", "value-not-understood", "1"),
    ] {
        let found = marked(text);
        let hit = found.iter().any(|(slug, part)| *slug == check && part.trim() == mark);
        assert!(hit, "{text}: {found:?}");
        assert_eq!(found.len(), 1, "one mistake, one finding: {text}: {found:?}");
    }
}

#[test]
fn right_values_are_taken_in_every_spelling() {
    let text = "[defaults]\nframes = 7\nfps = 24\nhandles = 4\nversion = \"latest\"\nscale = 12.5\nshift = -100\nsize = \" 64 x 36 \"\nvars = { a = 1, b = true, c = 2.50 }\n\
        native.x = \"y\"\nregion = \"10%,0%,50%,100%\"\nleave = [\"samples\", \"vars.z\"]\n[run]\nexisting = \"renew\"\nsilence = \"1.5h\"\nframe_timeout = \"250ms\"\n";
    let (sheet, findings) = read(text);
    assert_eq!(findings, []);
    let shown = |key: &str| sheet.defaults.get(&Key::parse(key).unwrap()).unwrap().value.to_string();
    for (key, value) in [
        ("frames", "7"),
        ("fps", "24"),
        ("handles", "4,4"),
        ("version", "latest"),
        ("scale", "12.5"),
        ("shift", "-100"),
        ("size", "64x36"),
        ("vars.a", "1"),
        ("vars.b", "true"),
        ("vars.c", "2.50"),
        ("native.x", "y"),
    ] {
        assert_eq!(shown(key), value);
    }
    assert!(
        sheet.defaults.leave.contains_key(&Key::Samples) && sheet.defaults.leave.contains_key(&Key::Var("z".into()))
    );
    assert_eq!(
        (sheet.run.existing, sheet.run.silence.unwrap().as_secs(), sheet.run.frame_timeout.unwrap().as_millis()),
        (Some(Existing::Renew), 5400, 250)
    );
    let exact = |fps: &str| match &*read(&format!("[defaults]\nfps = {fps}")).0.defaults.get(&Key::Fps).unwrap().value {
        Setting::Fps(fps) => fps.to_string(),
        other => panic!("{other}"),
    };
    assert_eq!(
        [exact("23.976"), exact("59.94"), exact("\"50/2\""), exact("\"30000/1001\"")],
        ["24000/1001", "60000/1001", "25", "30000/1001"]
    );
}

#[test]
fn sizes_are_scaled_half_up_and_never_to_nothing() {
    use truepath_core::sheet::Size;
    let scaled = |width, height, percent| Size { width, height }.scaled(percent).to_string();
    assert_eq!(
        [scaled(1280, 720, 25.0), scaled(33, 19, 50.0), scaled(3, 1, 10.0), scaled(999, 1, 33.333)],
        ["320x180", "17x10", "1x1", "333x1"]
    );
}

#[test]
fn an_upper_sheet_wins_and_lists_follow_on() {
    let (low, _) = read(
        "[project]\nname = \"low\"\n[formats.a]\ntype = \"png\"\n[formats.b]\ntype = \"exr\"\n[defaults]\nsamples = 1\nfps = 24\n[[job]]\nname = \"first\"\n[policy]\nnever = [\"x\"]\n[run]\nchunk = 3\nworkers = 2",
    );
    let (high, _) = read(
        "[formats.a]\ntype = \"jpeg\"\n[defaults]\nsamples = 2\nleave = [\"fps\"]\n[[job]]\nname = \"second\"\n[policy]\nnever = [\"y\"]\n[run]\nworkers = 5",
    );
    let both = high.over(low);
    assert_eq!(both.project.unwrap().value, "low");
    let mut formats: Vec<(String, String)> = both
        .formats
        .iter()
        .map(|format| (format.name.value.clone(), format.kind.as_ref().unwrap().value.clone()))
        .collect();
    formats.sort();
    assert_eq!(formats, [("a".into(), "jpeg".into()), ("b".into(), "exr".into())]);
    assert_eq!((both.defaults.whole(&Key::Samples), both.defaults.get(&Key::Fps)), (Some(2), None));
    assert_eq!(
        both.jobs.iter().map(|job| job.name.as_ref().unwrap().value.as_str()).collect::<Vec<_>>(),
        ["first", "second"]
    );
    assert_eq!((both.policy.never.len(), both.run.chunk, both.run.workers), (2, Some(3), Some(5)));
}
