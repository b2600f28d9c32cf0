//! What is missing after parcels have been collected.

use truepath_core::parcel::Parcel;
use truepath_core::verify::{State, Verdict};
use truepath_exec::disk;

use crate::args::Common;
use crate::pipeline::Loaded;
use crate::show::verdicts::cut;

/// What is missing still, and which parcels hold it.
pub fn missing(loaded: &Loaded, after: &[Verdict], common: &Common) -> String {
    let names = std::fs::read_dir(loaded.state.parcels()).into_iter().flatten().filter_map(Result::ok);
    let mut packed: Vec<Parcel> =
        names.filter_map(|entry| serde_json::from_str(&disk::text(&entry.path()).ok()?).ok()).collect();
    packed.sort_by(|a, b| a.name.cmp(&b.name));
    let mut out = String::new();
    for verdict in after.iter().filter(|verdict| !verdict.is_movie) {
        let series = loaded.plan.output(verdict.series);
        let missing = verdict.in_any(&[State::Missing, State::Broken]);
        if missing.is_empty() {
            continue;
        }
        let holds =
            |own: &&Parcel| own.series.iter().any(|own| own.place == series.place && !own.frames.is_disjoint(&missing));
        let mut holders: Vec<&str> = packed.iter().filter(holds).map(|own| own.name.as_str()).collect();
        holders.dedup();
        let of =
            if holders.is_empty() { "in no parcel".to_owned() } else { format!("in {}", cut(&holders.join(", "))) };
        out.push_str(&format!("missing: {} {}, {of}\n", series.id, cut(&missing.to_string())));
    }
    let movies = after.iter().any(|verdict| verdict.is_movie && verdict.is_incomplete());
    match (out.is_empty(), movies) {
        (true, true) => "all frames are good. Make the movies: truepath movie\n".to_owned(),
        (true, false) => "all frames are good\n".to_owned(),
        (false, _) => {
            let pack = crate::command::again("parcel pack --missing --into DIR", common);
            format!("{out}collect these parcels, or pack the missing frames again: {pack}\n")
        }
    }
}
