//! A real cluster scheduler with emulated nodes: tasks are killed, requeued, cancelled and run out of time, nodes are lost.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::Command;

use crate::support::schedulers::{Emulated, landings};
use crate::support::{Project, SMALL, UNDERSTUDY, exporting, has};

const SHEET: &str = r#"
sheet = 1
[roots]
renders = "renders"
[formats.master]
type = "png"
[formats.review]
type = "mp4"
codec = "h264"
[defaults]
adapter = "slow"
fps = 24
size = "64x36"
format = "master"
path = "{renders}/{job}/{pass}/{job}_{pass}.{frame:4}.{ext}"
passes = ["beauty", "depth"]
[[job]]
name = "crossing"
scene = "scenes/crossing.gltf"
camera = "quay"
frames = "1-48"
[[movie]]
name = "review"
of = ["crossing"]
pass = "beauty"
format = "review"
path = "{renders}/{job}/{job}.{ext}"
[checks]
scene-span-not-covered = "off"
[run]
chunk = 2
retries = 2
heartbeat = "1s"
takeover = "4s"
after = [["sh", "-c", "echo \"$0\" >>after", "{outcome}"]]
[run.cluster]
partition = "night"
at_once = 6
"#;

/// A cluster of three nodes that goes with the test.
struct Cluster(Emulated);

impl Cluster {
    fn new(at: u32) -> Cluster {
        // Below the ports that the system gives to whoever asks for any.
        let port = 12_000 + std::process::id() % 250 * 80 + 10 * at;
        Cluster(Emulated::up("cluster", &["3", &port.to_string()]))
    }

    fn conf(&self) -> PathBuf {
        self.0.path("slurm.conf")
    }

    /// What a program of the scheduler prints.
    fn ask(&self, words: &str) -> String {
        let mut words = words.split(' ');
        let said = Command::new(words.next().unwrap()).args(words).env("SLURM_CONF", self.conf()).output().unwrap();
        String::from_utf8_lossy(&said.stdout).into_owned()
    }

    /// State and node of each task, by number.
    fn tasks(&self) -> BTreeMap<String, (String, String)> {
        let line = |line: &str| {
            let mut parts = line.split('|').map(str::to_owned);
            Some((parts.next()?, (parts.next()?, parts.next()?)))
        };
        self.ask("squeue -h -t all -r -o %i|%T|%N").lines().filter_map(line).collect()
    }

    /// Waits until something holds for the tasks.
    fn until(&self, what: &str, holds: impl Fn(&BTreeMap<String, (String, String)>) -> bool) {
        let mut before = BTreeMap::new();
        crate::support::until(what, || {
            let tasks = self.tasks();
            if tasks != before {
                eprintln!("{what}: {tasks:?}");
                before.clone_from(&tasks);
            }
            // Requeued tasks would wait for two minutes.
            for (id, (state, _)) in &tasks {
                if state == "PENDING" && id.contains('_') {
                    self.ask(&format!("scontrol update jobid={id} starttime=now"));
                }
            }
            holds(&tasks)
        });
    }

    fn say(&self, project: &Project, words: &[&str]) -> crate::support::Said {
        project.command().args(words).env("SLURM_CONF", self.conf()).output().unwrap().into()
    }
}

/// A project whose renderer makes the first frames of each task, waits for the file `go` before all others, and hangs once at
/// frames 23-24.
fn project() -> Project {
    let project = Project::with(SHEET);
    let own = env!("CARGO_BIN_EXE_truepath");
    let body = format!(
        "case \"$*\" in *' 23-24 '*) mkdir hung 2>/dev/null && exec sleep 400 ;; esac\n\
         case \"$*\" in *' 1-2 '* | *' 9-10 '* | *' 17-18 '* | *' 25-26 '* | *' 33-34 '* | *' 41-42 '*) ;; \
         *--frames*) until [ -e go ]; do sleep 0.1; done ;; esac\nexec {own} \"$@\""
    );
    project.script("slow", &body);
    let adapter = UNDERSTUDY.replace("program = \"truepath\"", "program = \"bin/slow\"");
    project.write("adapters/slow.toml", adapter.replace("name = \"understudy\"", "name = \"slow\""));
    project
}

/// Submits the plan, and does the worst to its tasks that can happen to them.
fn survives(cluster: &Cluster, words: &[&str]) {
    let project = project();
    let is_guarded = words.is_empty();
    if !is_guarded {
        // A shell cannot end a renderer that hangs.
        std::fs::create_dir(project.path("hung")).unwrap();
    }
    let said =
        cluster.say(&project, &[&["build", "--to", "slurm", "--submit", "--parts", "6"], words].concat()).ended(0);
    let job =
        said.err.lines().find_map(|line| line.strip_prefix("6 tasks: job ")).unwrap_or_else(|| panic!("{said:?}"));
    let task = |at: usize| format!("{job}_{at}");
    let runs = |tasks: &BTreeMap<String, (String, String)>| {
        tasks.iter().filter(|(id, (state, _))| id.starts_with(&format!("{job}_")) && state == "RUNNING").count()
    };
    cluster.until("all tasks run", |tasks| runs(tasks) == 6);
    // Each has begun its first call.
    crate::support::until("a call of each", || project.files(".truepath/truepath/journal").len() >= 6);
    let told = cluster.say(&project, &["status"]);
    assert!(told.out.contains(&format!("task {job}_")), "{}", told.out);
    assert!(told.out.contains("tasks of the cluster"), "{}", told.out);
    assert!(told.out.contains("waiting: Dependency"), "{}", told.out);
    let document = cluster.say(&project, &["status", "--json"]).json();
    let running = document["tasks"].as_array().unwrap().iter().filter(|task| task["state"] == "RUNNING").count();
    assert!(running >= 4, "{document}");

    // The third task hangs: its time runs out, or it is cancelled. The others are killed, cancelled and requeued, and a node is lost.
    let third = if is_guarded { "scontrol update timelimit=1 jobid=" } else { "scancel " };
    cluster.ask(&format!("{third}{}", task(3)));
    cluster.ask(&format!("scancel {}", task(1)));
    cluster.ask(&format!("scancel --batch --signal=KILL {}", task(2)));
    cluster.ask(&format!("scontrol requeue {}", task(4)));
    let node = cluster.tasks()[&task(6)].1.clone();
    let pid = std::fs::read_to_string(cluster.0.path(&format!("run/slurmd.{node}.pid"))).unwrap();
    Command::new("kill").args(["-9", pid.trim()]).status().unwrap();
    cluster.ask(&format!("scontrol update nodename={node} state=down reason=lost"));
    project.write("go", "");

    // The task that ends the plan is cut short as well, once.
    let last = |tasks: &BTreeMap<String, (String, String)>| {
        let of_last = |(id, (state, _)): (&String, &(String, String))| {
            (!id.contains('_') && state == "RUNNING").then(|| id.clone())
        };
        tasks.iter().find_map(of_last)
    };
    cluster.until("the last task runs", |tasks| last(tasks).is_some());
    if let Some(id) = last(&cluster.tasks()) {
        cluster.ask(&format!("scancel {id}"));
    }
    cluster.until("all is over", is_over);
    let tries =
        project.files(".truepath/truepath/logs/slurm").into_iter().find(|name| name.ends_with(".tries")).unwrap();
    let tries = project.path(".truepath/truepath/logs/slurm").join(tries);
    assert!(std::fs::read_to_string(tries).unwrap().lines().count() <= 3);
    let logs = || {
        let files = project.files(".truepath/truepath/logs/slurm");
        let text =
            |name: &String| std::fs::read_to_string(project.path(&format!(".truepath/truepath/logs/slurm/{name}")));
        files.iter().map(|name| format!("--- {name}\n{}", text(name).unwrap_or_default())).collect::<String>()
    };
    let verified = cluster.say(&project, &["verify", "--deep"]);
    assert_eq!(verified.code, 0, "{}\n{}\n{:?}", verified.out, logs(), cluster.tasks());
    let count = landings(&project);
    assert_eq!(count.len(), 2 * 48 + 1, "{count:?}");
    let twice: Vec<_> = count.iter().filter(|(_, times)| **times != 1).collect();
    assert!(twice.is_empty(), "{twice:?}\n{}", logs());
    assert_eq!(std::fs::read_to_string(project.path("after")).unwrap(), "complete\n", "{}", logs());
}

#[test]
fn a_plan_ends_complete_whatever_happens_to_its_tasks() {
    if has("slurmctld") {
        survives(&Cluster::new(0), &[]);
    }
}

#[test]
fn so_does_one_on_nodes_without_this_program() {
    if has("slurmctld") {
        survives(&Cluster::new(1), &["--plain"]);
    }
}

#[test]
fn calls_go_through_a_program_into_a_queue_with_dependencies() {
    if !has("slurmctld") || !has("python3") {
        return;
    }
    let cluster = Cluster::new(2);
    let project = project();
    project.write("go", "");
    std::fs::create_dir(project.path("hung")).unwrap();
    let program = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/examples/submit.py");
    cluster.say(&project, &["build", "--guarded", "--through", program, "--frames", "1-8"]).ended(0);
    let said = cluster.say(&project, &["build", "--guarded", "--chunk", "8", "--through", program]).ended(0);
    assert!(said.out.contains("8 calls submitted"), "{}", said.out);
    let over = |tasks: &BTreeMap<String, (String, String)>| tasks.values().all(|(state, _)| state == "COMPLETED");
    cluster.until("all is over", over);
    cluster.say(&project, &["verify"]).ended(0);
    assert!(landings(&project).values().all(|times| *times == 1));
    // The movie waited for its frames.
    let movie = project.path("renders/crossing/crossing.mp4").metadata().unwrap().modified().unwrap();
    let frames = project.files("renders/crossing/beauty");
    let newest = frames
        .iter()
        .map(|name| project.path(&format!("renders/crossing/beauty/{name}")).metadata().unwrap().modified().unwrap());
    assert!(newest.max().unwrap() <= movie);
}

/// A small sheet with a command that comes after the plan.
fn cluster_sheet() -> String {
    let after = "[run]\nafter = [[\"sh\", \"-c\", \"echo \\\"$0\\\" >>after\", \"{outcome}\"]]";
    SMALL.replace("[run]", after).replace("chunk = 6", "chunk = 2")
}

/// Whether nothing of a cluster is under way.
fn is_over(tasks: &BTreeMap<String, (String, String)>) -> bool {
    !tasks.values().any(|(state, _)| ["RUNNING", "PENDING", "COMPLETING"].contains(&state.as_str()))
}

#[test]
fn submissions_stand_beside_each_other_and_a_held_task_holds_up_no_end() {
    if !has("slurmctld") {
        return;
    }
    let cluster = Cluster::new(4);
    let project = project();
    std::fs::create_dir(project.path("hung")).unwrap();
    let submit = |words: &[&str]| {
        cluster.say(&project, &[&["build", "--to", "slurm", "--submit", "--parts", "4"], words].concat())
    };
    let said = submit(&[]).ended(0);
    let job = said.err.lines().find_map(|line| line.strip_prefix("4 tasks: job ")).unwrap().to_owned();
    // The same plan is under way, and says what to do.
    let again = submit(&[]).ended(4);
    assert!(again.err.contains("this plan is being rendered: jobs ") && again.err.contains(&job), "{}", again.err);
    assert!(again.err.contains("scancel "), "{}", again.err);
    // A part of it runs beside it, and ends nothing of the other.
    submit(&["crossing", "--frames", "1-8"]).ended(0);
    // A task that the scheduler holds is named with what frees it.
    let third = format!("{job}_3");
    cluster.until("it runs", |tasks| tasks.get(&third).is_some_and(|(state, _)| state == "RUNNING"));
    cluster.ask(&format!("scontrol requeuehold {third}"));
    crate::support::until("it is named", || {
        cluster.say(&project, &["status"]).out.contains(&format!("scontrol release {third}"))
    });
    // The controller is away: it is said at once, and nobody is told to render what is being rendered.
    let controller = std::fs::read_to_string(cluster.0.path("run/slurmctld.pid")).unwrap();
    let signal = |name: &str| Command::new("kill").args([name, controller.trim()]).status().unwrap();
    signal("-STOP");
    let away = cluster.say(&project, &["status"]);
    let document = cluster.say(&project, &["status", "--json"]).json();
    signal("-CONT");
    assert!(away.out.contains("unknown what the tasks of the cluster do: squeue did not answer"), "{}", away.out);
    assert!(!away.out.contains("truepath run"), "{}", away.out);
    assert!(document["scheduler"].is_string() && document["fix"] == serde_json::json!([]), "{document}");
    project.write("go", "");
    cluster.until("all is over", is_over);
    cluster.say(&project, &["verify", "--deep"]).ended(0);
    let twice: Vec<_> = landings(&project).into_iter().filter(|(_, times)| *times != 1).collect();
    assert!(twice.is_empty(), "{twice:?}");
    // Each plan has its end, once.
    assert_eq!(std::fs::read_to_string(project.path("after")).unwrap(), "complete\ncomplete\n");
    // All is there: another submission finds nothing to do, and says nothing again.
    submit(&[]).ended(0);
    cluster.until("all is over", is_over);
    assert_eq!(std::fs::read_to_string(project.path("after")).unwrap(), "complete\ncomplete\n");
}

#[test]
fn tasks_that_are_all_held_keep_the_end_waiting_no_longer_than_until_the_next_look() {
    if !has("slurmctld") {
        return;
    }
    let cluster = Cluster::new(5);
    let project = project();
    std::fs::create_dir(project.path("hung")).unwrap();
    let submit = || {
        let said = cluster.say(&project, &["build", "--to", "slurm", "--submit", "--parts", "2"]).ended(0);
        said.err.lines().find_map(|line| line.strip_prefix("2 tasks: job ")).unwrap().to_owned()
    };
    let all = |tasks: &BTreeMap<String, (String, String)>, job: &str, wanted: &str| {
        (1..=2).all(|at| tasks.get(&format!("{job}_{at}")).is_some_and(|(state, _)| state == wanted))
    };
    // The jobs that look, in their order.
    let looks = || -> Vec<u64> {
        let files = project.files(".truepath/truepath");
        let texts = files.iter().filter(|name| name.ends_with(".watch"));
        let texts = texts.map(|name| std::fs::read_to_string(project.path(".truepath/truepath").join(name)).unwrap());
        let mut all: Vec<u64> =
            texts.flat_map(|text| text.lines().map(|id| id.parse().unwrap()).collect::<Vec<_>>()).collect();
        all.sort_unstable();
        all
    };
    let look_now = || cluster.ask(&format!("scontrol update jobid={} starttime=now", looks().last().unwrap()));
    // While tasks work, a look leaves them alone, and another one follows; it goes when the plan ends.
    let job = submit();
    cluster.until("both run", |tasks| all(tasks, &job, "RUNNING"));
    look_now();
    crate::support::until("another look", || looks().len() == 2);
    project.write("go", "");
    cluster.until("all is over", is_over);
    assert_eq!(std::fs::read_to_string(project.path("after")).unwrap(), "complete\n");
    // All tasks are held before any of them has begun: nobody but the look is there to free the end.
    std::fs::remove_dir_all(project.path("renders")).unwrap();
    cluster.ask("scontrol update nodename=ALL state=drain reason=test");
    let job = submit();
    cluster.ask(&format!("scontrol hold {job}"));
    cluster.ask("scontrol update nodename=ALL state=resume");
    look_now();
    cluster.until("all is over", is_over);
    assert!(all(&cluster.tasks(), &job, "CANCELLED"), "{:?}", cluster.tasks());
    cluster.say(&project, &["verify", "--deep"]).ended(0);
}

#[test]
fn a_scene_is_exported_once_before_the_tasks_that_need_it() {
    if !has("slurmctld") {
        return;
    }
    let cluster = Cluster::new(3);
    for words in [&[][..], &["--plain"][..]] {
        let sheet = SHEET.replace("scenes/crossing.gltf", "scenes/tower.scn").replace("\"quay\"", "\"cliff\"");
        let sheet = sheet
            .replace("frames = \"1-48\"", "frames = \"1-8\"\nexport = \"glb\"")
            .replace("\"slow\"", "\"understudy\"");
        let project = Project::with(&sheet);
        project.write("scenes/tower.scn", std::fs::read(project.path("scenes/lighthouse.glb")).unwrap());
        project.script("export", "echo one >>exported\ncp \"$1\" \"$2\"\n");
        std::fs::remove_file(project.path("adapters/export.toml")).unwrap();
        let adapter = "adapter = 1\nname = \"glb\"\nkind = \"exporter\"\nprogram = \"bin/export\"\narguments = [\"{scene}\", \"{out}\"]\n[out]\nwrites = [\"{out_stem}.glb\"]\n";
        project.write("adapters/glb.toml", adapter);
        let submit = [&["build", "--to", "slurm", "--submit", "--parts", "3"], words].concat();
        let said = cluster.say(&project, &submit).ended(0);
        assert!(said.err.contains("what comes before the first frame: job "), "{}", said.err);
        cluster.until("all is over", is_over);
        cluster.say(&project, &["verify"]).ended(0);
        let exported = std::fs::read_to_string(project.path("exported")).unwrap();
        assert_eq!(exported.lines().count(), 1, "{words:?}");
    }
    // Through another queue: the export is a call, and the end is one.
    if !has("python3") {
        return;
    }
    let program = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/examples/submit.py");
    let project = exporting(&cluster_sheet(), "1-8", "echo one >>exported\ncp \"$1\" \"$2\"\n");
    let said = cluster.say(&project, &["build", "--guarded", "--through", program]).ended(0);
    assert!(said.out.contains("6 calls submitted"), "{}", said.out);
    cluster.until("all is over", is_over);
    cluster.say(&project, &["verify"]).ended(0);
    assert_eq!(std::fs::read_to_string(project.path("exported")).unwrap(), "one\n");
    assert_eq!(std::fs::read_to_string(project.path("after")).unwrap(), "complete\n");
}
