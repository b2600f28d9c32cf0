//! What a person reads when something is wrong, whole: the mistakes of a new project, alone and all at once, and calls that
//! cannot be made.

use crate::support::Project;

/// A sheet that many jobs share.
const STUDIO: &str = r#"sheet = 1
[roots]
renders = "renders"
[formats.master]
type = "exr"
bits = "half"
channels = "rgba"
[defaults]
adapter = "understudy"
fps = 24
size = "640x360"
format = "master"
colour = "linear"
passes = ["beauty", "depth", "mask"]
version = 1
path = "{renders}/{job}/{version}/{pass}/{job}_{camera}_{pass}_{version}.{frame:4}.{ext}"
"#;

/// A sheet over it.
const SHEET: &str = r#"sheet = 1
from = ["studio.toml"]
[project]
name = "night-ferry"

[[job]]
name = "crossing"
scene = "scenes/crossing.gltf"
each = { camera = ["quay", "mast"] }

[[job]]
name = "arrival"
scene = "scenes/arrival.gltf"
camera = "pier"

[[job]]
name = "lighthouse"
scene = "scenes/lighthouse.glb"
camera = "cliff"
"#;

/// What is changed, in the sheet or in the one below it.
type Changes = &'static [(&'static str, &'static str)];

/// A mistake: what it is called, whether it is in the shared sheet, what is changed, the exit code, and what `check` says.
struct Mistake {
    is: &'static str,
    shared: bool,
    changes: Changes,
    code: i32,
    says: &'static str,
}

fn project(mistakes: &[&Mistake]) -> Project {
    let (mut studio, mut sheet) = (STUDIO.to_owned(), SHEET.to_owned());
    for mistake in mistakes {
        let text = if mistake.shared { &mut studio } else { &mut sheet };
        for (right, wrong) in mistake.changes {
            assert!(text.contains(right), "{}: {right}", mistake.is);
            *text = text.replace(right, wrong);
        }
    }
    let project = Project::with(&sheet);
    project.write("studio.toml", studio);
    project
}

/// The mistakes of the first evening; the first ten of them also come together.
const MISTAKES: &[Mistake] = &[
    Mistake {
        is: "no frame number in the names",
        shared: true,
        changes: &[(".{frame:4}", "")],
        code: 1,
        says: r#"error[frame-token-missing]: all 96 frames would be written to one file
   ╭▸ studio.toml:16:9
   │
16 │ path = "{renders}/{job}/{version}/{pass}/{job}_{camera}_{pass}_{version}.{ext}"
   │         ━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━━ no frame number in this name
   │
   ╰ note: same problem in 3 more jobs
help: write .{frame:4} before the extension
   ╭╴
16 │ path = "{renders}/{job}/{version}/{pass}/{job}_{camera}_{pass}_{version}.{frame:4}.{ext}"
   ╰╴                                                                        ++++++++++

1 error in truepath.toml. Learn more: truepath explain frame-token-missing
"#,
    },
    Mistake {
        is: "two cameras on one name",
        shared: true,
        changes: &[("_{camera}", "")],
        code: 1,
        says: r#"error[names-meet]: crossing/quay/beauty and crossing/mast/beauty both write renders/crossing/v001/beauty/crossing_beauty_v001.0001.exr
   ╭▸ truepath.toml:7:9
   │
 7 │ name = "crossing"
   │         ━━━━━━━━ in this job
   │
   ⸬  studio.toml:16:9
   │
16 │ path = "{renders}/{job}/{version}/{pass}/{job}_{pass}_{version}.{frame:4}.{ext}"
   │         ─────────────────────────────────────────────────────────────────────── the second overwrites the first
   │
   ╰ help: put {camera} into the path

1 error in truepath.toml. Learn more: truepath explain names-meet
"#,
    },
    Mistake {
        is: "a type that cannot hold alpha",
        shared: true,
        changes: &[(
            r#"type = "exr"
bits = "half""#,
            r#"type = "jpeg"
bits = 8"#,
        )],
        code: 1,
        says: r#"error[channels-not-held]: jpeg cannot hold alpha
  ╭▸ studio.toml:7:13
  │
5 │ type = "jpeg"
  │         ──── the type
6 │ bits = 8
7 │ channels = "rgba"
  │             ━━━━ it holds grey, rgb
  │
  ╰ help: choose one that it holds, or another type

warning[linear-in-display-type]: programs read jpeg as display-encoded, and these colours are scene-linear
   ╭▸ studio.toml:13:11
   │
13 │ colour = "linear"
   │           ━━━━━━ they will look too dark
   │
   ├ note: same problem in 3 more jobs
   ╰ help: write colour = "display", or choose a scene-linear type such as exr

warning[data-squeezed]: the pass `depth` holds data, and jpeg is lossy
   ╭▸ studio.toml:14:22
   │
14 │ passes = ["beauty", "depth", "mask"]
   │                      ━━━━━ its values lose precision
   │
   ├ note: same problem in 3 more jobs
   ╰ help: give the pass a format of its own: type = "exr", bits = "float", compression = "zip"

1 error, 2 warnings in truepath.toml. Learn more: truepath explain channels-not-held
"#,
    },
    Mistake {
        is: "two cameras misspelt",
        shared: false,
        changes: &[(r#""mast""#, r#""masd""#), (r#""cliff""#, r#""clif""#)],
        code: 1,
        says: r#"error[camera-not-in-scene]: the scene has no camera `masd`
  ╭▸ truepath.toml:9:29
  │
9 │ each = { camera = ["quay", "masd"] }
  │                             ━━━━ it has quay, mast
  ╰╴
help: write "mast"
  ╭╴
9 - each = { camera = ["quay", "masd"] }
9 + each = { camera = ["quay", "mast"] }
  ╰╴

error[camera-not-in-scene]: the scene has no camera `clif`
   ╭▸ truepath.toml:19:11
   │
19 │ camera = "clif"
   │           ━━━━ it has cliff, chart
   ╰╴
help: write "cliff"
   ╭╴
19 │ camera = "cliff"
   ╰╴              +

2 errors in truepath.toml. Learn more: truepath explain camera-not-in-scene
"#,
    },
    Mistake {
        is: "a scene that is not there",
        shared: false,
        changes: &[("arrival.gltf", "arival.gltf")],
        code: 1,
        says: r#"error[scene-missing]: the scene scenes/arival.gltf does not exist
   ╭▸ truepath.toml:13:10
   │
13 │ scene = "scenes/arival.gltf"
   │          ━━━━━━━━━━━━━━━━━━ this file does not exist
   ╰╴
help: there is scenes/arrival.gltf
   ╭╴
13 │ scene = "scenes/arrival.gltf"
   ╰╴                  +

1 error in truepath.toml. Learn more: truepath explain scene-missing
"#,
    },
    Mistake {
        is: "an adapter misspelt",
        shared: true,
        changes: &[(r#""understudy""#, r#""understudi""#)],
        code: 1,
        says: r#"error[adapter-missing]: there is no adapter `understudi`
  ╭▸ studio.toml:9:12
  │
9 │ adapter = "understudi"
  │            ━━━━━━━━━━ not defined
  │
  ╰ note: same problem in 3 more jobs
help: write "understudy"
  ╭╴
9 - adapter = "understudi"
9 + adapter = "understudy"
  ╰╴

1 error in truepath.toml. Learn more: truepath explain adapter-missing
"#,
    },
    Mistake {
        is: "a key misspelt",
        shared: true,
        changes: &[("colour =", "color =")],
        code: 1,
        says: r#"error[unknown-key]: unknown key `color` in [defaults]
   ╭▸ studio.toml:13:1
   │
13 │ color = "linear"
   │ ━━━━━ this key is not read
   ╰╴
help: write `colour`
   ╭╴
13 │ colour = "linear"
   ╰╴    +

1 error in truepath.toml. Learn more: truepath explain unknown-key
"#,
    },
    Mistake {
        is: "a root of another machine",
        shared: true,
        changes: &[(r#"renders = "renders""#, r#"renders = "R:/renders""#)],
        code: 1,
        says: r#"error[other-system-path]: R:/renders is a path for another operating system
  ╭▸ studio.toml:3:1
  │
3 │ renders = "R:/renders"
  │ ━━━━━━━ this machine has no such path
  │
  ╰ help: give the root a path for each system: { linux = "...", macos = "...", windows = "..." }

1 error in truepath.toml. Learn more: truepath explain other-system-path
"#,
    },
    Mistake {
        is: "frames beyond the scenes",
        shared: false,
        changes: &[
            (
                r#"name = "crossing""#,
                r#"name = "crossing"
frames = "1-120""#,
            ),
            (
                r#"name = "arrival""#,
                r#"name = "arrival"
frames = "1-60""#,
            ),
        ],
        code: 0,
        says: r#"warning[frames-outside-scene]: frames 97-120 are outside the scene's span
  ╭▸ truepath.toml:8:11
  │
8 │ frames = "1-120"
  │           ━━━━━ the scene declares 1-96
  │
  ├ note: same problem in 1 more job
  ╰ help: write frames = "1-96", or remove `frames` to use the scene's span

warning[frames-outside-scene]: frames 49-60 are outside the scene's span
   ╭▸ truepath.toml:14:11
   │
14 │ frames = "1-60"
   │           ━━━━ the scene declares 1-48
   │
   ╰ help: write frames = "1-48", or remove `frames` to use the scene's span

2 warnings in truepath.toml. Learn more: truepath explain frames-outside-scene
"#,
    },
    Mistake {
        is: "a token misspelt",
        shared: true,
        changes: &[("{version}", "{verison}")],
        code: 1,
        says: r#"error[token-unknown]: there is no token `verison`
   ╭▸ studio.toml:16:25
   │
16 │ path = "{renders}/{job}/{verison}/{pass}/{job}_{camera}_{pass}_{verison}.{frame:4}.{ext}"
   │                         ━━━━━━━━━ not defined
   │
   ╰ note: same problem in 3 more jobs
help: write {version}
   ╭╴
16 - path = "{renders}/{job}/{verison}/{pass}/{job}_{camera}_{pass}_{verison}.{frame:4}.{ext}"
16 + path = "{renders}/{job}/{version}/{pass}/{job}_{camera}_{pass}_{verison}.{frame:4}.{ext}"
   ╰╴

2 errors in truepath.toml. Learn more: truepath explain token-unknown
"#,
    },
    Mistake {
        is: "a format that is not defined",
        shared: true,
        changes: &[(r#"format = "master""#, r#"format = "mastre""#)],
        code: 1,
        says: r#"error[name-unknown]: there is no format `mastre`
   ╭▸ studio.toml:12:11
   │
12 │ format = "mastre"
   │           ━━━━━━ not defined
   │
   ╰ note: same problem in 3 more jobs
help: write "master"
   ╭╴
12 - format = "mastre"
12 + format = "master"
   ╰╴

1 error in truepath.toml. Learn more: truepath explain name-unknown
"#,
    },
    Mistake {
        is: "one bracket too few",
        shared: false,
        changes: &[(
            r#"[[job]]
name = "arrival""#,
            r#"[job]
name = "arrival""#,
        )],
        code: 2,
        says: r#"error[not-toml]: the file is not valid TOML: duplicate key
   ╭▸ truepath.toml:11:2
   │
11 │ [job]
   │  ━━━ here
   │
   ├ note: same problem in 1 more place: truepath.toml:16
   ╰ help: write every entry as [[job]], with two brackets

2 errors in truepath.toml. Learn more: truepath explain not-toml
"#,
    },
    Mistake {
        is: "two jobs of one name",
        shared: false,
        changes: &[(r#"name = "lighthouse""#, r#"name = "arrival""#)],
        code: 1,
        says: r#"error[job-twice]: two jobs have the name `arrival`
   ╭▸ truepath.toml:17:9
   │
12 │ name = "arrival"
   │         ─────── the first one
   ┆
17 │ name = "arrival"
   │         ━━━━━━━ the second one
   │
   ╰ help: rename one of them

1 error in truepath.toml. Learn more: truepath explain job-twice
"#,
    },
    Mistake {
        is: "a setting that the renderer cannot receive",
        shared: false,
        changes: &[(
            r#"camera = "pier""#,
            r#"camera = "pier"
device = "gpu1""#,
        )],
        code: 1,
        says: r#"error[setting-not-carried]: understudy cannot receive `device`
   ╭▸ truepath.toml:15:11
   │
15 │ device = "gpu1"
   │           ━━━━ the program would ignore this
   │
   ╰ help: remove it; understudy takes camera, checkpoint, colour, fps, frames, samples, scene, size, threads

1 error in truepath.toml. Learn more: truepath explain setting-not-carried
"#,
    },
    Mistake {
        is: "a movie of a job that does not exist",
        shared: false,
        changes: &[(
            r#"camera = "cliff"
"#,
            r#"camera = "cliff"

[[movie]]
name = "review"
of = "crosing"
path = "{renders}/review.mp4"
"#,
        )],
        code: 1,
        says: r#"error[movie-of-unknown]: the movie shows the job `crosing`, which does not exist
   ╭▸ truepath.toml:23:7
   │
23 │ of = "crosing"
   │       ━━━━━━━ not defined
   ╰╴
help: write "crossing"
   ╭╴
23 │ of = "crossing"
   ╰╴          +

1 error in truepath.toml. Learn more: truepath explain movie-of-unknown
"#,
    },
    Mistake {
        is: "a number where a text belongs",
        shared: true,
        changes: &[(r#"size = "640x360""#, "size = 640")],
        code: 1,
        says: r#"error[value-not-understood]: `size` must be width x height in pixels, such as "1280x720"
   ╭▸ studio.toml:11:8
   │
11 │ size = 640
   ╰╴       ━━━ this is a whole number

1 error in truepath.toml. Learn more: truepath explain value-not-understood
"#,
    },
    Mistake {
        is: "a rate that is rounded",
        shared: true,
        changes: &[("fps = 24", "fps = 23.976")],
        code: 0,
        says: r#"note[fps-rounded]: 23.976 frames per second is read as 24000/1001
   ╭▸ studio.toml:10:7
   │
10 │ fps = 23.976
   │       ━━━━━━ this rate is rounded
   │
   ╰ help: write fps = "24000/1001"

1 note in truepath.toml. Learn more: truepath explain fps-rounded
"#,
    },
];

#[test]
fn each_mistake_is_said_once_at_its_place_with_what_to_write() {
    for mistake in MISTAKES {
        let said = project(&[mistake]).say("check");
        assert_eq!(said.out, mistake.says, "{}", mistake.is);
        assert_eq!(said.code, mistake.code, "{}", mistake.is);
    }
}

#[test]
fn ten_mistakes_at_once_are_as_many_blocks_with_errors_first() {
    let together: Vec<&Mistake> = MISTAKES.iter().take(10).collect();
    let said = project(&together).say("check").ended(1).out;
    let heads: Vec<&str> = said.lines().filter(|line| line.contains("]: ")).collect();
    assert_eq!(
        heads,
        [
            "error[camera-not-in-scene]: the scene has no camera `masd`",
            "error[scene-missing]: the scene scenes/arival.gltf does not exist",
            "error[camera-not-in-scene]: the scene has no camera `clif`",
            "error[channels-not-held]: jpeg cannot hold alpha",
            "error[adapter-missing]: there is no adapter `understudi`",
            "error[unknown-key]: unknown key `color` in [defaults]",
            "error[frame-token-missing]: all 120 frames would be written to one file",
            "error[token-unknown]: there is no token `verison`",
            "warning[frames-outside-scene]: frames 97-120 are outside the scene's span",
            "warning[linear-in-display-type]: programs read jpeg as display-encoded, and these colours are scene-linear",
            "warning[data-squeezed]: the pass `depth` holds data, and jpeg is lossy",
        ]
    );
    assert!(
        said.ends_with("9 errors, 3 warnings in truepath.toml. Learn more: truepath explain camera-not-in-scene\n"),
        "{said}"
    );
    // Whatever can be fixed for certain is fixed in the sheet itself; the shared one is left alone.
    let project = project(&together);
    let studio = std::fs::read(project.path("studio.toml")).unwrap();
    let fixed = project.say("check --fix").ended(1).out;
    assert_eq!(std::fs::read(project.path("studio.toml")).unwrap(), studio, "{fixed}");
}

/// Calls that cannot be made, their exit codes and all that is said.
const CALLS: &[(&str, i32, &str)] = &[
    (
        "names crosing",
        2,
        r#"error[name-unknown]: there is no job `crosing`
 │
 ╰ help: write crossing

1 error in the command line. Learn more: truepath explain name-unknown
"#,
    ),
    (
        "run --mode drft",
        2,
        r#"error[name-unknown]: there is no mode `drft`
 │
 ╰ help: define it under [modes.drft]

1 error in the command line. Learn more: truepath explain name-unknown
"#,
    ),
    (
        "explain nams-meet",
        2,
        r#"error: there is no check `nams-meet`
help: write names-meet
"#,
    ),
    (
        "types prorez",
        2,
        r#"error: there is no file type or codec `prorez`
help: write prores
"#,
    ),
    (
        "log crossing abc",
        2,
        r#"error: `abc` is not a list of frames
help: write 12, 1-24 or 1-96/8
"#,
    ),
    (
        "verify --size 3",
        2,
        r#"error: --size and --type are for files outside any sheet
help: add a pattern of files, or --folder; for a sheet, size and type come from the sheet
"#,
    ),
    (
        "clean",
        2,
        r#"error: clean needs to know what to put away
help: give --mode NAME (files of a mode), --keep N (old versions), --left-over or --stage
"#,
    ),
    (
        "compare crossing",
        2,
        r#"error: compare needs two sides
help: for example: compare crossing --version 2 3, compare crossing --mode draft, compare OLD_FOLDER NEW_FOLDER, or compare 'old/x.{frame:4}.exr' 'new/x.{frame:4}.exr'
"#,
    ),
    (
        "stack crossing",
        2,
        r#"error: stack needs -o PATTERN or --json
help: for example: truepath stack crossing -o 'stacks/crossing.{frame:4}.exr'
"#,
    ),
    (
        "contact -o sheet.jpg",
        2,
        r#"error: sheet.jpg is not a PNG file
help: end its name with .png
"#,
    ),
    (
        "report -o night.txt",
        2,
        r#"error: night.txt is not an HTML file
help: end its name with .html
"#,
    ),
    (
        "parcel render nowhere",
        2,
        r#"error: nowhere is not a parcel: No such file or directory (os error 2)
help: give a folder that `truepath parcel pack` wrote, or a folder that contains parcels
"#,
    ),
    (
        "trust nowhere",
        2,
        r#"error: there is no folder DIR/nowhere
"#,
    ),
    (
        "adapter show understudi",
        2,
        r#"error: there is no adapter `understudi`
help: write understudy
"#,
    ),
    (
        "new",
        2,
        r#"error: ./truepath.toml already exists
help: choose another folder: truepath new DIR
"#,
    ),
    (
        "demo .",
        2,
        r#"error: . exists and is not the demo project
help: choose another folder: truepath demo DIR
"#,
    ),
    (
        "check -f missing.toml",
        2,
        r#"error: cannot read the sheet missing.toml: No such file or directory (os error 2)
help: `truepath new` writes one
"#,
    ),
    (
        "build --submit",
        2,
        r#"error: --submit is for a cluster only
help: add --to slurm or --to grid-engine, or remove it
"#,
    ),
    (
        "build --parts 2",
        2,
        r#"error: --parts writes several files and needs a folder
help: give one: --into parts
"#,
    ),
    (
        "movie --fps 24",
        2,
        r#"error: --fps is for pictures outside any sheet
help: add -o FILE, or write it into the [[movie]] of the sheet
"#,
    ),
    (
        "movie x.{frame}.png -o film.mp4",
        1,
        r#"error: no file matches x.{frame:4}.png
"#,
    ),
    (
        "estimate --measure 500",
        1,
        r#"error[frames-empty]: this job has no frame to render
  ╭▸ truepath.toml:7:9
  │
7 │ name = "crossing"
  │         ━━━━━━━━ this range is empty
  │
  ╰ note: same problem in 3 more jobs: truepath.toml:12, truepath.toml:17

warning[frames-cut]: the job `arrival` has no frame 500
  ╭▸ --measure:1:11
  │
1 │ frames = "500"
  │           ━━━ its frames are 1-48
  │
  ├ note: same problem in 1 more job
  ╰ help: give frames that the job has, or change `frames` in the sheet

3 errors, 2 warnings in truepath.toml. Learn more: truepath explain frames-empty
"#,
    ),
    (
        "status --why x",
        2,
        r#"error: `x` is not a list of frames
help: write one frame, or two to compare: 12 or 12,48
"#,
    ),
    (
        "status --why 500",
        2,
        r#"error: no job has frame 500
help: `truepath names` lists them
"#,
    ),
    (
        "names --pass beuaty",
        2,
        r#"error[name-unknown]: no job has the pass `beuaty`
 │
 ╰ help: write beauty

1 error in the command line. Learn more: truepath explain name-unknown
"#,
    ),
    (
        "scene scenes/nothing.gltf",
        2,
        r#"error: cannot read scenes/nothing.gltf: No such file or directory (os error 2)
"#,
    ),
    (
        "encode a.{frame}.png -o b.txt --fps 24 --frames 1",
        2,
        r#"error: b.txt has no movie extension
help: use one of mp4, mov, mkv, webm, avi
"#,
    ),
    (
        "man scenes/crossing.gltf/x",
        4,
        r#"error: cannot make the folder scenes/crossing.gltf/x: Not a directory (os error 20)
"#,
    ),
    (
        "whose renders/other.png",
        1,
        r#"✗ no match  renders/other.png
  other.png does not match; this series has arrival (nearest: arrival/depth)
"#,
    ),
];

#[test]
fn a_call_that_cannot_be_made_says_why_and_what_to_do() {
    for (words, code, says) in CALLS {
        let project = project(&[]);
        let before = project.stamps(".");
        let said = project.say(words);
        let told = format!("{}{}", said.out, said.err).replace(&project.path("").display().to_string(), "DIR/");
        assert_eq!(told.replace("DIR//", "DIR/"), says.replace("DIR//", "DIR/"), "{words}");
        assert_eq!(said.code, *code, "{words}");
        assert!(project.stamps(".") == before, "{words}: nothing on disk is changed");
    }
}
