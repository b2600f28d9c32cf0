//! Patterns as they are typed: the frame as other programs spell it, `*`, and what every command writes, read back.

use crate::support::{Project, SMALL};

/// A project in a folder with braces, rendered, with one frame cut in half.
fn rendered() -> Project {
    let project = Project::with(&SMALL.replace("1-24", "1-6").replace("{renders}/{job}/", "{renders}/shot {{A}}/"));
    project.say("run").ended(0);
    let path = project.path("renders/shot {A}/crossing_beauty.0004.png");
    let whole = std::fs::read(&path).unwrap();
    std::fs::write(&path, &whole[..whole.len() / 2]).unwrap();
    project
}

#[test]
fn every_spelling_of_the_frame_means_the_same_files() {
    let project = rendered();
    let folder = "renders/shot {{A}}";
    let own = project.call(&["verify", &format!("{folder}/crossing_beauty.{{frame:4}}.png")]).ended(1);
    assert!(own.out.contains("broken 4"), "{}", own.out);
    for hole in ["####", "@@@@", "%04d", "*"] {
        let said = project.call(&["verify", &format!("{folder}/crossing_beauty.{hole}.png")]).ended(1);
        assert_eq!(said.out, own.out, "{hole}");
    }
    let folder_itself = project.call(&["verify", "--folder", "renders"]).ended(1).out;
    let pattern = folder_itself.lines().nth(1).unwrap().split("  ").next().unwrap().to_owned();
    assert_eq!(pattern, format!("{folder}/crossing_beauty.{{frame:4}}.png"));
    // What is written is read back, by every command that takes a pattern.
    project.call(&["movie", &pattern, "--frames", "1-3", "--fps", "24", "-o", "a.mp4"]).ended(0);
    project
        .call(&["movie", &pattern.replace("{frame:4}", "%04d"), "--frames", "1-3", "--fps", "24", "-o", "b.mp4"])
        .ended(0);
    assert_eq!(std::fs::read(project.path("a.mp4")).unwrap(), std::fs::read(project.path("b.mp4")).unwrap());
    project.call(&["contact", &pattern, "-o", "sheet.png"]).ended_in(&[0, 1]);
    project.call(&["compare", &pattern, &pattern.replace("{frame:4}", "@@@@"), "--frames", "1-3"]).ended(0);
    let named = project.say("names --json").ended(0).json();
    let named = named["series"][0]["pattern"].as_str().unwrap();
    assert_eq!(project.call(&["verify", named]).ended(1).out.matches("broken 4").count(), 1);
}

#[test]
fn a_star_that_means_several_sequences_or_none_is_told_so() {
    let project = rendered();
    std::fs::copy(
        project.path("renders/shot {A}/crossing_beauty.0001.png"),
        project.path("renders/shot {A}/other.12.png"),
    )
    .unwrap();
    let said = project.call(&["verify", "renders/shot {{A}}/*.png"]).ended(2);
    assert!(said.err.contains("matches 2 sequences") && said.err.contains("/other.{frame:2}.png"), "{}", said.err);
    let said = project.call(&["verify", "renders/shot {{A}}/pier.*.png"]).ended(1);
    assert!(said.err.contains("no numbered file matches"), "{}", said.err);
    project.call(&["verify", "ren*/*.png"]).ended(2);
}

#[test]
fn what_many_files_have_in_common_is_one_line_with_their_numbers() {
    let project = rendered();
    for frame in [1, 2, 3, 5] {
        let path = project.path(&format!("renders/shot {{A}}/crossing_beauty.{frame:04}.png"));
        let whole = std::fs::read(&path).unwrap();
        std::fs::write(&path, &whole[..whole.len() / 2]).unwrap();
    }
    let said = project.call(&["verify", "--folder", "renders"]).ended(1).out;
    let lines: Vec<&str> = said.lines().filter(|line| line.contains("crossing_beauty.{frame:4}.png 1-5: ")).collect();
    assert_eq!(lines.len(), 1, "{said}");
}

#[test]
fn a_movie_says_what_it_does_not_keep_of_its_frames() {
    let project = Project::with(
        &SMALL
            .replace("1-24", "1-2")
            .replace("channels = \"rgb\"", "channels = \"rgba\"")
            .replace("bits = 8", "bits = 16"),
    );
    project.say("run").ended(0);
    let pattern = "renders/crossing/crossing_beauty.{frame:4}.png";
    let said = project.call(&["movie", pattern, "--fps", "24", "-o", "a.mp4"]).ended(0);
    let note =
        "the frames' alpha is dropped: they are laid over black, and the depth is reduced from 16 to 8 bits (H.264)";
    assert!(said.err.contains(note), "{}", said.err);
    let said =
        project.call(&["movie", pattern, "--fps", "24", "-o", "b.mp4", "--over", "black", "--bits", "8"]).ended(0);
    assert!(!said.err.contains("dropped") && !said.err.contains("reduced"), "{}", said.err);
    project
        .call(&["movie", pattern, "--fps", "24", "-o", "c.mov", "--codec", "png", "--bits", "16"])
        .ended_in(&[0, 1, 3, 4]);
}

#[test]
fn a_stack_is_named_by_any_spelling_of_the_frame() {
    let project = Project::with(
        &SMALL
            .replace("1-24", "1-2")
            .replace("format = \"view\"", "format = \"view\"\npasses = [\"beauty\", \"mask\"]"),
    );
    project.say("run").ended(0);
    for (hole, name) in [("####", "0002"), ("%03d", "002"), ("{frame:5}", "00002")] {
        project.call(&["stack", "crossing", "-o", &format!("stacks/{hole}.tif")]).ended(0);
        assert!(project.path(&format!("stacks/{name}.tif")).is_file(), "{hole}");
    }
}
