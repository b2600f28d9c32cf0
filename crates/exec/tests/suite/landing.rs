//! Landing with a file system that refuses one step after the other: a name bears a whole file or nothing, and the journal
//! says what came to pass.

use std::fs::File;
use std::io::{Error, ErrorKind, Result};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::support::{Act, Fakes, Night};
use truepath_core::invoke::stage::stage_base;
use truepath_core::run::event::Event;
use truepath_exec::failure::Trouble;
use truepath_exec::landing::recover::recover;
use truepath_exec::landing::stage::Folders;
use truepath_exec::landing::{Disk, Fate, Landing, Moves, land};

/// What a file system answers to each of its steps, in their order; what comes after them is done.
struct Answers {
    list: Vec<(&'static str, Option<ErrorKind>)>,
    at: AtomicUsize,
    /// Whether a copy that fails has written half of it.
    torn: bool,
}

impl Answers {
    fn next(&self, step: &str) -> Result<()> {
        let at = self.at.fetch_add(1, Ordering::SeqCst);
        match self.list.get(at) {
            Some((expected, answer)) => {
                assert_eq!(*expected, step, "step {at}");
                answer.map_or(Ok(()), |kind| Err(Error::from(kind)))
            }
            None => Ok(()),
        }
    }
}

impl Moves for Answers {
    fn rename(&self, from: &Path, to: &Path, over: bool) -> Result<()> {
        self.next("rename").inspect_err(|error| {
            // Somebody has taken the file away.
            if error.kind() == ErrorKind::NotFound {
                std::fs::remove_file(from).unwrap();
            }
        })?;
        Disk.rename(from, to, over)
    }

    fn copy(&self, from: &Path, to: &Path) -> Result<()> {
        if let Err(error) = self.next("copy") {
            if self.torn {
                let bytes = std::fs::read(from)?;
                std::fs::write(to, &bytes[..bytes.len() / 2])?;
            }
            return Err(error);
        }
        Disk.copy(from, to)
    }

    fn sync(&self, file: &File) -> Result<()> {
        self.next("sync")?;
        Disk.sync(file)
    }
}

#[test]
fn every_way_to_a_final_name_ends_whole_or_absent() {
    use ErrorKind::{AlreadyExists, CrossesDevices, NotFound, PermissionDenied, ReadOnlyFilesystem, StorageFull};
    let sync = ("sync", None);
    let across = ("rename", Some(CrossesDevices));
    for (list, what, stands) in [
        (vec![sync, ("rename", None)], "landed", false),
        (vec![("sync", Some(StorageFull))], "cannot write", false),
        (vec![sync, ("rename", Some(ReadOnlyFilesystem))], "cannot write", false),
        (vec![sync, ("rename", Some(AlreadyExists))], "late", false),
        (vec![sync, ("rename", Some(NotFound))], "NotThere", false),
        (vec![sync, ("rename", Some(NotFound))], "late", true),
        (vec![sync, across, ("copy", None), ("rename", None)], "landed", false),
        (vec![sync, across, ("copy", Some(StorageFull))], "cannot write", false),
        (vec![sync, across, ("copy", None), ("rename", Some(PermissionDenied))], "cannot write", false),
        (vec![sync, across, ("copy", None), ("rename", Some(AlreadyExists))], "late", false),
        // Somebody else was faster, for real.
        (vec![], "late", true),
        (vec![sync, across], "late", true),
    ] {
        let night = Night::new(&[("quay", 1, None)], "workers = 1");
        let fakes = Fakes::new(&[0], |_, _| Act::Writes);
        let (series, target) = (&night.plan.series[0], night.folder.path().join("out/quay.0001.png"));
        std::fs::create_dir_all(target.parent().unwrap()).unwrap();
        if stands {
            std::fs::write(&target, "theirs").unwrap();
        }
        let staged = night.folder.path().join("staged.png");
        std::fs::write(&staged, &fakes.0.picture).unwrap();
        let journal = night.open_journal(false);
        let moves = Answers { list: list.clone(), at: AtomicUsize::new(0), torn: true };
        let labels = night.plan.labels(series);
        let landing = Landing {
            staged: &staged,
            target: &target,
            call: "quay_1-1",
            series,
            labels: &labels,
            frame: 1,
            made: None,
            over: false,
            asked: night.plan.asked(series),
            policy: &night.plan.policy,
        };
        let fate = land(&landing, &journal, &moves);
        let said = match &fate {
            Ok(Fate::Landed(_)) => "landed".to_owned(),
            Ok(Fate::Late) => "late".to_owned(),
            Ok(other) => format!("{other:?}"),
            Err(Trouble::Call(failure)) => failure.message.clone(),
            Err(Trouble::Run(failure)) => panic!("{failure}"),
        };
        assert!(said.starts_with(what), "{list:?}: {said}");
        let there = std::fs::read(&target).ok();
        let expected =
            if stands { Some(b"theirs".to_vec()) } else { (what == "landed").then(|| fakes.0.picture.clone()) };
        assert_eq!(there, expected, "{list:?}");
        let files = std::fs::read_dir(target.parent().unwrap()).unwrap().count();
        assert_eq!(files, usize::from(expected.is_some()), "{list:?}: no half copy is left");
        assert_eq!(staged.exists(), what == "cannot write", "{list:?}: what did not land stays in stage");
        // A reader of the journal counts the frame just when it is there.
        let events =
            if list.first().is_some_and(|(_, answer)| answer.is_some()) { Vec::new() } else { night.journal() };
        let landed = events.iter().filter(|event| matches!(event, Event::Landed(_))).count();
        let late = events.iter().filter(|event| matches!(event, Event::Late { .. })).count();
        assert_eq!(landed - late, usize::from(what == "landed"), "{list:?}: {events:?}");
    }
}

#[test]
fn only_over_what_stood_before_is_anything_written() {
    let folder = tempfile::tempdir().unwrap();
    let (from, to) = (folder.path().join("from"), folder.path().join("to"));
    for over in [false, true] {
        std::fs::write(&from, "new").unwrap();
        std::fs::write(&to, "old").unwrap();
        let moved = Disk.rename(&from, &to, over);
        assert_eq!(moved.as_ref().map_err(Error::kind), if over { Ok(&()) } else { Err(ErrorKind::AlreadyExists) });
        assert_eq!(std::fs::read(&to).unwrap(), if over { b"new" } else { b"old" });
        assert_eq!(from.exists(), !over, "what cannot be moved stays");
    }
    let missing = Disk.rename(&folder.path().join("nothing"), &to, false).unwrap_err();
    assert_eq!(missing.kind(), ErrorKind::NotFound);
}

#[test]
fn a_folder_that_was_given_a_new_name_is_not_emptied_by_its_old_one() {
    let root = tempfile::tempdir().unwrap();
    let folders = Folders::default();
    for round in 0..500 {
        let (old, new) = (root.path().join("old"), root.path().join("new"));
        folders.prepare(&old).unwrap();
        folders.put_by(&old);
        std::thread::scope(|scope| {
            scope.spawn(|| folders.clear(&old).unwrap());
            folders.prepare(&new).unwrap();
            std::fs::write(new.join("frame"), "whole").unwrap();
        });
        assert_eq!(std::fs::read(new.join("frame")).unwrap(), b"whole", "round {round}");
        folders.clear(&new).unwrap();
    }
}

#[cfg(unix)]
#[test]
fn a_file_on_which_a_recovery_broke_is_set_aside_where_it_ends_whoever_looks() {
    // The one that looks ends badly, well, or is not asked.
    for (looker, set_aside) in [(Some("/bin/false"), true), (Some("/bin/true"), false), (None, false)] {
        let night = Night::new(&[("crossing", 4, None)], "");
        let state = night.state();
        state.make().unwrap();
        let folder = Path::new(&stage_base(&night.plan, night.plan.roots[0].path.as_deref().unwrap())).to_owned();
        let staged = folder.join("crossing_1-4~abcdef/crossing.0002.png");
        std::fs::create_dir_all(staged.parent().unwrap()).unwrap();
        std::fs::write(&staged, "half a picture").unwrap();
        std::fs::write(state.recovering("abcdef"), staged.to_str().unwrap()).unwrap();
        let journal = night.open_journal(false);
        let found = night.with(looker.map(Path::new), |project| recover(project, &journal, &|_| true)).unwrap();
        let aside = folder.join("aside/crossing.0002.png");
        assert_eq!(found.aside, if set_aside { vec![aside.clone()] } else { Vec::new() }, "{looker:?}");
        assert_eq!((aside.exists(), staged.exists()), (set_aside, false), "{looker:?}");
        assert!(state.recoveries().is_empty(), "{looker:?}");
    }
}
