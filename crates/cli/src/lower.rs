//! The one place that reads the environment: where we are, who we are, and what the terminal can do.

use std::io::IsTerminal;
use std::ops::Deref;
use std::path::PathBuf;
use std::sync::OnceLock;

use truepath_core::run::event::Task;

/// What this process finds around it.
#[derive(Clone, Debug)]
pub struct Around {
    /// Where it is, and who it is.
    pub here: truepath_project::Surroundings,
    /// How standard output is drawn.
    pub out: Screen,
    /// How standard error is drawn.
    pub err: Screen,
}

impl Deref for Around {
    type Target = truepath_project::Surroundings;

    fn deref(&self) -> &truepath_project::Surroundings {
        &self.here
    }
}

/// How text is drawn.
#[derive(Clone, Copy, Debug)]
pub struct Screen {
    /// Colours may be used.
    pub colour: bool,
    /// It is a terminal, so that lines can be drawn over.
    pub terminal: bool,
    /// Columns.
    pub width: usize,
    /// Characters beyond ASCII may be used.
    pub unicode: bool,
}

/// The task of a cluster that this process runs in: sbatch(1), "output environment variables", and qsub(1), "environmental
/// variables".
fn task() -> Option<Task> {
    let text = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let slurm = || {
        let of_array = || Some(format!("{}_{}", text("SLURM_ARRAY_JOB_ID")?, text("SLURM_ARRAY_TASK_ID")?));
        let id = of_array().or_else(|| text("SLURM_JOB_ID"))?;
        let node = text("SLURMD_NODENAME").unwrap_or_default();
        Some(Task { id, name: text("SLURM_JOB_NAME").unwrap_or_default(), node })
    };
    let grid_engine = || {
        let place = text("SGE_TASK_ID")?;
        let job = text("JOB_ID")?;
        let id = if place == "undefined" { job } else { format!("{job}.{place}") };
        Some(Task { id, name: text("JOB_NAME").unwrap_or_default(), node: text("HOSTNAME").unwrap_or_default() })
    };
    slurm().or_else(grid_engine)
}

/// Reads the environment once.
pub fn surroundings() -> std::io::Result<Around> {
    let variable = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty());
    let plain = variable("NO_COLOR").is_some() || variable("TERM").is_some_and(|term| term == "dumb");
    let locale = ["LC_ALL", "LC_CTYPE", "LANG"].iter().find_map(|name| variable(name)).unwrap_or_default();
    let locale = locale.to_string_lossy().to_ascii_lowercase();
    // A terminal without a locale is most often a modern one; only a named other encoding is taken at its word.
    let unicode = locale.is_empty() || locale == "c" || locale == "posix" || locale.contains("utf");
    let screen = |terminal: bool, size: Option<(terminal_size::Width, terminal_size::Height)>| Screen {
        colour: terminal && !plain,
        terminal,
        width: size.map(|(width, _)| usize::from(width.0)).filter(|width| terminal && *width >= 20).unwrap_or(100),
        unicode,
    };
    let (out, err) = (std::io::stdout(), std::io::stderr());
    let mut temporary =
        vec![PathBuf::from("/tmp"), PathBuf::from("/var/tmp"), PathBuf::from("/dev/shm"), std::env::temp_dir()];
    temporary.dedup();
    let home = std::env::home_dir().filter(|home| !home.as_os_str().is_empty());
    let variables = std::env::vars_os().filter(|(_, value)| !value.is_empty());
    let here = truepath_project::Surroundings {
        folder: std::env::current_dir()?,
        search_path: std::env::split_paths(&std::env::var_os("PATH").unwrap_or_default()).collect(),
        variables: variables.filter_map(|(name, _)| name.into_string().ok()).collect(),
        configuration: variable("XDG_CONFIG_HOME")
            .or_else(|| variable("APPDATA").filter(|_| cfg!(windows)))
            .map(PathBuf::from)
            .or_else(|| home.as_ref().map(|home| home.join(".config")))
            .map(|folder| folder.join("truepath")),
        home,
        temporary,
        program: std::env::current_exe()?,
        user: ["USER", "LOGNAME", "USERNAME"]
            .iter()
            .find_map(|name| variable(name))
            .map(|name| name.to_string_lossy().into_owned())
            .or_else(truepath_exec::process::user),
        host: gethostname::gethostname().to_string_lossy().into_owned(),
        task: task(),
        system: truepath_project::system(),
        fixed: variable("SOURCE_DATE_EPOCH").and_then(|seconds| seconds.to_str()?.parse().ok()),
    };
    Ok(Around {
        here,
        out: screen(out.is_terminal(), terminal_size::terminal_size_of(&out)),
        err: screen(err.is_terminal(), terminal_size::terminal_size_of(&err)),
    })
}

/// What is wrong with the environment, with what to do about it; `None` where nothing is. Some of it would never end.
#[must_use]
pub fn strange_environment() -> Option<(String, &'static str)> {
    // POSIX: a path behind an optional colon, or the rule itself.
    let zone = std::env::var_os("TZ").unwrap_or_default();
    let path = PathBuf::from(zone.to_string_lossy().trim_start_matches(':'));
    if path.is_absolute() && !path.is_file() {
        let help = "unset TZ, or give the name of a time zone such as Europe/Lisbon";
        return Some((format!("TZ is {}, which is not a file that describes a time zone", path.display()), help));
    }
    let shell = std::env::var(COMPLETE).ok().filter(|shell| !shell.is_empty())?;
    let is_asked = SHELLS.contains(&shell.as_str()) && std::env::args_os().any(|word| word == "--");
    (!is_asked).then(|| {
        let message = format!("{COMPLETE} is set to {shell}, as only a shell sets it that asks what to complete");
        (message, "unset it and run the command again")
    })
}

/// The shells that ask what to complete.
const SHELLS: [&str; 4] = ["bash", "zsh", "fish", "powershell"];

/// The variable in which a shell that asks what to complete says which one it is.
pub const COMPLETE: &str = "TRUEPATH_COMPLETE";

/// A shell that asks what to complete.
pub struct AskingShell {
    /// The shell's name.
    pub shell: String,
    /// This process's arguments: the line that it asks about stands behind `--`.
    pub words: Vec<std::ffi::OsString>,
}

/// The shell that asks what to complete, where one does. It is kept: whoever answers takes the variable away, so that no
/// program started meanwhile answers, too.
pub fn asking() -> Option<&'static AskingShell> {
    static ASKING: OnceLock<Option<AskingShell>> = OnceLock::new();
    let look = || {
        let shell = std::env::var(COMPLETE).ok().filter(|shell| !shell.is_empty())?;
        Some(AskingShell { shell, words: std::env::args_os().collect() })
    };
    ASKING.get_or_init(look).as_ref()
}

/// Columns and rows of the terminal that standard error is, as it is at this moment: it may be resized under way.
pub fn terminal_now() -> Option<(usize, usize)> {
    let size = terminal_size::terminal_size_of(std::io::stderr());
    size.map(|(columns, rows)| (usize::from(columns.0), usize::from(rows.0))).filter(|(columns, _)| *columns >= 20)
}

/// Sets up what True Path says about itself: `-v`, `-vv`, or `TRUEPATH_LOG` (such as `debug` or `truepath=debug`).
pub fn tracing(verbose: u8) {
    use tracing_subscriber::filter::{LevelFilter, Targets};
    use tracing_subscriber::layer::SubscriberExt;
    use tracing_subscriber::util::SubscriberInitExt;
    let level = [LevelFilter::WARN, LevelFilter::INFO, LevelFilter::DEBUG].get(usize::from(verbose)).copied();
    let typed = Targets::new().with_target("truepath", level.unwrap_or(LevelFilter::TRACE));
    let filter = std::env::var("TRUEPATH_LOG").ok().and_then(|filter| filter.parse().ok()).unwrap_or(typed);
    let colour = std::io::stderr().is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty());
    let lines = tracing_subscriber::fmt::layer().with_writer(std::io::stderr).without_time().with_ansi(colour);
    tracing_subscriber::registry().with(filter).with(lines).init();
}
