//! Where a project is opened: folders, user, machine, time. Whoever opens one finds them out; nothing here reads them from the
//! environment.

use std::collections::BTreeSet;
use std::path::PathBuf;

use truepath_core::run::event::Task;
use truepath_core::sheet::System;

/// What is to be known of a process and its machine.
#[derive(Clone, Debug)]
pub struct Surroundings {
    /// The current folder, absolute: where a sheet is looked for, and from where paths are shown.
    pub folder: PathBuf,
    /// The user's home folder.
    pub home: Option<PathBuf>,
    /// The user's own configuration of True Path: the machine file, adapters, and which folders are trusted.
    pub configuration: Option<PathBuf>,
    /// Folders for temporary files, in which no output should be.
    pub temporary: Vec<PathBuf>,
    /// The full path of the program `truepath`, which adapters and scripts call.
    pub program: PathBuf,
    /// Folders in which programs are looked for, in their order.
    pub search_path: Vec<PathBuf>,
    /// The names of all environment variables that have a value.
    pub variables: BTreeSet<String>,
    /// The user's name.
    pub user: Option<String>,
    /// The machine's name.
    pub host: String,
    /// The task of a cluster's scheduler that the process runs in.
    pub task: Option<Task>,
    /// The operating system for which paths and programs are chosen.
    pub system: System,
    /// The time that counts as now, in seconds since 1970; `None` for the clock of the machine.
    pub fixed: Option<i64>,
}

impl Surroundings {
    /// A folder of which nothing else is known: no user, no configuration, no programs.
    pub fn at(folder: impl Into<PathBuf>) -> Surroundings {
        Surroundings {
            folder: folder.into(),
            home: None,
            configuration: None,
            temporary: Vec::new(),
            program: "truepath".into(),
            search_path: Vec::new(),
            variables: BTreeSet::new(),
            user: None,
            host: String::new(),
            task: None,
            system: system(),
            fixed: None,
        }
    }

    /// The time of day.
    #[must_use]
    pub fn now(&self) -> jiff::Zoned {
        let fixed = self.fixed.and_then(|seconds| jiff::Timestamp::from_second(seconds).ok());
        fixed.map_or_else(jiff::Zoned::now, |time| time.to_zoned(jiff::tz::TimeZone::system()))
    }
}

/// The operating system that this is.
#[must_use]
pub fn system() -> System {
    if cfg!(windows) {
        System::Windows
    } else if cfg!(target_os = "macos") {
        System::Macos
    } else {
        System::Linux
    }
}
