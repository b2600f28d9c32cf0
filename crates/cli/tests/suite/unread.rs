//! What the system cannot read is neither broken nor missing, and is never rendered over: a tracer makes reads of one file fail
//! under every command that looks at pictures.

use crate::support::{Project, SMALL, Said, has};

/// The file whose reads fail.
const FRAME: &str = "renders/crossing/crossing_beauty.0002.png";

fn project() -> Project {
    let sheet = SMALL
        .replace("1-24", "1-4")
        .replace("camera = \"quay\"", "camera = \"quay\"\npasses = [\"beauty\", \"mask\"]")
        .replace("[checks]", "[[movie]]\nname = \"reel\"\nof = \"crossing\"\npass = \"beauty\"\nformat = \"reel\"\npath = \"{renders}/reel.{ext}\"\n\n[formats.reel]\ntype = \"avi\"\n\n[checks]");
    let project = Project::with(&sheet);
    project.say("run").ended(0);
    project
}

/// The program, with reads of one file that fail from the n-th on.
fn failing(project: &Project, file: &str, error: &str, from: &str, words: &str) -> Said {
    let words: Vec<&str> = words.split(' ').collect();
    project.traced(&words, ("read,pread64,readv", &format!("error={error}:when={from}")), Some(file)).into()
}

#[test]
fn a_read_that_fails_is_told_as_such_by_every_command_and_nothing_is_rendered_over_it() {
    if !has("strace") {
        return;
    }
    let project = project();
    // Nobody here has rendered it: it is looked at, not known.
    let stranger = std::fs::read(project.path(FRAME)).unwrap();
    std::fs::remove_dir_all(project.path(".truepath/truepath/journal")).unwrap();
    let before = project.stamps("renders");
    let mut rows = 0;
    for (error, word) in [
        ("EIO", "Input/output error"),
        ("ETIMEDOUT", "timed out"),
        ("EACCES", "Permission denied"),
        ("ESTALE", "Stale"),
    ] {
        // From the first read on, and past the first bytes.
        for from in ["1+", "2+"] {
            let row = |words: &str| {
                let json = failing(&project, FRAME, error, from, words).json();
                let series = json["series"].as_array().unwrap();
                series
                    .iter()
                    .find(|row| row["series"].as_str().is_some_and(|id| id.ends_with("/beauty")))
                    .unwrap()
                    .clone()
            };
            for words in ["verify --json", "verify --deep --json", "verify --sums --json", "status --json"] {
                let row = row(words);
                assert_eq!(
                    (&row["unreadable"], &row["broken"], &row["missing"]),
                    (&"2".into(), &"".into(), &"".into()),
                    "{error} {from} {words}: {row}"
                );
                rows += 1;
            }
            let said = failing(&project, FRAME, error, from, "verify --deep");
            assert!(said.code == 1 && said.out.contains(word), "{error} {from}: {said:?}");
            for words in ["run --pass beauty", "run --pass beauty --existing renew"] {
                let said = failing(&project, FRAME, error, from, words);
                assert!([1, 3].contains(&said.code), "{error} {from} {words}: {said:?}");
                assert!(project.stamps("renders") == before, "{error} {from} {words}: {said:?}");
                rows += 1;
            }
            // A picture or a page is made all the same, and says what it could not read; files of others need every frame.
            for (words, codes) in [
                ("contact -o contact.png --replace", vec![0, 1]),
                ("report -o night.html --replace", vec![0, 1]),
                (
                    "compare renders/crossing/crossing_beauty.{frame:4}.png renders/crossing/crossing_mask.{frame:4}.png",
                    vec![1],
                ),
                ("stack -o out/{job}.{frame:4}.ora --replace", vec![1, 4]),
                ("movie renders/crossing/crossing_beauty.{frame:4}.png --fps 24 -o out.avi", vec![3]),
                ("verify renders/crossing/crossing_beauty.{frame:4}.png --deep", vec![1]),
                ("verify --folder renders", vec![1]),
            ] {
                let said = failing(&project, FRAME, error, from, words);
                assert!(codes.contains(&said.code), "{error} {from} {words}: {said:?}");
                let text = format!("{}{}", said.out, said.err);
                assert!(
                    !text.contains("broken") && !text.contains("cut off") && !text.contains("damaged"),
                    "{error} {from} {words}: {said:?}"
                );
                rows += 1;
            }
            assert!(!project.path("out.avi").exists());
            let page = std::fs::read_to_string(project.path("night.html")).unwrap();
            assert!(page.contains("unreadable") && page.contains(word), "{error} {from}");
        }
        // A movie as well.
        for words in ["verify --json", "status --json"] {
            let json = failing(&project, "renders/reel.avi", error, "1+", words).json();
            let movie = json["movies"].as_array().or(json["series"].as_array()).unwrap();
            assert!(
                movie.iter().any(|row| row["state"] == "unreadable" || row["unreadable"] == "1"),
                "{error} {words}: {json}"
            );
            rows += 1;
        }
    }
    // What was stale for a moment is opened again.
    let said = failing(&project, FRAME, "ESTALE", "1", "verify --deep --json");
    assert_eq!(said.json()["series"][0]["unreadable"], "", "{said:?}");
    assert_eq!(std::fs::read(project.path(FRAME)).unwrap(), stranger);
    eprintln!("{rows} rows");
}
