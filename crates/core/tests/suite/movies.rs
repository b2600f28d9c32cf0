//! Movies without a disk: of which frames they are made, what tells one from another, how they are judged and fixed.

use crate::support::planned;
use truepath_core::catalogue::{AsWritten, Bits, Chroma, codecs};
use truepath_core::plan::{MOVIE, Plan, Series, movie_calls, wanted};
use truepath_core::run::fingerprint::Fingerprint;
use truepath_core::sheet::{Existing, Gaps};
use truepath_core::verify::fix::{NeededRun, fixes};
use truepath_core::verify::{Footage, Fps, Provenance, Seen, SoundTrack, State, Verdict, judge};

const JOBS: &str = r#"sheet = 1
[project]
name = "ferry"
[roots]
renders = "renders"
[formats.review]
type = "mov"
codec = "h264"
quality = 80
audio_codec = "pcm"
[defaults]
fps = 24
size = "640x360"
path = "{renders}/{job}/{camera}.{frame:4}.png"
[[job]]
name = "crossing"
scene = "a.gltf"
frames = "1-10"
each = { camera = ["quay", "mast"] }
[[job]]
name = "arrival"
scene = "b.gltf"
camera = "pier"
frames = "5-8"
shift = 100
"#;

const MOVIE_OF: &str =
    "[[movie]]\nname = \"review\"\nof = \"crossing\"\nformat = \"review\"\npath = \"{renders}/{job}_{camera}.mov\"\n";

fn plan_of(movies: &str) -> Plan {
    let (plan, findings) = planned(&format!("{JOBS}{movies}"));
    let said: Vec<&str> = findings.iter().map(|finding| finding.message.as_str()).collect();
    assert!(said.is_empty(), "{said:?}");
    plan
}

/// What a movie shows: series, frames, and how many frames it fills.
fn shows(movie: &Series, plan: &Plan) -> Vec<(String, String, i64)> {
    let film = movie.film.as_deref().unwrap();
    film.clips.iter().map(|clip| (plan.series[clip.series].id.clone(), clip.frames.to_string(), clip.shown())).collect()
}

#[test]
fn a_movie_shows_what_it_names_in_that_order() {
    let row = |series: &str, frames: &str, shown: i64| (series.to_owned(), frames.to_owned(), shown);
    let plan = plan_of(MOVIE_OF);
    assert_eq!(
        plan.movies.iter().map(|movie| movie.id.as_str()).collect::<Vec<_>>(),
        ["crossing/quay/review", "crossing/mast/review"]
    );
    assert_eq!(shows(&plan.movies[1], &plan), [row("crossing/mast/beauty", "1-10", 10)]);
    let reel = MOVIE_OF
        .replace("\"crossing\"", "[\"arrival\", \"crossing/mast\", \"crossing\"]")
        .replace("{job}_{camera}", "reel");
    let plan = plan_of(&reel);
    let expected = [
        row("arrival/beauty", "5-8", 4),
        row("crossing/mast/beauty", "1-10", 10),
        row("crossing/quay/beauty", "1-10", 10),
        row("crossing/mast/beauty", "1-10", 10),
    ];
    assert_eq!(shows(&plan.movies[0], &plan), expected);
    let calls: Vec<_> = movie_calls(&plan).collect();
    assert_eq!((calls.len(), calls[0].id.as_str()), (1, "arrival_movie-review"));
    assert_eq!(calls[0].sources(&plan), [2, 1, 0, 1]);
    // Only one of them is asked for: the reel is not a part of that.
    for (frames, gaps, shown, missing) in [
        ("1-4,8-10", "close", 7, "5-7"),
        ("1-4,8-10", "hold", 10, "5-7"),
        ("1-4,8-10", "refuse", 7, "5-7"),
        ("all/3", "hold", 10, "2-3,5-6,8-9"),
        ("3-6", "refuse", 4, ""),
    ] {
        let plan = plan_of(&format!("{MOVIE_OF}frames = \"{frames}\"\ngaps = \"{gaps}\"\n"));
        let clip = &plan.movies[0].film.as_deref().unwrap().clips[0];
        assert_eq!((clip.shown(), clip.missing().to_string().as_str()), (shown, missing), "{frames} {gaps}");
        assert_eq!(clip.gaps == Gaps::Refuse, gaps == "refuse");
    }
}

#[test]
fn every_setting_of_a_movie_tells_it_from_another() {
    let parts = |movies: &str| {
        let plan = plan_of(movies);
        Fingerprint::of_movie(&plan, &plan.movies[0], "built-in", ("frames".into(), None)).parts
    };
    let plain = parts(MOVIE_OF);
    for line in [
        "fps = 25",
        "frames = \"1-9\"",
        "gaps = \"hold\"",
        "size = \"320x180\"",
        "scale = 50",
        "over = \"checker\"",
        "burn = \"{job}\"",
        "start_timecode = \"01:00:00:00\"",
        "colour = \"linear\"",
    ] {
        assert_ne!(parts(&format!("{MOVIE_OF}{line}\n")), plain, "{line}");
    }
    for (from, to) in
        [("quality = 80", "quality = 81"), ("quality = 80", "effort = \"high\""), ("\"h264\"", "\"mjpeg\"")]
    {
        let (plan, _) = planned(&format!("{}{MOVIE_OF}", JOBS.replace(from, to)));
        let own = Fingerprint::of_movie(&plan, &plan.movies[0], "built-in", ("frames".into(), None));
        assert_ne!(own.parts, plain, "{to}");
    }
    let plan = plan_of(MOVIE_OF);
    let of = |encoder: &str, frames: &str, sound: Option<&str>| {
        Fingerprint::of_movie(&plan, &plan.movies[0], encoder, (frames.into(), sound.map(str::to_owned)))
    };
    let own = of("built-in", "frames", None);
    let said = |other: &Fingerprint| own.differences(&other.parts).iter().map(ToString::to_string).collect::<Vec<_>>();
    assert_eq!(said(&of("built-in", "others", None)), ["its frames changed since it was made"]);
    assert_eq!(said(&of("ffmpeg", "frames", None)), ["encoder built-in, was ffmpeg"]);
    assert_eq!(said(&of("built-in", "others", None).with_frames_unknown()), Vec::<String>::new());
    // What the line below a picture shows is looked up as what paths hold.
    assert!(
        wanted(&plan_of(&format!("{MOVIE_OF}burn = \"{{user}} {{date}}\"\n")).jobs).jobs.values().all(|job| job.clock)
    );
}

#[test]
fn whatever_differs_from_the_plan_is_named() {
    let plan =
        plan_of(&format!("{MOVIE_OF}audio = \"a.wav\"\nstart_timecode = \"01:00:00:00\"\nburn = \"{{name}}\"\n"));
    let movie = &plan.movies[0];
    let good = Footage {
        container: "mov",
        codec: AsWritten::Known(&codecs::H264),
        width: 640,
        // A line of a twentieth of the height is below the picture.
        height: 378,
        fps: Fps::new(24, 1),
        frames: 10,
        chroma: Some(Chroma::C420),
        bits: Some(Bits::Eight),
        alpha: Some(false),
        sound: Some(SoundTrack {
            codec: AsWritten::Known(&codecs::PCM),
            rate: 48_000,
            channels: 2,
            seconds: 10.0 / 24.0,
        }),
        timecode: Some("01:00:00:00".into()),
    };
    let said = |footage: &Footage| judge(movie, &[], &Seen::Movie(Box::new(footage.clone())));
    assert_eq!(said(&good), (State::Good, None));
    let sound = |change: fn(&mut SoundTrack)| {
        let mut sound = good.sound.clone().unwrap();
        change(&mut sound);
        Some(sound)
    };
    for (wrong, why) in [
        (Footage { container: "mp4", ..good.clone() }, "type is mp4, should be mov"),
        (Footage { codec: AsWritten::Known(&codecs::HEVC), ..good.clone() }, "codec is hevc, should be h264"),
        (Footage { height: 360, ..good.clone() }, "size is 640x360, should be 640x378"),
        (Footage { fps: Fps::new(24_000, 1001), ..good.clone() }, "fps is 24000/1001, should be 24"),
        (Footage { fps: None, ..good.clone() }, "fps is unknown, should be 24"),
        (Footage { frames: 9, ..good.clone() }, "number of frames is 9, should be 10"),
        (Footage { sound: None, ..good.clone() }, "it has no sound"),
        (
            Footage { sound: sound(|own| own.seconds += 0.05), ..good.clone() },
            "sound lasts 0.467 s, should last 0.417 s",
        ),
        (
            Footage { sound: sound(|own| own.codec = AsWritten::Known(&codecs::AAC)), ..good.clone() },
            "audio codec is aac, should be pcm",
        ),
        (
            Footage { timecode: Some("00:00:00:00".into()), ..good.clone() },
            "timecode is 00:00:00:00, should be 01:00:00:00",
        ),
    ] {
        assert_eq!(said(&wrong), (State::Wrong, Some(why.to_owned())));
    }
    // What a container does not tell is not known to differ; half a frame of sound more is none.
    let silent = Footage { chroma: None, bits: None, alpha: None, timecode: None, ..good.clone() };
    assert_eq!(said(&silent).0, State::Good);
    assert_eq!(said(&Footage { sound: sound(|own| own.seconds += 0.02), ..good.clone() }).0, State::Good);
}

/// The commands for some states: of the pictures of the first job, and of each movie.
fn fixed(plan: &Plan, pictures: State, movies: [State; 3]) -> Vec<(bool, Existing, Vec<String>)> {
    let standing = |state: State| match state {
        State::Missing => (Seen::Missing, Provenance::Fresh),
        State::Broken => (Seen::Broken("cut".into()), Provenance::Fresh),
        State::Stale => (Seen::AsLanded, Provenance::Stale("older".into())),
        State::Changed => (Seen::AsLanded, Provenance::Changed("other".into())),
        State::Wrong => (Seen::Movie(Box::default()), Provenance::Fresh),
        _ => (Seen::AsLanded, Provenance::Fresh),
    };
    let verdicts = plan.outputs().map(|(at, series)| {
        let state = match at.checked_sub(plan.series.len()) {
            Some(movie) => movies[movie],
            None if at == 0 => pictures,
            None => State::Good,
        };
        let (seen, standing) = standing(state);
        let frames: Vec<i64> = match series.film {
            Some(_) => vec![MOVIE],
            None => series.frames.iter().flat_map(|frames| frames.iter()).collect(),
        };
        Verdict::gather(
            (at, series),
            (&[], &truepath_core::picture::OddPolicy::default()),
            frames.into_iter().map(|frame| (frame, seen.clone(), standing.clone())),
        )
    });
    let verdicts: Vec<Verdict> = verdicts.collect();
    let named = |fix: NeededRun| (fix.movies, fix.existing, if fix.only.is_empty() { fix.jobs } else { fix.only });
    fixes(plan, &verdicts).into_iter().map(named).collect()
}

#[test]
fn what_is_offered_makes_movies_too_and_no_more_than_is_needed() {
    let reel = MOVIE_OF.replace("\"crossing\"", "[\"crossing/mast\", \"arrival\"]").replace("{job}_{camera}", "reel");
    let plan = plan_of(&format!("{MOVIE_OF}{}", reel.replace("\"review\"\nof", "\"reel\"\nof")));
    // The movies: of the quay, of the mast, and of the mast with the arrival; each belongs to the first that it shows.
    let order: Vec<&str> = plan.movies.iter().map(|movie| movie.id.as_str()).collect();
    assert_eq!(order, ["crossing/quay/review", "crossing/mast/review", "crossing/mast/reel"]);
    let names = |list: &[&str]| list.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
    let (good, lost) = (State::Good, State::Missing);
    assert_eq!(fixed(&plan, good, [good; 3]), []);
    // The run that fixes the pictures makes their movie, too.
    assert_eq!(fixed(&plan, lost, [lost, good, good]), [(false, Existing::Keep, names(&["crossing/quay"]))]);
    assert_eq!(
        fixed(&plan, State::Stale, [State::Stale, good, good]),
        [(false, Existing::Renew, names(&["crossing/quay"]))]
    );
    // Pictures are good: movies alone.
    assert_eq!(fixed(&plan, good, [lost, good, good]), [(true, Existing::Keep, names(&["crossing/quay"]))]);
    let both = names(&["arrival", "crossing/mast"]);
    assert_eq!(fixed(&plan, good, [good, good, State::Stale]), [(true, Existing::Keep, both.clone())]);
    assert_eq!(fixed(&plan, good, [good, good, State::Broken]), [(true, Existing::Keep, both.clone())]);
    // A reel of jobs whose pictures are not touched is not made by a run for another job.
    let expected = [(false, Existing::Keep, names(&["crossing/quay"])), (true, Existing::Keep, both.clone())];
    assert_eq!(fixed(&plan, lost, [lost, good, lost]), expected);
    // A reel of which only a part is rendered again is made after that.
    let reel = MOVIE_OF.replace("\"crossing\"", "[\"crossing/quay\", \"arrival\"]").replace("{job}_{camera}", "reel");
    let parted = plan_of(&format!("{MOVIE_OF}{}", reel.replace("\"review\"\nof", "\"reel\"\nof")));
    let after = (true, Existing::Keep, names(&["arrival", "crossing/quay"]));
    assert_eq!(fixed(&parted, lost, [lost, good, good]), [(false, Existing::Keep, names(&["crossing/quay"])), after]);
    // What somebody else changed is written over only by who says so.
    assert_eq!(
        fixed(&plan, good, [State::Changed, good, good]),
        [(true, Existing::Replace, names(&["crossing-quay_movie-review"]))]
    );
    assert_eq!(
        fixed(&plan, good, [State::Wrong, good, good]),
        [(true, Existing::Replace, names(&["crossing-quay_movie-review"]))]
    );
}
