//! The page of a report, in a real browser.

use std::process::Stdio;

use crate::support::browser::Browser;
use crate::support::{Project, SMALL, has};
use serde_json::{Value, json};

/// Names that would do something if they were not shown as text.
const HOSTILE: &str = "<script>alert(1)</script> \"'>& <img src=x onerror=alert(2)> \u{202e}txt";

/// What went wrong in a page, and what it fetched from anywhere but itself.
fn complaints(browser: &Browser) -> Vec<Value> {
    let bad = |event: &&Value| match event["method"].as_str() {
        Some("Runtime.exceptionThrown" | "Page.javascriptDialogOpening") => true,
        Some("Runtime.consoleAPICalled") => true,
        Some("Log.entryAdded") => event["params"]["entry"]["level"] == "error",
        Some("Network.requestWillBeSent") => {
            let url = event["params"]["request"]["url"].as_str().unwrap_or_default();
            !url.starts_with("data:") && !url.ends_with(".html") && !url.ends_with(".mp4")
        }
        _ => false,
    };
    browser.events.iter().filter(bad).cloned().collect()
}

/// A night with a missing and a broken frame, an earlier version, a movie and hostile names.
fn night() -> Project {
    let title = Value::String(HOSTILE.to_owned());
    let sheet = SMALL
        .replace("[roots]", &format!("[project]\nname = {title}\n[roots]"))
        .replace("path = \"{renders}/{job}/{job}_{pass}", "version = 2\npath = \"{renders}/{job}/{version}/it's & <b>_{pass}")
        .replace("\"1-24\"", "\"1-12\"\npasses = [\"beauty\", \"mask\"]")
        .replace("[checks]", "[formats.film]\ntype = \"mp4\"\ncodec = \"h264\"\n[[movie]]\nname = \"film\"\nof = \"crossing\"\nformat = \"film\"\npath = \"{renders}/<film>.{ext}\"\n[policy]\nsystems = [\"linux\"]\n[checks]");
    let project = Project::with(&sheet);
    project.say("run --set version=1 --pass beauty --final").ended(0);
    project.say("run").ended(0);
    let frame = |pass: &str, number: u32| format!("renders/crossing/v002/it's & <b>_{pass}.{number:04}.png");
    std::fs::remove_file(project.path(&frame("beauty", 3))).unwrap();
    let bytes = std::fs::read(project.path(&frame("mask", 5))).unwrap();
    project.write(&frame("mask", 5), &bytes[..bytes.len() - 30]);
    project.say("report -o report.html").ended(0);
    project
}

/// A page of it, opened.
fn opened(project: &Project) -> Browser {
    let mut page = Browser::start();
    page.open(&format!("file://{}", project.path("report.html").display()));
    page
}

#[test]
fn a_report_shows_hostile_names_as_text_and_a_square_for_each_file() {
    if !has("chromium") {
        return;
    }
    let project = night();
    let mut page = opened(&project);
    let text = page.value("document.body.innerText").as_str().unwrap().to_owned();
    for part in [
        "<script>alert(1)</script>",
        "<img src=x onerror=alert(2)>",
        "\\u{202e}txt",
        "not complete",
        "23 of 25 files",
        "truepath run",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
    assert_eq!(
        page.value("[document.scripts.length, document.images.length, document.querySelectorAll('[onerror]').length]"),
        json!([2, 0, 0])
    );
    // A square for each planned file, in its state.
    let planned = project.say("names --all").ended(0).out.lines().count();
    assert_eq!(page.value("document.querySelectorAll('.map i').length"), json!(planned));
    let count =
        |page: &mut Browser, state: &str| page.value(&format!("document.querySelectorAll('.map i.{state}').length"));
    assert_eq!(
        [count(&mut page, "missing"), count(&mut page, "broken"), count(&mut page, "good")],
        [json!(1), json!(1), json!(planned - 2)]
    );
    // The map by keyboard.
    page.value("document.querySelector('.map').focus()");
    page.press("ArrowRight");
    page.press("ArrowRight");
    let detail = page.value("document.querySelector('.detail').textContent");
    assert!(detail.as_str().unwrap().contains("it's & <b>_beauty.0003.png, missing"), "{detail}");
    page.press("End");
    let detail = page.value("document.querySelector('.detail').textContent").as_str().unwrap().to_owned();
    assert!(detail.contains("_beauty.0012.png, good, ") && detail.contains(" s, on "), "{detail}");
    assert_eq!(complaints(&page), Vec::<Value>::new());
    // A page that somebody changed does nothing: only its own script may run.
    let script = "<script>document.title = 'taken'</script></body>";
    let changed = std::fs::read_to_string(project.path("report.html")).unwrap().replace("</body>", script);
    project.write("changed.html", changed);
    page.open(&format!("file://{}", project.path("changed.html").display()));
    assert_ne!(page.value("document.title"), json!("taken"));
}

#[test]
fn a_player_plays_by_keyboard_and_the_page_is_readable_in_the_dark_and_on_paper() {
    if !has("chromium") {
        return;
    }
    let project = night();
    let mut page = opened(&project);
    // The player by keyboard: it steps, plays, pauses, and says where it is.
    let now = "document.querySelector('.book .now').textContent";
    page.value("document.querySelector('.book').focus()");
    assert_eq!(page.value(now), json!("frame 1"));
    page.press("ArrowRight");
    page.press("ArrowRight");
    assert_eq!(page.value(now), json!("frame 3, missing"));
    page.press("Home");
    page.press(" ");
    page.until(&format!("{now} !== 'frame 1'"));
    assert_eq!(page.value("document.querySelector('.play').textContent"), json!("Pause"));
    page.press(" ");
    assert_eq!(page.value("document.querySelector('.play').textContent"), json!("Play"));
    page.press("End");
    assert_eq!(page.value(now), json!("frame 12"));
    // Another pass at the same frame, the version before over it, another speed, and the slider.
    let pixel = "[...document.querySelector('.book canvas').getContext('2d').getImageData(20, 100, 1, 1).data].join()";
    let ground = "32,34,38,255";
    page.until(&format!("{pixel} !== '{ground}'"));
    let beauty = page.value(pixel).as_str().unwrap().to_owned();
    page.value("(() => { const pass = document.querySelector('.book .pass'); pass.value = '1'; pass.dispatchEvent(new Event('change')); })()");
    assert_eq!(page.value(now), json!("frame 12"));
    // The mask is another picture.
    page.until(&format!("!['{ground}', '{beauty}'].includes({pixel})"));
    page.value("(() => { const pass = document.querySelector('.book .pass'); pass.value = '0'; pass.dispatchEvent(new Event('change')); })()");
    page.until(&format!("{pixel} === '{beauty}'"));
    assert!(
        page.value("document.querySelector('.onion').parentElement.textContent").as_str().unwrap().contains("v001")
    );
    page.value("document.querySelector('.onion').click()");
    page.value("(() => { const seek = document.querySelector('.seek'); seek.value = '6'; seek.dispatchEvent(new Event('input')); })()");
    assert_eq!(page.value(now), json!("frame 7"));
    // Everything that can be done can be reached, and has a name.
    let nameless = "[...document.querySelectorAll('button, select, input, canvas, video, [tabindex]')].filter((own) => \
        !(own.getAttribute('aria-label') || own.textContent.trim() || own.closest('label'))).length";
    assert_eq!(page.value(nameless), json!(0));
    let loaded = "new Promise((done) => { const film = document.querySelector('video'); const told = () => done([film.videoWidth, film.error === null]); \
        if (film.readyState >= 1 || film.error) told(); else { film.onloadedmetadata = told; film.onerror = told; } })";
    assert_eq!(page.value(loaded)[1], json!(true), "the movie is played in its place");
    // Dark where the reader wants it, and readable on paper.
    let ground = "getComputedStyle(document.body).backgroundColor";
    let mut media = |feature: Value, kind: &str| {
        page.ask("Emulation.setEmulatedMedia", json!({ "media": kind, "features": feature }));
        page.value(ground)
    };
    let light = media(json!([{ "name": "prefers-color-scheme", "value": "light" }]), "");
    let dark = media(json!([{ "name": "prefers-color-scheme", "value": "dark" }]), "");
    let paper = media(json!([{ "name": "prefers-color-scheme", "value": "dark" }]), "print");
    assert_eq!(
        [light, dark, paper],
        [json!("rgb(255, 255, 255)"), json!("rgb(21, 23, 27)"), json!("rgb(255, 255, 255)")]
    );
    assert_eq!(complaints(&page), Vec::<Value>::new());
}

#[test]
fn a_run_keeps_its_page_and_what_failed_is_told_with_its_last_lines() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-4\"").replace("\"understudy\"", "\"broken\""));
    project.script("broken", "echo loading\necho 'no licence for </script><b>seat</b> 7' >&2\nexit 9\n");
    let said = project.say("run --report night.html --keep-going");
    assert_ne!(said.code, 0);
    let page = std::fs::read_to_string(project.path("night.html")).unwrap();
    for part in [
        "What failed",
        "not complete",
        "truepath run",
        "\"underWay\":false",
        "no licence for &lt;/script&gt;&lt;b&gt;seat&lt;/b&gt; 7",
        "bin/broken",
    ] {
        assert!(page.contains(part), "{part}");
    }
    assert_eq!(page.matches("</script>").count(), 2);
    assert!(!page.contains("src=\"http") && !page.contains("href=\"http"));
    // While a run goes on, its page is there and says so.
    let long = Project::with(&SMALL.replace("\"1-24\"", "\"1-4000\"").replace("\"32x18\"", "\"160x90\""));
    let mut run = long.command();
    run.args(["run", "--report", "night.html"]).stdout(Stdio::null()).stderr(Stdio::null());
    let mut run = run.spawn().unwrap();
    crate::support::until("the page", || long.path("night.html").exists());
    let page = std::fs::read_to_string(long.path("night.html")).unwrap();
    assert!(page.contains("\"underWay\":true") && page.contains("under way"));
    run.kill().unwrap();
    run.wait().unwrap();
    // What is no report is not written over, and no frame.
    long.write("mine.html", "my own page");
    for (words, why) in [
        ("report -o mine.html", "True Path did not make it"),
        ("run --report mine.html", "True Path did not make it"),
        ("report -o mine.txt", ".html"),
        ("report -o nowhere/r.html", "no folder"),
    ] {
        let said = long.say(words);
        assert!(said.code != 0 && said.err.contains(why), "{words}: {}", said.err);
    }
    assert_eq!(std::fs::read(long.path("mine.html")).unwrap(), b"my own page");
}

#[test]
fn a_page_of_many_frames_stays_small() {
    let project = Project::with(&SMALL.replace("\"1-24\"", "\"1-3000\"").replace("\"32x18\"", "\"64x36\""));
    project.say("run --chunk 1000").ended(0);
    project.say("report -o report.html").ended(0);
    let page = std::fs::read_to_string(project.path("report.html")).unwrap();
    assert!(page.len() < 10_000_000, "{}", page.len());
    let squares = ["good", "odd"].map(|state| page.matches(&format!("<i class=\"{state}\"></i>")).count());
    assert_eq!(squares.iter().sum::<usize>(), 3000);
}

#[test]
fn a_page_of_many_jobs_is_written_all_the_same() {
    let head = &SMALL[..SMALL.find("[[job]]").unwrap()];
    let jobs: String = (0..2_200)
        .map(|at| format!("[[job]]\nname = \"j{at}\"\nscene = \"scenes/crossing.gltf\"\ncamera = \"quay\"\nframes = \"1-30\"\npasses = [\"beauty\", \"mask\"]\n"))
        .collect();
    let project =
        Project::with(&format!("{head}{jobs}[checks]\nscene-span-not-covered = \"off\"\nframes-twice = \"off\"\n"));
    project.say("report -o report.html").ended(0);
    let page = std::fs::read_to_string(project.path("report.html")).unwrap();
    assert!(page.len() < 10_000_000, "{}", page.len());
    for part in ["0 of 132000 files", "400 series more", "Each square is up to 3 files"] {
        assert!(page.contains(part), "{part}");
    }
}
