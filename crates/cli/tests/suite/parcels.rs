//! Parcels: packed, rendered where nothing is shared, and collected in any order, lost, cut off and changed.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::support::{Project, Said, planned};

const SHEET: &str = r#"
sheet = 1
[roots]
renders = "renders"
[formats.master]
type = "exr"
bits = "half"
channels = "rgba"
compression = "zip"
[formats.data]
type = "exr"
bits = "float"
channels = "grey"
compression = "zip"
[formats.review]
type = "mp4"
codec = "h264"
[defaults]
adapter = "understudy"
fps = 24
size = "64x36"
format = "master"
colour = "linear"
passes = ["beauty", { name = "depth", format = "data", as = "z {far}" }]
path = "{renders}/{shot}/{camera}/{pass}/{shot}_{weather}_{pass}_{version}.{frame:4}.{ext}"
[[job]]
name = "crossing"
scene = "scenes/crossing.gltf"
frames = "1-12"
version = "next"
shift = 100
vars.shot = "nf 010"
vars.weather = "clear"
each = { camera = ["quay", "mast"] }
[[movie]]
name = "review"
of = ["crossing/quay"]
pass = "beauty"
format = "review"
path = "{renders}/{shot}/review.{ext}"
[checks]
scene-span-not-covered = "off"
alpha-flat = "off"
[run]
chunk = 3
"#;

fn pictures(project: &Project) -> BTreeMap<String, Vec<u8>> {
    let files =
        project.files("renders").into_iter().filter(|name| !name.starts_with(".truepath") && !name.ends_with("mp4"));
    files.map(|name| (name.clone(), std::fs::read(project.path(&format!("renders/{name}"))).unwrap())).collect()
}

/// A machine with nothing: an empty environment, and a folder of its own.
fn machine(parcel: &Path) -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let there = folder.path().join("some where (else)").join(parcel.file_name().unwrap());
    copy(parcel, &there);
    (folder, there)
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).unwrap();
    for entry in std::fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let to = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            copy(&entry.path(), &to)
        } else {
            assert!(std::fs::copy(entry.path(), to).is_ok())
        }
    }
}

/// Renders a parcel with the program, or with its script alone.
fn render(there: &Path, by_script: bool) {
    let own = Path::new(env!("CARGO_BIN_EXE_truepath"));
    let mut command = if by_script {
        let mut command = Command::new("sh");
        // The renderer in the box is a part of this program.
        command.arg(there.join("render.sh")).env("PATH", format!("{}:/usr/bin:/bin", own.parent().unwrap().display()));
        command
    } else {
        let mut command = Command::new(own);
        command.args(["parcel", "render"]).arg(there);
        command
    };
    let path = std::env::var_os("PATH").unwrap();
    let kept = command.get_envs().find(|(key, _)| *key == "PATH").and_then(|(_, value)| value.map(ToOwned::to_owned));
    let said: Said = command.env_clear().env("PATH", kept.unwrap_or(path)).current_dir("/").output().unwrap().into();
    said.ended(0);
}

fn collect(project: &Project, parcels: &[&Path]) -> Said {
    project.command().args(["parcel", "collect"]).args(parcels).output().unwrap().into()
}

fn names(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let mut names: Vec<String> = entries.collect();
    names.sort();
    names
}

#[test]
fn four_parcels_come_back_in_any_order_lost_and_damaged() {
    let direct = Project::with(SHEET);
    direct.say("run").ended(0);
    let wanted = pictures(&direct);

    let project = Project::with(SHEET);
    project.say("parcel pack --parts 4 --into sent").ended(0);
    let sent = project.path("sent");
    let all = names(&sent);
    assert_eq!(all, ["crossing-mast_1-6", "crossing-mast_7-12", "crossing-quay_1-6", "crossing-quay_7-12"]);
    // Packing has started nothing, and nothing of this machine is in them.
    let home = project.path("").display().to_string();
    for name in crate::support::below(&sent) {
        let bytes = std::fs::read(sent.join(&name)).unwrap();
        assert!(!name.contains(".truepath"), "{name} belongs to this machine");
        assert!(!bytes.windows(home.len()).any(|own| own == home.as_bytes()), "{name} names {home}");
    }
    let machines: Vec<(tempfile::TempDir, PathBuf)> = all.iter().map(|name| machine(&sent.join(name))).collect();
    for (at, (_, there)) in machines.iter().enumerate() {
        render(there, at == 1);
    }
    let [a, b, c, d] = [0, 1, 2, 3].map(|at: usize| machines[at].1.as_path());

    // One is lost, and one was damaged on its way: a byte of a picture, a frame cut off, and one that was never rendered there.
    let out = |parcel: &Path| {
        crate::support::below(parcel)
            .into_iter()
            .filter(|name| name.starts_with("out/") && name.ends_with(".exr"))
            .collect::<Vec<_>>()
    };
    let files = out(c);
    assert_eq!(files.len(), 12);
    let mut bytes = std::fs::read(c.join(&files[0])).unwrap();
    let last = bytes.len() - 9;
    bytes[last] ^= 1;
    std::fs::write(c.join(&files[0]), &bytes).unwrap();
    let whole = std::fs::read(c.join(&files[1])).unwrap();
    std::fs::write(c.join(&files[1]), &whole[..whole.len() / 2]).unwrap();
    std::fs::copy(c.join(&files[3]), c.join(&files[2])).unwrap();
    let said = collect(&project, &[d, c]).ended(1);
    assert!(said.out.contains("12 files landed\n") && said.out.contains("9 files landed\n"), "{}", said.out);
    let changed = "  crossing/quay/beauty 1-3: its bytes changed after it was rendered, or it was cut off on the way\n";
    assert!(said.out.contains(changed), "{}", said.out);
    assert!(
        said.out.contains("missing: crossing/mast/beauty 1-12, in crossing-mast_1-6, crossing-mast_7-12"),
        "{}",
        said.out
    );
    // Rendered by the script alone: no digests, and whole all the same.
    let said = collect(&project, &[b]).ended(1);
    assert!(said.out.contains("12 files landed\n"), "{}", said.out);
    // Twice and overlapping: nothing changes.
    let before = project.stamps("renders");
    let said = collect(&project, &[b, d, b]).ended(1);
    assert_eq!(said.out.matches("0 files landed, 12 already there").count(), 3, "{}", said.out);
    assert_eq!(project.stamps("renders"), before);

    // What is missing is packed again, as archives, and rendered somewhere else.
    project.say("parcel pack --missing --archive --into again").ended(0);
    let again = project.path("again");
    assert_eq!(names(&again), ["crossing-mast_1-6.tar.zst", "crossing-quay_1-3.tar.zst"]);
    for name in names(&again) {
        let said = project.command().args(["parcel", "render"]).arg(again.join(&name)).output().unwrap();
        Said::from(said).ended(0);
    }
    // The folder is meant, and an archive cut off is said and hurts nothing.
    let archive = again.join("crossing-mast_1-6.tar.zst");
    let bytes = std::fs::read(&archive).unwrap();
    std::fs::write(project.path("cut_1-6.tar.zst"), &bytes[..bytes.len() / 2]).unwrap();
    let said = collect(&project, &[&project.path("cut_1-6.tar.zst"), &again]);
    assert!(said.err.contains("cannot be unpacked"), "{}{}", said.out, said.err);
    assert!(said.out.contains("all frames are good. Make the movies: truepath movie"), "{}", said.out);
    // The parcel that was lost is found again: it changes nothing.
    let said = collect(&project, &[a]).ended(0);
    assert!(said.out.contains("0 files landed, 12 already there"), "{}", said.out);

    let came = pictures(&project);
    assert_eq!(came.keys().collect::<Vec<_>>(), wanted.keys().collect::<Vec<_>>());
    assert!(came == wanted, "the pictures are not equal to a direct run");
    assert_eq!(project.files("renders").iter().filter(|name| name.starts_with(".truepath")).count(), 0);
    project.say("verify --deep").ended(1);
    project.say("run").ended(0);
    let verified = project.say("verify --deep").ended(0);
    assert!(!verified.out.contains("stale") && !verified.out.contains("foreign"), "{}", verified.out);
    assert_eq!(rendered(&project), planned(&project));
    // What was measured there counts here: every call that landed has its time.
    let status = project.say("status --json").json();
    assert!(status["series"].as_array().unwrap().iter().all(|series| series["seconds_spent"].as_f64().unwrap() > 0.0));
}

fn rendered(project: &Project) -> std::collections::BTreeSet<String> {
    crate::support::rendered(project)
}

#[test]
fn a_scene_is_packed_with_all_its_files_and_a_parcel_from_outside_runs_nothing() {
    let project = Project::with(&SHEET.replace("scenes/crossing.gltf", "sets/night/crossing.gltf"));
    // The scene names a file above its own folder, and one by its absolute path.
    let text = std::fs::read_to_string(project.path("scenes/crossing.gltf")).unwrap();
    let mut scene: serde_json::Value = serde_json::from_str(&text).unwrap();
    let outside = tempfile::tempdir().unwrap();
    let far = outside.path().join("harbour chart.png");
    std::fs::write(&far, b"a chart").unwrap();
    let own = scene["buffers"][0]["uri"].as_str().unwrap().to_owned();
    scene["buffers"][0]["uri"] = serde_json::json!("../../scenes/".to_owned() + &own);
    scene["images"] = serde_json::json!([{ "uri": far.display().to_string() }]);
    project.write("sets/night/crossing.gltf", scene.to_string());
    project.write(
        "adapters/understudy.toml",
        crate::support::UNDERSTUDY.replace("program = \"truepath\"", "program = \"bin/own\""),
    );
    project.script("own", &format!("touch \"${{MARK:-/dev/null}}\"\nexec {} \"$@\"", env!("CARGO_BIN_EXE_truepath")));
    std::fs::remove_file(project.path("adapters/own.toml")).unwrap();
    project.say("parcel pack --parts 1 --into sent").ended(0);
    let parcel = project.path("sent/crossing-quay_1-crossing-mast_12");
    let inside = crate::support::below(&parcel);
    for name in [
        "bin/own",
        "adapters/understudy.toml",
        "parcel.json",
        "render.cmd",
        "render.sh",
        "scenes/1/sets/night/crossing.gltf",
        &format!("scenes/1/scenes/{own}"),
    ] {
        assert!(inside.contains(&name.to_owned()), "{name} is not in {inside:?}");
    }
    assert!(inside.iter().any(|name| name.ends_with("harbour chart.png")), "{inside:?}");
    let (_folder, there) = machine(&parcel);
    render(&there, false);

    // It comes back hostile: with links out of it, and files and lines that nobody asked for.
    let marked = project.path("marked");
    let journal = crate::support::below(&there).into_iter().find(|name| name.contains("/journal/")).unwrap();
    let lines = std::fs::read_to_string(there.join(&journal)).unwrap();
    let forgotten = "{\"event\":\"landed\",\"series\":\"crossing-mast/beauty\",\"frame\":3,";
    let kept: String =
        lines.lines().filter(|line| !line.starts_with(forgotten)).map(|line| format!("{line}\n")).collect();
    let forged = kept
        + "{\"event\":\"landed\",\"series\":\"../../x\",\"frame\":3,\"bytes\":1,\"digest\":\"\",\"call\":\"../../x\"}\n{\"event\":\"gone\",\"series\":\"../x\",\"frame\":3,\"to\":\"/\",\"by\":\"undo\"}\n";
    std::fs::write(there.join(&journal), forged).unwrap();
    let frame = crate::support::below(&there)
        .into_iter()
        .find(|name| name.contains("mast") && name.ends_with("0105.exr"))
        .unwrap();
    let moved = outside.path().join("0105.exr");
    std::fs::rename(there.join(&frame), &moved).unwrap();
    #[cfg(unix)]
    std::os::unix::fs::symlink(&moved, there.join(&frame)).unwrap();
    let said = project.command().args(["parcel", "collect"]).arg(&there).env("MARK", &marked).output().unwrap();
    let said = Said::from(said).ended(1);
    assert!(!marked.exists(), "a program was started");
    assert!(said.out.contains("it is a link, not a file"), "{}", said.out);
    assert!(said.out.contains("the parcel has no record of it"), "{}", said.out);
    assert!(said.out.contains("46 files landed"), "{}", said.out);
    // Rendered from another scene than was packed: refused.
    let parcel = project.path("other");
    copy(&project.path("sent/crossing-quay_1-crossing-mast_12"), &parcel);
    let scene = parcel.join("scenes/1/sets/night/crossing.gltf");
    std::fs::write(&scene, std::fs::read_to_string(&scene).unwrap() + "\n").unwrap();
    render(&parcel, false);
    let said = collect(&project, &[&parcel]).ended(1);
    assert!(said.out.contains("not rendered from what was packed: scene bytes changed"), "{}", said.out);
    for wrong in ["renders", "scenes", "nowhere"] {
        let said = project.say(&format!("parcel collect {wrong}"));
        assert_eq!(said.code, 2, "{}", said.err);
    }
}

/// A project with one job whose sheet says of checks what others would find.
fn plain() -> Project {
    let sheet = crate::support::SMALL.replace("1-24", "1-4").replace(
        "[checks]",
        "[checks]\npicture-repeated = \"off\"\npicture-black = \"off\"\nsequence-of-one = \"off\"\n",
    );
    Project::with(&sheet)
}

#[test]
fn what_the_sheet_allows_is_allowed_in_its_parcels() {
    let sheet = crate::support::SMALL
        .replace("1-24", "1-2")
        .replace("{pass}.{frame:4}", "{pass}:{frame:4}")
        .replace("[checks]", "[checks]\npicture-repeated = \"off\"\nsequence-of-one = \"error\"");
    let more = "\n[policy]\nsystems = [\"linux\"]\n\n[[allow]]\ncheck = \"sequence-of-one\"\nbecause = \"parts\"\n";
    let project = Project::with(&(sheet + more));
    project.say("check").ended(0);
    project.say("parcel pack --parts 2 --into parcels").ended(0);
    project.say("parcel render parcels/crossing_1-1 parcels/crossing_2-2").ended(0);
    project.say("parcel collect parcels").ended(0);
    project.say("verify --sums").ended(0);
    assert!(project.path("renders/crossing/crossing_beauty:0001.png").exists());
}

/// An archive of entries: name, type and size; its bytes are zeros.
fn archive(path: &Path, entries: &[(&str, u64)], files: &[(&str, &[u8])]) {
    let mut builder = tar::Builder::new(Vec::new());
    for (name, size) in entries {
        let mut header = tar::Header::new_gnu();
        header.set_size(*size);
        header.set_mode(0o644);
        header.set_cksum();
        builder.append_data(&mut header, name, std::io::Read::take(std::io::repeat(0), *size)).unwrap();
    }
    for (name, bytes) in files {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        header.set_cksum();
        builder.append_data(&mut header, name, *bytes).unwrap();
    }
    let tar = builder.into_inner().unwrap();
    let packed = ruzstd::encoding::compress_to_vec(tar.as_slice(), ruzstd::encoding::CompressionLevel::Fastest);
    std::fs::write(path, packed).unwrap();
}

#[test]
fn an_archive_is_looked_through_before_anything_of_it_is_written() {
    let project = plain();
    project.say("parcel pack --parts 2 --archive --into parcels").ended(0);
    let good = project.path("parcels/crossing_1-2.tar.zst");
    let whole = std::fs::read(&good).unwrap();
    let description = {
        project.say("parcel pack --parts 2 --into folders").ended(0);
        std::fs::read(project.path("folders/crossing_1-2/parcel.json")).unwrap()
    };
    let sent = project.path("sent");
    std::fs::create_dir(&sent).unwrap();
    let bomb = sent.join("bomb.tar.zst");
    archive(&bomb, &[("bomb/zeros", 200 << 20)], &[("bomb/parcel.json", &description)]);
    assert!(std::fs::metadata(&bomb).unwrap().len() < 100_000, "the trap would not be one");
    archive(&sent.join("two.tar.zst"), &[], &[("a/parcel.json", &description), ("b/parcel.json", &description)]);
    archive(&sent.join("none.tar.zst"), &[], &[("a/holiday.txt", b"sun")]);
    std::fs::write(sent.join("cut.tar.zst"), &whole[..whole.len() / 2]).unwrap();
    std::fs::write(sent.join("noise.tar.zst"), b"not an archive at all").unwrap();
    let before: Vec<String> = project.files("sent").into_iter().collect();
    for (name, word) in [
        ("bomb", "would come to more than"),
        ("two", "where a parcel is one folder"),
        ("none", "has no parcel.json"),
        ("cut", "cannot be unpacked"),
        ("noise", "cannot be unpacked"),
    ] {
        for command in ["parcel render", "parcel collect"] {
            let said = project.say(&format!("{command} sent/{name}.tar.zst"));
            assert!([1, 2].contains(&said.code) && said.err.contains(word), "{command} {name}: {said:?}");
            assert_eq!(project.files("sent").into_iter().collect::<Vec<_>>(), before, "{command} {name}");
            assert_eq!(std::fs::read_dir(&sent).unwrap().count(), 5, "{command} {name} left something");
        }
    }
    // Its inner folder may have another name than the archive.
    std::fs::copy(&good, project.path("sent/renamed.tar.zst")).unwrap();
    project.say("parcel render sent/renamed.tar.zst").ended(0);
    assert!(project.path("sent/renamed/out").is_dir());
    // Another parcel under the name of one that is there gets a folder of its own.
    std::fs::copy(project.path("parcels/crossing_3-4.tar.zst"), project.path("sent/renamed.tar.zst")).unwrap();
    project.say("parcel render sent/renamed.tar.zst").ended(0);
    assert!(project.path("sent/renamed-2/out").is_dir());
    let said = project.say("parcel collect sent/renamed sent/renamed-2").ended(0);
    assert!(said.out.matches("2 files landed").count() == 2, "{said:?}");
}

#[test]
fn an_archive_that_is_sent_again_is_opened_anew_and_one_bad_parcel_stops_no_other() {
    let project = plain();
    project.say("parcel pack --parts 4 --into parcels").ended(0);
    project
        .say("parcel render parcels/crossing_1-1 parcels/crossing_2-2 parcels/crossing_3-3 parcels/crossing_4-4")
        .ended(0);
    let pack = |name: &str, to: &str| {
        let mut builder = tar::Builder::new(Vec::new());
        builder.append_dir_all(name, project.path("parcels").join(name)).unwrap();
        let tar = builder.into_inner().unwrap();
        let bytes = ruzstd::encoding::compress_to_vec(tar.as_slice(), ruzstd::encoding::CompressionLevel::Fastest);
        project.write(to, bytes);
    };
    // Sent before it was whole, and again.
    let frame = project.path("parcels/crossing_1-1/out/renders/crossing/crossing_beauty.0001.png");
    let bytes = std::fs::read(&frame).unwrap();
    std::fs::write(&frame, &bytes[..bytes.len() / 2]).unwrap();
    pack("crossing_1-1", "sent/crossing_1-1.tar.zst");
    project.say("parcel collect sent").ended(1);
    std::fs::write(&frame, &bytes).unwrap();
    pack("crossing_1-1", "sent/crossing_1-1.tar.zst");
    let said = project.say("parcel collect sent").ended(1);
    assert!(said.out.contains("1 file landed"), "{said:?}");
    assert_eq!(project.files("sent").len(), 1, "what it was unpacked to is gone");
    // A pipe in place of a journal, a link in place of what came out, and a parcel that is as it should be.
    #[cfg(unix)]
    {
        let journal = project.path("parcels/crossing_2-2/.truepath/truepath/journal");
        let name = std::fs::read_dir(&journal).unwrap().next().unwrap().unwrap().path();
        std::fs::remove_file(&name).unwrap();
        assert!(Command::new("mkfifo").arg(&name).status().unwrap().success());
        std::fs::rename(project.path("parcels/crossing_3-3/out"), project.path("moved")).unwrap();
        std::os::unix::fs::symlink(project.path("moved"), project.path("parcels/crossing_3-3/out")).unwrap();
        let said = project.say("parcel collect parcels").ended(1);
        assert!(said.err.contains("crossing_2-2"), "{said:?}");
        assert!(said.out.contains("a folder on the way to it is a link"), "{said:?}");
        assert!(said.out.contains("parcels/crossing_4-4: 1 file landed"), "{said:?}");
        assert_eq!(crate::support::rendered(&project).len(), 2, "{said:?}");
    }
}

#[test]
fn a_pack_that_was_killed_is_repeated_and_takes_the_checks_of_the_sheet_along() {
    let project = plain();
    project.say("check").ended(0);
    // A sheet that is clean here is clean in a parcel: one frame each.
    let said = project.say("parcel pack --parts 4 --into parcels").ended(0);
    assert!(!said.err.contains("sequence-of-one"), "{said:?}");
    let sheet = std::fs::read_to_string(project.path("parcels/crossing_1-1/truepath.toml")).unwrap();
    assert!(sheet.contains("picture-black = \"off\"") && sheet.contains("picture-repeated = \"off\""), "{sheet}");
    for archive in ["", " --archive"] {
        let folder = format!("again{}", archive.trim().replace('-', ""));
        let words = format!("parcel pack --parts 4{archive} --into {folder}");
        if crate::support::has("strace") {
            // Killed at its moves, one after another.
            for which in [2, 4, 6] {
                let does = format!("signal=KILL:when={which}");
                let words: Vec<&str> = words.split(' ').collect();
                project.traced(&words, ("rename,renameat,renameat2", &does), None);
            }
        }
        project.say(&words).ended(0);
        assert!(project.say(&words).ended(0).err.contains("already packed"));
        let names: Vec<String> = std::fs::read_dir(project.path(&folder))
            .unwrap()
            .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
            .collect();
        assert_eq!(names.len(), 4, "{names:?}");
        project
            .call(&[
                "parcel",
                "render",
                &format!("{folder}/crossing_1-1{}", if archive.is_empty() { "" } else { ".tar.zst" }),
            ])
            .ended(0);
    }
    let said = project.say("parcel pack --parts 4 --into renders/.truepath/removed").ended(1);
    assert!(said.err.contains("inside .truepath") && !project.path("renders/.truepath").exists(), "{said:?}");
    // What is not its own is not taken for packed.
    project.write("other/crossing_1-1/notes.txt", "mine");
    assert!(project.say("parcel pack --parts 4 --into other").ended(1).err.contains("already exists"));
}

#[test]
fn a_frame_in_the_place_of_another_is_found_by_its_sum_and_without_one_it_is_said() {
    let project = plain();
    project.say("parcel pack --parts 2 --into sent").ended(0);
    let parcels = names(&project.path("sent"));
    let own = Path::new(env!("CARGO_BIN_EXE_truepath"));
    // The second machine has the renderer and a shell, and none of the tools that make sums.
    let poor = tempfile::tempdir().unwrap();
    for tool in
        "sh mkdir rm rmdir mv ln sed sort tail head cat uname tr date id tee wc od grep env basename dirname readlink mktemp mkfifo cut"
            .split(' ')
    {
        for folder in ["/bin", "/usr/bin"] {
            let from = Path::new(folder).join(tool);
            if from.exists() {
                let _ = std::os::unix::fs::symlink(from, poor.path().join(tool));
            }
        }
    }
    // Its renderer is another version.
    let newer = poor.path().join("truepath");
    let text = "#!/bin/sh\n[ \"$*\" != \"--version\" ] || { echo; echo '  truepath 9.9 \"there\"'; exit; }\n";
    std::fs::write(&newer, format!("{text}exec '{}' \"$@\"\n", own.display())).unwrap();
    std::fs::set_permissions(&newer, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let rich = format!("{}:/usr/bin:/bin", own.parent().unwrap().display());
    for (parcel, path) in parcels.iter().zip([rich, poor.path().display().to_string()]) {
        let folder = project.path("sent").join(parcel);
        let mut script = Command::new("/bin/sh");
        script.arg(folder.join("render.sh")).env("PATH", path);
        assert!(Said::from(script.output().unwrap()).ended(0).out.contains(" files are there"));
        // The first frame of each comes in the place of the second.
        let out = folder.join("out/renders/crossing");
        let files: Vec<PathBuf> = names(&out).into_iter().map(|name| out.join(name)).collect();
        let frame = std::fs::read(&files[0]).unwrap();
        std::fs::write(&files[1], &frame).unwrap();
    }
    let said = collect(&project, &[&project.path("sent").join(&parcels[0])]);
    assert!(said.out.contains("its bytes changed after it was rendered"), "{}", said.out);
    assert!(!said.out.contains("without a sum"), "{}", said.out);
    let said = collect(&project, &[&project.path("sent").join(&parcels[1])]);
    assert!(said.out.contains("came without a sum"), "{}", said.out);
    let journals = project.files(".truepath/truepath/journal");
    let text = |name: &String| std::fs::read_to_string(project.path(&format!(".truepath/truepath/journal/{name}")));
    let journals: String = journals.iter().map(|name| text(name).unwrap()).collect();
    for version in [concat!("truepath ", env!("CARGO_PKG_VERSION")), "truepath 9.9 \\\"there\\\""] {
        assert!(journals.contains(&format!("[\"renderer version\",\"{version}\"]")), "{version}: {journals}");
    }
}
