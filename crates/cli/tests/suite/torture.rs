//! Processes killed, stopped and started again at any moment: nothing is half there, nothing is done twice, all is done in
//! the end. `TRUEPATH_TORTURE=full cargo test --test suite torture::` does it as often as anyone could wish.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use crate::support::{Project, SMALL, planned, rendered};
use truepath_core::run::event::{self, Event};

/// Moments at which something is killed, and rounds in which many share a folder.
fn often() -> (u64, u64) {
    if std::env::var("TRUEPATH_TORTURE").is_ok_and(|how| how == "full") { (500, 40) } else { (24, 3) }
}

/// Numbers that look like chance and are the same each time.
struct Chance(u64);

impl Chance {
    fn below(&mut self, limit: u64) -> u64 {
        // xorshift64 (Marsaglia 2003)
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % limit
    }
}

fn start(project: &Project, words: &[&str]) -> Child {
    start_telling(project, words, Stdio::null())
}

/// A run whose words go somewhere.
fn start_telling(project: &Project, words: &[&str], said: impl Into<Stdio>) -> Child {
    project.command().arg("run").args(words).stdout(Stdio::null()).stderr(said).spawn().unwrap()
}

/// In a mount namespace of its own, the project under another path.
const ELSEWHERE: &str = "mount --bind \"$1\" \"$2\" && cd \"$2\" && shift 2 && exec \"$@\"";

fn elsewhere(project: &Project, other: &Path) -> Command {
    let mut command = Command::new("unshare");
    command.args(["-m", "sh", "-c", ELSEWHERE, "sh"]).arg(project.path("")).arg(other);
    command.env("XDG_CONFIG_HOME", project.path("config"));
    command
}

/// Whether this user may mount a folder under another path.
fn may_mount(project: &Project, other: &Path) -> bool {
    let tried = elsewhere(project, other).arg("true").stderr(Stdio::null()).status();
    let may = tried.is_ok_and(|status| status.success());
    if !may {
        eprintln!("SKIPPED: this user may not mount a folder under another path");
    }
    may
}

fn start_elsewhere(project: &Project, other: &Path, said: File) -> Child {
    let mut command = elsewhere(project, other);
    command.arg(project.command().get_program()).args(["run", "--share"]);
    command.stdout(Stdio::null()).stderr(said).spawn().unwrap()
}

fn signal(name: &str, process: u32) {
    Command::new("kill").args([name, &process.to_string()]).stderr(Stdio::null()).status().unwrap();
}

fn children(process: u32) -> Vec<u32> {
    let said = Command::new("pgrep").args(["-P", &process.to_string()]).output().unwrap();
    String::from_utf8(said.stdout).unwrap().lines().map(|line| line.parse().unwrap()).collect()
}

/// No final name bears anything but a whole picture, the last of it.
#[track_caller]
fn all_whole(project: &Project, when: &str) {
    for name in rendered(project) {
        let bytes = std::fs::read(project.path("renders").join(&name)).unwrap();
        assert!(bytes.ends_with(b"IEND\xae\x42\x60\x82"), "{name} is cut off {when}");
        assert!(!bytes.windows(6).any(|part| part == b"coarse"), "{name} was not finished {when}");
    }
}

/// The events of every journal, by the journal's name.
fn journals(project: &Project) -> BTreeMap<String, Vec<Event>> {
    let folder = ".truepath/truepath/journal";
    let read = |name: String| {
        let text = std::fs::read_to_string(project.path(folder).join(&name)).unwrap();
        (name, event::read(&text).collect())
    };
    project.files(folder).into_iter().map(read).collect()
}

/// One frame after another, many at once, and each in steps of which only the last is the picture. The last two say nothing
/// of what they wrote.
const PROGRAMS: [&str; 3] = ["", "parallel", "refine"];

/// A project whose renderer works in one of these ways.
fn program(sheet: &str, how: &str) -> Project {
    if how.is_empty() {
        return Project::with(sheet);
    }
    let sheet = sheet.replace("camera = \"quay\"", &format!("camera = \"quay\"\nnative.misbehave = \"{how}\""));
    let project = crate::support::odd(&sheet);
    let adapter = std::fs::read_to_string(project.path("adapters/odd.toml")).unwrap();
    let silent: String =
        adapter.lines().filter(|line| !line.starts_with("wrote = ")).flat_map(|line| [line, "\n"]).collect();
    assert_ne!(silent.len(), adapter.len());
    project.write("adapters/odd.toml", silent);
    project
}

#[test]
fn killed_at_any_moment_nothing_is_half_done_and_nothing_is_done_twice() {
    for (at, how) in PROGRAMS.into_iter().enumerate() {
        killed_at_any_moment(how, Chance(0x5eed + at as u64));
    }
}

fn killed_at_any_moment(how: &str, mut chance: Chance) {
    let sheet = SMALL.replace("32x18", "64x36").replace("1-24", "1-150").replace("[run]", "[run]\nworkers = 2");
    let passes = "camera = \"quay\"\npasses = [\"beauty\", \"mask\"]";
    let project = program(&sheet.replace("camera = \"quay\"", passes), how);
    let mut landed = BTreeMap::new();
    for round in 0..often().0.div_ceil(PROGRAMS.len() as u64) {
        let mut run = start(&project, &[]);
        let runs = project.until_written(&mut run, chance.below(90_000));
        if round % 3 == 0 && runs {
            // A renderer dies; the run tries again and ends well.
            let all = children(run.id());
            if let Some(renderer) = all.get(chance.below(all.len().max(1) as u64) as usize) {
                signal("-KILL", *renderer);
            }
            assert!(run.wait().unwrap().success(), "round {round}");
        } else {
            run.kill().unwrap();
            run.wait().unwrap();
        }
        all_whole(&project, &format!("after kill {round}"));
        let now: BTreeMap<_, _> =
            project.stamps("renders").into_iter().filter(|(name, _)| !name.starts_with(".truepath/")).collect();
        let again: Vec<_> =
            landed.iter().filter(|(name, stamp)| now.get(*name).is_some_and(|own| own != *stamp)).collect();
        assert!(
            again.is_empty(),
            "rendered again in round {round}: {:?}",
            again.iter().map(|(name, _)| name).collect::<Vec<_>>()
        );
        landed = now;
        if landed.len() > 200 {
            // So that there is always something to do.
            for _ in 0..150 {
                let at = chance.below(landed.len() as u64) as usize;
                let name = landed.keys().nth(at).unwrap().clone();
                std::fs::remove_file(project.path("renders").join(&name)).unwrap();
                landed.remove(&name);
            }
        }
    }
    project.say("run").ended(0);
    project.say("verify").ended(0);
    assert_eq!(rendered(&project), planned(&project));
    assert!(!project.path("renders/.truepath").exists(), "nothing is left in stage");
    let finals = project.stamps("renders");
    assert!(landed.iter().all(|(name, stamp)| finals[name] == *stamp), "a landed frame was touched again");
}

#[test]
fn eight_share_a_folder_and_three_of_them_die_or_sleep() {
    for round in 0..often().1 {
        let sheet = SMALL
            .replace("32x18", "64x36")
            .replace("1-24", "1-120")
            .replace("chunk = 6", "chunk = 4\nheartbeat = \"0.2s\"\ntakeover = \"1.2s\"\nafter = [[\"sh\", \"-c\", \"echo {outcome} >> over.txt\"]]");
        let project = program(&sheet, PROGRAMS[round as usize % PROGRAMS.len()]);
        let mut chance = Chance(0xfe44 + round);
        let said = |at: usize| project.path(&format!("said-{at}.txt"));
        // Every other round, half of them know the project by another path, as machines with other mount points do.
        let other = tempfile::tempdir().unwrap();
        let mounts = round % 2 == 0 && may_mount(&project, other.path());
        let worker = |at: usize| match mounts && at % 2 == 1 {
            true => start_elsewhere(&project, other.path(), File::create(said(at)).unwrap()),
            false => start_telling(&project, &["--share"], File::create(said(at)).unwrap()),
        };
        let mut crew: Vec<Child> = (0..8).map(worker).collect();
        let (mut killed, mut asleep) = (Vec::new(), Vec::new());
        for victim in crew.iter_mut().take(3) {
            project.until_written(victim, chance.below(40_000));
            let process = victim.id();
            if chance.below(2) == 0 {
                signal("-KILL", process);
                killed.push(process);
            } else {
                signal("-STOP", process);
                asleep.push(process);
            }
        }
        // The others take over, some of it or all.
        let enough = 30 + chance.below(90) as usize;
        crate::support::until("what the others render", || rendered(&project).len() >= enough);
        asleep.iter().for_each(|process| signal("-CONT", *process));
        for (at, run) in crew.iter_mut().enumerate() {
            let ended = run.wait().unwrap();
            let well = killed.contains(&run.id()) || ended.success();
            assert!(well, "round {round}: {ended}\n{}", std::fs::read_to_string(said(at)).unwrap());
        }
        all_whole(&project, &format!("in round {round}"));
        assert_eq!(rendered(&project), planned(&project), "round {round}");
        let mut times: BTreeMap<i64, Vec<bool>> = BTreeMap::new();
        for events in journals(&project).values() {
            let Some(Event::Began(began)) = events.first() else { panic!("{events:?}") };
            let dead = killed.contains(&began.process);
            for (at, event) in events.iter().enumerate() {
                match event {
                    // What a killed worker wrote last may not have come to pass.
                    Event::Landed(landed) => {
                        times.entry(landed.frame).or_default().push(dead && at + 4 >= events.len())
                    }
                    Event::Late { frame, .. } => drop(times.get_mut(frame).unwrap().pop()),
                    _ => {}
                }
            }
        }
        for (frame, landings) in &times {
            let sure = landings.iter().filter(|unsure| !**unsure).count();
            assert!(sure <= 1 && !landings.is_empty(), "round {round}: frame {frame} landed {landings:?}");
        }
        assert_eq!(times.len(), 120);
        let over = std::fs::read_to_string(project.path("over.txt")).unwrap();
        assert_eq!(over, "complete\n", "one of them ends the round");
        project.say("verify").ended(0);
        project.say("run").ended(0);
        assert!(!project.path("renders/.truepath").exists(), "{:?}", project.files("renders/.truepath"));
    }
}

#[test]
fn many_clear_up_at_once_after_one_that_was_killed() {
    let project =
        Project::with(&SMALL.replace("32x18", "160x90").replace("1-24", "1-60").replace("chunk = 6", "chunk = 60"));
    let staged =
        |project: &Project| project.files("renders").into_iter().filter(|name| name.contains(".truepath")).count();
    let mut first = start(&project, &[]);
    crate::support::until("its first file", || staged(&project) > 0);
    // It sleeps while its renderer goes on: what that writes stays in stage.
    signal("-STOP", first.id());
    crate::support::until("all files", || staged(&project) + rendered(&project).len() >= 60);
    let left = staged(&project);
    assert!(left > 20, "{left} in stage");
    first.kill().unwrap();
    first.wait().unwrap();
    let crew: Vec<Child> = (0..6).map(|_| start_telling(&project, &["--share"], Stdio::piped())).collect();
    for run in crew {
        let ended = run.wait_with_output().unwrap();
        assert!(ended.status.success(), "{}", String::from_utf8_lossy(&ended.stderr));
    }
    assert_eq!(rendered(&project), planned(&project));
    let mut landed: Vec<i64> = Vec::new();
    for event in journals(&project).into_values().flatten() {
        match event {
            Event::Landed(one) => landed.push(one.frame),
            Event::Late { frame, .. } => drop(landed.remove(landed.iter().rposition(|own| *own == frame).unwrap())),
            _ => {}
        }
    }
    landed.sort_unstable();
    assert_eq!(landed, (1..=60).collect::<Vec<i64>>(), "each of them once");
}

#[test]
fn a_plain_run_keeps_away_from_those_who_share() {
    let sheet = SMALL.replace("32x18", "160x90").replace("1-24", "1-200");
    let project = Project::with(&sheet.replace("[run]", "[run]\nheartbeat = \"0.2s\"\ntakeover = \"1s\""));
    let mut first = start(&project, &["--share"]);
    crate::support::until("a frame", || !rendered(&project).is_empty());
    let said = project.say("run").ended(4);
    assert!(said.err.contains("already being rendered") && said.err.contains("--share"), "{}", said.err);
    // A worker of another machine whose lock does not reach here: only its signs of life tell.
    let state = project.path(".truepath/truepath");
    let claims: BTreeSet<String> = project.files(".truepath/truepath/claims");
    let worker = claims.iter().find(|name| name.contains("/workers/")).unwrap();
    let text = std::fs::read_to_string(state.join("claims").join(worker)).unwrap();
    first.kill().unwrap();
    first.wait().unwrap();
    let strange = text.replace("\"boot\":\"", "\"boot\":\"elsewhere-");
    assert_ne!(strange, text);
    std::fs::write(state.join("claims").join(worker), strange).unwrap();
    project.say("run").ended(0);
    assert_eq!(rendered(&project), planned(&project));
}

#[test]
fn sixty_four_share_a_folder_and_every_frame_lands_once() {
    let sheet = SMALL.replace("1-24", "1-160").replace("chunk = 6", "chunk = 2");
    let project = Project::with(&sheet);
    let mut members: Vec<Child> = (0..64).map(|_| start(&project, &["--share"])).collect();
    // One in eight dies under way; the others go on without it.
    for (at, member) in members.iter_mut().enumerate().filter(|(at, _)| at % 8 == 3) {
        project.until_written(member, 500 * at as u64);
        signal("-KILL", member.id());
    }
    for member in &mut members {
        member.wait().unwrap();
    }
    project.say("run").ended(0);
    assert_eq!(rendered(&project), planned(&project));
    all_whole(&project, "after sixty-four members");
    let mut landed: BTreeMap<(String, i64), i64> = BTreeMap::new();
    let (mut began, mut who) = (0, BTreeSet::new());
    for (name, events) in journals(&project) {
        let (count, dead) = (events.len(), !matches!(events.last(), Some(Event::Over { .. })));
        for (at, event) in events.into_iter().enumerate() {
            match event {
                Event::Began(_) => began += 1,
                // What a killed member wrote last may not have come to pass.
                Event::Landed(_) if dead && at + 4 >= count => {}
                Event::Landed(own) => {
                    who.insert(name.clone());
                    *landed.entry((own.series, own.frame)).or_default() += 1;
                }
                Event::Late { series, frame } => *landed.entry((series, frame)).or_default() -= 1,
                _ => {}
            }
        }
    }
    assert!(landed.len() > 120, "{} frames are known for certain", landed.len());
    assert!(landed.values().all(|times| *times <= 1), "{landed:?}");
    assert!(who.len() > 4, "{began} members began, and only {} landed anything", who.len());
}
