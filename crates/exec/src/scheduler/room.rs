//! Room on the disks that a run writes to: whether a call failed for want of it, and how much is missing.

use std::path::{Path, PathBuf};
use std::sync::PoisonError;
use std::time::{Duration, Instant};

use truepath_core::check::{bytes, output_bytes};
use truepath_core::invoke::stage::stage_folder;
use truepath_core::plan::{Call, Series};
use truepath_core::run::event::Event;

use super::attempt::Done;
use super::context::{Context, Full};
use super::supply::TakenOrder;
use super::waiting::Crew;
use crate::disk;
use crate::failure::Trouble;

/// From one look to the next while nothing frees up.
const LOOK: Duration = Duration::from_secs(1);
/// Less than this is no room for anything.
const LEAST: u64 = 1 << 20;

/// What became of a wish for room.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Room {
    /// What the try itself had left was all that was in the way: the next may end as it did.
    ItsOwn,
    /// Room was found after a while.
    Found,
    /// Nothing freed up.
    None,
}

impl Context<'_> {
    /// Whether a disk that a call writes to has no room for a file of it.
    pub(super) fn full(&self, call: &Call) -> Option<Full> {
        call.series.iter().find_map(|at| {
            let series = self.plan().output(*at);
            let stage = PathBuf::from(stage_folder(self.plan(), call, series));
            let target = PathBuf::from(series.name(call.frames.first().unwrap_or(0)));
            [stage, target].into_iter().find_map(|path| self.full_at(&path, *at, series))
        })
    }

    fn full_at(&self, path: &Path, at: usize, series: &Series) -> Option<Full> {
        let ground = disk::ground(path);
        let (free, wanted) = (ground.free?, self.bytes_of(at, series).max(LEAST));
        if free >= wanted {
            return None;
        }
        let plan = self.plan();
        let mut missing = 0;
        for (other, series) in plan.outputs() {
            let root = series.root.and_then(|root| plan.roots[root].path.as_deref());
            if root.is_some_and(|root| disk::ground(Path::new(root)).disk == ground.disk) {
                let there = self.before.get(other).map_or(0, |verdict| verdict.planned.count());
                let count = self.need.get(other).map_or(there, truepath_core::frames::Frames::count);
                missing += u64::try_from(count).unwrap_or(0) * self.bytes_of(other, series);
            }
        }
        let missing = missing.saturating_sub(free).max(wanted - free);
        let folder = path.ancestors().find(|path| path.exists()).unwrap_or(Path::new("/")).to_owned();
        let root = series.root.and_then(|root| plan.roots[root].path.clone());
        let place = root.unwrap_or_else(|| folder.display().to_string());
        let words = format!(
            "the disk of {place} is full: {} free, up to {} more needed",
            bytes(free as f64),
            bytes(missing as f64)
        );
        Some(Full { folder, disk: ground.disk, wanted, words })
    }

    /// Bytes that a file of an output takes: as the last that landed, else by its pixels.
    fn bytes_of(&self, at: usize, series: &Series) -> u64 {
        let seen = self.sizes.lock().unwrap_or_else(PoisonError::into_inner).get(&at).copied();
        seen.or_else(|| output_bytes(series).map(|bytes| bytes as u64)).unwrap_or(LEAST)
    }

    /// Whether somebody waits for room on a disk that a call writes to.
    pub(super) fn waits_for_room(&self, call: &Call) -> bool {
        let awaited = self.awaited_disks.lock().unwrap_or_else(PoisonError::into_inner);
        !awaited.is_empty() && self.full(call).is_some_and(|full| awaited.iter().any(|other| other.disk == full.disk))
    }

    /// The disk for want of which a try failed, if it is worth to wait for room there.
    pub(super) fn wants_room(&self, part: &Call, done: &mut Done) -> Option<Full> {
        let full = done.full.take().or_else(|| if done.stuck { self.full(part) } else { None })?;
        (!done.missing.is_empty() && self.has_no_room(part).is_none()).then_some(full)
    }

    /// The words on a disk on which nothing freed up, if a call writes to such a one.
    pub(super) fn has_no_room(&self, call: &Call) -> Option<String> {
        let lost = self.full_disks.lock().unwrap_or_else(PoisonError::into_inner);
        if lost.is_empty() {
            return None;
        }
        self.full(call).filter(|full| lost.iter().any(|known| known.disk == full.disk)).map(|full| full.words)
    }
}

impl Crew<'_> {
    /// Waits while others wait for room on a disk that a call writes to.
    pub(super) fn wait_with_others(&self, call: &Call, taken: &mut TakenOrder<Call>) {
        if self.context.waits_for_room(call) {
            self.give_back(taken);
            while self.context.waits_for_room(call) && !self.context.is_stopping() {
                self.pause(LOOK);
            }
        }
    }

    /// Waits until a disk has room again, for as long as the sheet allows.
    pub(super) fn wait_for_room(&self, (call, number): (&Call, u64), full: &Full) -> Result<Room, Trouble> {
        let (context, since) = (&self.context, Instant::now());
        // What the try left half-written takes room, too.
        for folder in context.stage_folders(call, number) {
            context.stages.clear(folder).map_err(Trouble::Call)?;
        }
        let has_room = || disk::ground(&full.folder).free.is_none_or(|free| free >= full.wanted);
        if has_room() {
            return Ok(Room::ItsOwn);
        }
        let told = Event::Full { call: call.id.clone(), why: full.words.clone() };
        context.record(&told).map_err(Trouble::Run)?;
        context.awaited_disks.lock().unwrap_or_else(PoisonError::into_inner).push(full.clone());
        let limit = context.plan().run.space_wait;
        while !context.is_stopping() && !has_room() && since.elapsed() < limit {
            self.pause(LOOK.min(limit));
        }
        let found = context.is_stopping() || has_room();
        if !found {
            context.full_disks.lock().unwrap_or_else(PoisonError::into_inner).push(full.clone());
        }
        let mut awaited = context.awaited_disks.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(at) = awaited.iter().position(|other| other.disk == full.disk) {
            awaited.swap_remove(at);
        }
        Ok(if found { Room::Found } else { Room::None })
    }
}
