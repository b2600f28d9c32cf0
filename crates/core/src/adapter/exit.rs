//! How programs end, and what an adapter says of that: `[exit]`.

use serde::{Deserialize, Serialize};

/// A signal that a program brings upon itself when it fails: named as in POSIX (`<signal.h>`), without `SIG`. Those that
/// others send, such as KILL and TERM, are none: a program that was ended by others has not finished.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
pub enum Crash {
    /// It gave up: `abort()`.
    Abrt,
    /// Memory that is not there any more, such as that of a file that was cut.
    Bus,
    /// A division by zero.
    Fpe,
    /// An instruction that this processor does not have.
    Ill,
    /// Nobody read what it printed.
    Pipe,
    /// Memory that is not its own.
    Segv,
    /// A system call that is not there.
    Sys,
    /// A check within it failed.
    Trap,
}

/// Every such signal: its name, its number on Linux, and the exit codes that Windows gives for the same fault (NTSTATUS values
/// of `ntstatus.h`; 3 is what `abort()` of the C library exits with).
const CRASHES: [(Crash, &str, i32, &[u32]); 8] = [
    (Crash::Abrt, "ABRT", 6, &[3, 0xC000_0409]),
    (Crash::Bus, "BUS", 7, &[0xC000_0006]),
    (Crash::Fpe, "FPE", 8, &[0xC000_0094, 0xC000_008E]),
    (Crash::Ill, "ILL", 4, &[0xC000_001D]),
    (Crash::Pipe, "PIPE", 13, &[0xC000_014B]),
    (Crash::Segv, "SEGV", 11, &[0xC000_0005, 0xC000_00FD]),
    (Crash::Sys, "SYS", 31, &[0xC000_001C]),
    (Crash::Trap, "TRAP", 5, &[0x8000_0003]),
];

/// What a shell adds to the number of the signal that ended a program (POSIX.1-2024, XCU 2.8.2).
const BY_SIGNAL: i64 = 128;

impl Crash {
    /// The signal with a name.
    #[must_use]
    pub fn by_name(name: &str) -> Option<Crash> {
        CRASHES.iter().find(|(_, own, ..)| *own == name).map(|(crash, ..)| *crash)
    }

    /// All names.
    pub fn names() -> impl Iterator<Item = &'static str> {
        CRASHES.iter().map(|(_, name, ..)| *name)
    }

    /// The signal with a number of this system; `numbers` gives the system's own numbers where they differ from Linux.
    #[must_use]
    pub fn by_number(number: i32) -> Option<Crash> {
        CRASHES.iter().find(|(_, _, own, _)| *own == number).map(|(crash, ..)| *crash)
    }

    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        self.row().1
    }

    /// Its number on Linux.
    #[must_use]
    pub fn number(self) -> i32 {
        self.row().2
    }

    fn row(self) -> &'static (Crash, &'static str, i32, &'static [u32]) {
        CRASHES.iter().find(|(own, ..)| *own == self).unwrap_or(&CRASHES[0])
    }

    /// The exit codes that tell of it where a shell or Windows stands between: 139 for SEGV, and what Windows gives.
    pub fn codes(self) -> impl Iterator<Item = i64> {
        let (_, _, number, windows) = self.row();
        // Windows gives 32 bits, which some read with a sign.
        let windows = windows.iter().flat_map(|code| [i64::from(*code), i64::from(code.cast_signed())]);
        std::iter::once(BY_SIGNAL + i64::from(*number)).chain(windows)
    }
}

/// How a program ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ending {
    /// With an exit code.
    Code(i64),
    /// By a signal that it brought upon itself.
    Crash(Crash),
    /// By another signal: somebody ended it.
    Signal(i32),
}

impl Ending {
    /// As the system tells it: an exit code, or the number of a signal.
    #[must_use]
    pub fn of(code: Option<i32>, signal: Option<i32>) -> Ending {
        match (code, signal) {
            (Some(code), _) => Ending::Code(i64::from(code)),
            (None, Some(signal)) => Crash::by_number(signal).map_or(Ending::Signal(signal), Ending::Crash),
            (None, None) => Ending::Signal(0),
        }
    }

    /// The exit code.
    #[must_use]
    pub fn code(self) -> Option<i32> {
        if let Ending::Code(code) = self { i32::try_from(code).ok() } else { None }
    }

    /// How it is written into an adapter: `11`, or `"SEGV"`; `None` for what no program brings upon itself.
    #[must_use]
    pub fn written(self) -> Option<String> {
        match self {
            Ending::Code(code) => Some(code.to_string()),
            Ending::Crash(crash) => Some(format!("\"{}\"", crash.name())),
            Ending::Signal(_) => None,
        }
    }

    /// In words.
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Ending::Code(code) => format!("ended with {code}"),
            Ending::Crash(crash) => format!("was ended by the signal {}", crash.name()),
            Ending::Signal(_) => "was ended by a signal".to_owned(),
        }
    }
}

/// What an adapter says of the end of its program.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExitRules {
    /// Exit codes of success.
    pub ok: Vec<i64>,
    /// Signals after which its files may be good all the same.
    pub crashes: Vec<Crash>,
    /// Whether its files are whole after one of these signals.
    pub whole: bool,
}

impl Default for ExitRules {
    fn default() -> ExitRules {
        ExitRules { ok: vec![0], crashes: Vec::new(), whole: false }
    }
}

impl ExitRules {
    /// Whether the adapter knows of an end: the program has not failed.
    #[must_use]
    pub fn knows(&self, ending: Ending) -> bool {
        match ending {
            Ending::Code(code) => {
                self.ok.contains(&code) || self.crashes.iter().any(|crash| crash.codes().any(|own| own == code))
            }
            Ending::Crash(crash) => self.crashes.contains(&crash),
            Ending::Signal(_) => false,
        }
    }

    /// Whether the files of a program that ended so are believed to be whole.
    #[must_use]
    pub fn is_good(&self, ending: Ending) -> bool {
        match ending {
            Ending::Code(code) if self.ok.contains(&code) => true,
            _ => self.whole && self.knows(ending),
        }
    }

    /// Exit codes after which files are believed to be whole, where a shell says how the program ended.
    #[must_use]
    pub fn good_codes(&self) -> Vec<i64> {
        let crashes = self.crashes.iter().filter(|_| self.whole).flat_map(|crash| crash.codes());
        self.ok.iter().copied().chain(crashes).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::{Crash, Ending, ExitRules};

    #[test]
    fn an_end_is_good_where_the_adapter_says_so_and_nowhere_else() {
        let mut exit = ExitRules { ok: vec![0, 3], crashes: vec![Crash::Segv], whole: false };
        let segv = [Ending::Crash(Crash::Segv), Ending::Code(139), Ending::Code(-1_073_741_819)];
        for ending in segv {
            assert!(exit.knows(ending) && !exit.is_good(ending), "{ending:?}");
        }
        exit.whole = true;
        assert!(segv.into_iter().chain([Ending::Code(0), Ending::Code(3)]).all(|ending| exit.is_good(ending)));
        let bad = [Ending::Code(1), Ending::Code(11), Ending::Code(134), Ending::Crash(Crash::Abrt), Ending::Signal(9)];
        assert!(!bad.into_iter().any(|ending| exit.knows(ending) || exit.is_good(ending)));
        assert_eq!(Crash::by_name("KILL").or(Crash::by_name("TERM")).or(Crash::by_number(9)), None);
        assert!(Crash::names().all(|name| Crash::by_name(name).is_some_and(|crash| crash.name() == name)));
    }
}
