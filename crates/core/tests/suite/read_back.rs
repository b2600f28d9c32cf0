//! What a template writes, it reads back: the same job, pass, version and frame, for every template that can be read back.

use crate::support::planned;
use proptest::prelude::*;
use truepath_core::check::meeting::{NamedSeries, meetings};
use truepath_core::diagnostic::Findings;
use truepath_core::source::FileId;
use truepath_core::whose::{Owner, owner};

/// Tokens in a random order with a separator between each two; the frame is always among them.
fn template() -> impl Strategy<Value = String> {
    let tokens = vec!["{job}", "{camera}", "{pass}", "{version}", "{shot|upper}", "{width:5}", "{frame:3}"];
    (Just(tokens).prop_shuffle(), prop::collection::vec(prop::sample::select(vec!["_", ".", "/", "-x-"]), 7), 1usize..7)
        .prop_map(|(tokens, signs, keep)| {
            let kept: Vec<&str> = tokens
                .iter()
                .enumerate()
                .filter(|(at, token)| *at < keep || token.starts_with("{frame"))
                .map(|(_, token)| *token)
                .collect();
            let joined: String = kept.iter().zip(&signs).map(|(token, sign)| format!("{token}{sign}")).collect();
            format!("{{out}}/{}.png", joined.trim_end_matches(['_', '.', '/', '-', 'x']))
        })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]
    #[test]
    fn every_name_is_read_back_to_where_it_came_from(
        template in template(),
        jobs in prop::collection::btree_map("[a-c]{1,3}", ("[d-f]{1,2}", 0i64..12, -9i64..30, 0i64..1200, -20i64..20), 1..4),
    ) {
        let mut text = format!("sheet = 1\n[roots]\nout = \"/out\"\n[defaults]\nsize = \"64x36\"\npasses = [\"beauty\", \"depth\"]\npath = \"{template}\"\n");
        for (name, (camera, version, first, more, shift)) in &jobs {
            text.push_str(&format!("[[job]]\nname = \"{name}\"\nscene = \"x\"\ncamera = \"{camera}\"\nvars.shot = \"s{name}\"\nversion = {version}\nframes = \"{first}-{}\"\nshift = {shift}\n", first + more));
        }
        let (plan, findings) = planned(&text);
        prop_assert!(findings.iter().next().is_none(), "{text}\n{findings:?}");
        let names: Vec<NamedSeries> = plan.series.iter().enumerate().map(|(at, series)| NamedSeries { at, pattern: series.pattern.clone(), frames: series.numbers().unwrap() }).collect();
        // Names that two series share belong to both: that they are reported is another test's.
        if meetings(&names, names.len()).is_empty() {
            for (at, series) in plan.series.iter().enumerate() {
                prop_assert_eq!(series.troubles.len(), 0);
                for (frame, path) in series.files().step_by(97) {
                    prop_assert_eq!(owner(&path, &plan), Owner::Series(at, Some(frame)), "{}", path);
                }
            }
        }
    }
}

#[test]
fn findings_are_grouped_by_cause_and_sorted_by_place() {
    use truepath_core::diagnostic::{Level, Slug, Words};
    use truepath_core::source::Place;
    let mut findings = Findings::default();
    let at = |start: usize| Some(Place::new(FileId(0), start..start + 1));
    for (check, start, job) in [
        (Slug::TokenUnknown, 9, "b"),
        (Slug::TokenUnknown, 9, "c"),
        (Slug::TokenUnknown, 9, "c"),
        (Slug::NamesMeet, 3, "a"),
        (Slug::TypeUnknown, 1, "off"),
    ] {
        findings.add(check, at(start), Some(job), Words::new(job, ""));
    }
    findings.add(Slug::JobTwice, None, None, Words::new("last", ""));
    findings.set_level("names-meet", Some(Level::Note));
    findings.set_level("type-unknown", None);
    assert!(findings.has_errors());
    let rows: Vec<_> = findings
        .sorted()
        .into_iter()
        .map(|finding| (finding.check, finding.level, finding.message, finding.more))
        .collect();
    assert_eq!(
        rows,
        [
            (Slug::TokenUnknown, Level::Error, "b".into(), 1),
            (Slug::JobTwice, Level::Error, "last".into(), 0),
            // The gravest first, whatever stands before it in the sheet.
            (Slug::NamesMeet, Level::Note, "a".into(), 0)
        ]
    );
}
