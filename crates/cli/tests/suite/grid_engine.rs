//! Another real scheduler: Grid Engine with emulated hosts. Tasks are cancelled, and a host is lost.

use std::collections::BTreeMap;
use std::process::Command;

use crate::support::schedulers::{Emulated, landings};
use crate::support::{Project, SMALL, UNDERSTUDY, has, until};

/// A cluster of two hosts that goes with the test.
struct Cluster(Emulated);

impl Cluster {
    fn new() -> Cluster {
        Cluster(Emulated::up("grid-engine", &["2", "2"]))
    }

    /// The path with its clients.
    fn path(&self) -> String {
        format!("{}:{}", self.0.path("bin").display(), std::env::var("PATH").unwrap())
    }

    fn ask(&self, words: &[&str]) -> String {
        let said = Command::new(self.0.path("bin").join(words[0])).args(&words[1..]).output().unwrap();
        String::from_utf8_lossy(&said.stdout).into_owned()
    }

    fn say(&self, project: &Project, words: &[&str]) -> crate::support::Said {
        project.command().args(words).env("PATH", self.path()).output().unwrap().into()
    }

    /// Jobs and places of tasks that are under way, by host.
    fn running(&self) -> BTreeMap<String, String> {
        let listing = self.ask(&["qstat", "-u", "*", "-g", "d"]);
        let line = |line: &str| {
            let words: Vec<&str> = line.split_whitespace().collect();
            let host = words.iter().find_map(|word| word.split_once("all.q@"))?.1;
            Some((host.to_owned(), format!("{}.{}", words[0], words.last()?)))
        };
        listing.lines().filter_map(line).collect()
    }

    fn is_idle(&self) -> bool {
        self.ask(&["qstat", "-u", "*"]).trim().is_empty()
    }
}

/// A project whose renderer waits until it is let go.
fn project() -> Project {
    let sheet = SMALL.replace("\"understudy\"", "\"slow\"").replace("chunk = 6", "chunk = 2");
    let run = "heartbeat = \"1s\"\ntakeover = \"5s\"\nworkers = 1\nafter = [[\"sh\", \"-c\", \"echo \\\"$0\\\" >>after\", \"{outcome}\"]]\n[run.cluster]\npriority = -10\noptions = [\"-l lic=0\"]\n";
    let project = Project::with(&(sheet + run));
    let own = env!("CARGO_BIN_EXE_truepath");
    let home = project.path("");
    let home = home.display();
    let body = format!(
        "case \"$1 $2\" in 'understudy render') echo x >>'{home}/started'; until [ -e '{home}/go' ]; do sleep 0.05; done ;; esac\nexec {own} \"$@\""
    );
    project.script("slow", &body);
    let adapter = UNDERSTUDY.replace("program = \"truepath\"", "program = \"bin/slow\"");
    project.write("adapters/slow.toml", adapter.replace("name = \"understudy\"", "name = \"slow\""));
    project
}

#[test]
fn a_plan_ends_complete_though_a_task_is_cancelled_and_a_host_is_lost() {
    if !has("sge_qmaster") {
        return;
    }
    let cluster = Cluster::new();
    for plain in [&[][..], &["--plain"][..]] {
        let project = project();
        let started = || std::fs::read_to_string(project.path("started")).map_or(0, |text| text.lines().count());
        let submit = |words: &[&str]| {
            cluster
                .say(&project, &[&["build", "--to", "grid-engine", "--submit", "--parts", "6"], plain, words].concat())
        };
        let said = submit(&[]).ended(0);
        assert!(said.err.contains("6 tasks: job ") && said.err.contains("the end of the plan: job "), "{}", said.err);
        until("renderers on both hosts", || started() >= 4 && cluster.running().len() == 2);
        // The same plan is under way, and says what to do.
        let again = submit(&[]).ended(4);
        assert!(
            again.err.contains("this plan is being rendered: jobs ") && again.err.contains("qdel "),
            "{}",
            again.err
        );
        let status = cluster.say(&project, &["status"]).out;
        for part in
            ["tasks of the cluster", " running on n1 since ", " running on n2 since ", "waiting: for another job"]
        {
            assert!(status.contains(part), "{part}: {status}");
        }
        let lost = cluster.running();
        cluster.ask(&["qdel", &lost["n2"]]);
        cluster.ask(&["ge-host", "n1", "plug-out"]);
        project.write("go", "");
        until("the other host is done", || cluster.running().keys().all(|host| host != "n2"));
        cluster.ask(&["ge-host", "n1", "boot"]);
        cluster.ask(&["ge-host", "n1", "start-exec"]);
        until("all is over", || cluster.is_idle());
        cluster.say(&project, &["verify", "--deep"]).ended(0);
        let landings = landings(&project);
        assert!(landings.len() == 24 && landings.values().all(|times| *times == 1), "{landings:?}");
        assert_eq!(std::fs::read_to_string(project.path("after")).unwrap(), "complete\n");
        // The journals say which task made what.
        let log = cluster.say(&project, &["status", "--json"]).json();
        assert_eq!(log["tasks"], serde_json::json!([]), "{log}");
        // Nothing is left to do: the end says nothing again, where this program is there to know.
        if plain.is_empty() {
            submit(&[]).ended(0);
            until("all is over", || cluster.is_idle());
            assert_eq!(std::fs::read_to_string(project.path("after")).unwrap(), "complete\n");
        }
    }
}

#[test]
fn what_the_scheduler_refuses_is_said_with_what_to_do() {
    if !has("sge_qmaster") {
        return;
    }
    let cluster = Cluster::new();
    let project = project();
    let sheet = std::fs::read_to_string(project.path("truepath.toml")).unwrap();
    for (wish, code, said) in [
        ("licences = { harbour = 1 }", 4, "unknown resource"),
        ("threads = 2", 2, "parallel_environment"),
        ("threads = 2\nparallel_environment = \"smp\"", 0, "tasks: job "),
    ] {
        project.write("truepath.toml", sheet.replace("priority = -10", wish));
        let out = cluster.say(&project, &["build", "--to", "grid-engine", "--submit"]).ended(code);
        assert!(out.err.contains(said), "{wish}: {}", out.err);
    }
    cluster.ask(&["qdel", "-u", "*"]);
}
