//! Whatever an adapter can take: all calls together ask for every frame that is needed, each once, and for no other.

use std::collections::{BTreeMap, BTreeSet};

use crate::support::{adapter, planned};
use proptest::prelude::*;
use truepath_core::adapter::{Adapter, Per};
use truepath_core::frames::{FrameExpr, Frames};
use truepath_core::invoke::command_line::CommandLines;
use truepath_core::invoke::export::Exports;
use truepath_core::plan::{Adapters, Call, Plan, calls_of};

/// What a program can take, as its adapter says.
#[derive(Clone, Debug)]
struct Program {
    per: &'static str,
    step: bool,
    together: bool,
    spelling: [&'static str; 3],
}

impl Program {
    fn adapter(&self) -> Adapter {
        let frames = match (self.per, self.step) {
            ("list", _) => r#"["--frames", "{frames}"]"#,
            ("range", true) => r#"["--from", "{first}", "--to", "{last}", "--by", "{step}"]"#,
            ("range", false) => r#"["--from", "{first}", "--to", "{last}"]"#,
            _ => r#"["--frame", "{frame}"]"#,
        };
        let can = if self.together { r#"["pass", "call"]"# } else { r#"["pass"]"# };
        let [join, range, step] = self.spelling;
        let spelling = if self.per == "list" {
            format!("join = \"{join}\"\nrange = \"{range}\"\nstep = \"{step}\"\n")
        } else {
            String::new()
        };
        adapter(&format!(
            "adapter = 1\nname = \"r\"\nkind = \"renderer\"\nprogram = \"r\"\n\
             arguments = [\"{{scene}}\", {frames}, [\"--pass\", \"{{pass}}={{out}}\"]]\n\
             [frames]\nper = \"{}\"\n{spelling}[passes]\ncan = {can}\n[out]\nnumber = \"#\"\nwrites = [\"{{out}}\"]\n",
            self.per
        ))
    }

    /// The frames of a call, from its command line.
    fn asked(&self, words: &[String]) -> Frames {
        let after = |name: &str| words.iter().position(|word| word == name).map(|at| words[at + 1].as_str());
        let number = |name: &str| after(name).unwrap().parse::<i64>().unwrap();
        match self.per {
            "list" => {
                let [join, range, step] = self.spelling;
                let part = |part: &str| {
                    let (span, by) = part.split_once(step).map_or((part, 1), |(span, by)| (span, by.parse().unwrap()));
                    // A minus of its own belongs to the number.
                    let cut = span[1..].find(range).map(|at| at + 1);
                    let (first, last) = cut.map_or((span, span), |at| (&span[..at], &span[at + range.len()..]));
                    let (first, last): (i64, i64) = (first.parse().unwrap(), last.parse().unwrap());
                    (first..=last).step_by(by).collect::<Vec<_>>()
                };
                Frames::from_any(after("--frames").unwrap().split(join).flat_map(part).collect())
            }
            "range" => {
                let by = if self.step { usize::try_from(number("--by")).unwrap() } else { 1 };
                Frames::from_any((number("--from")..=number("--to")).step_by(by).collect())
            }
            _ => Frames::one(number("--frame")),
        }
    }
}

fn program() -> impl Strategy<Value = Program> {
    let spelling = prop::sample::select(vec![[",", "-", "/"], [";", "..", "x"], [" ", ":", "@"]]);
    (prop::sample::select(vec!["list", "range", "frame"]), any::<bool>(), any::<bool>(), spelling)
        .prop_map(|(per, step, together, spelling)| Program { per, step, together, spelling })
}

fn frames() -> impl Strategy<Value = Frames> {
    prop::collection::vec((-30i64..60, 0i64..40, 1i64..6), 1..4).prop_map(|runs| {
        let all = runs.into_iter().flat_map(|(first, more, step)| (first..=first + more).step_by(step as usize));
        Frames::from_any(all.collect())
    })
}

fn plan_of(frames: &Frames, chunk: i64) -> Plan {
    let text = format!(
        "sheet = 1\n[roots]\nout = \"/out\"\n[defaults]\nadapter = \"r\"\npasses = [\"beauty\", \"depth\"]\n\
         path = \"{{out}}/{{job}}_{{pass}}.{{frame:4}}.exr\"\n[run]\nchunk = {chunk}\n\
         [[job]]\nname = \"quay.a\"\nscene = \"x\"\nframes = \"{frames}\"\n\
         [[job]]\nname = \"quay-a\"\nscene = \"x\"\nframes = \"{frames}\"\n"
    );
    let (plan, findings) = planned(&text);
    assert!(!findings.has_errors(), "{findings:?}\n{text}");
    plan
}

/// What calls ask for, by series; no frame of one twice.
fn asked<'c>(calls: impl IntoIterator<Item = &'c Call>) -> BTreeMap<usize, BTreeSet<i64>> {
    let mut asked: BTreeMap<usize, BTreeSet<i64>> = BTreeMap::new();
    for call in calls {
        for series in &call.series {
            for frame in call.frames.iter() {
                assert!(asked.entry(*series).or_default().insert(frame), "{series} {frame} twice");
            }
        }
    }
    asked
}

fn fits(program: &Program, call: &Call) -> bool {
    let runs = call.frames.sequential().count();
    match program.per {
        "list" => true,
        "range" => runs == 1 && (program.step || call.frames.sequential().all(|run| run.step == 1)),
        _ => call.frames.count() == 1,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn calls_ask_for_every_frame_once_in_words_that_their_program_takes(
        program in program(), frames in frames(), chunk in 1i64..40, holes in frames(), halves in 1i64..20,
    ) {
        let plan = plan_of(&frames, chunk);
        let adapter = program.adapter();
        let expected: BTreeSet<i64> = frames.iter().collect();
        let calls: Vec<Call> = calls_of(&plan, &|_| Some(&adapter)).collect();
        let ids: BTreeSet<&str> = calls.iter().map(|call| call.id.as_str()).collect();
        prop_assert_eq!(ids.len(), calls.len(), "no two calls of one name: {:?}", calls);
        let whole = asked(&calls);
        prop_assert!((0..4).all(|series| whole[&series] == expected));
        let per_call = if program.together { 2 } else { 1 };
        for call in &calls {
            prop_assert!(call.series.len() == per_call && call.frames.count() <= chunk && fits(&program, call));
            prop_assert!(call.unit() == call.id && !call.id.contains(['/', '.', '~', ' ']), "{}", call.id);
        }
        // The command line asks for what the call is for.
        let adapters: Adapters = [("r".to_owned(), adapter.clone())].into_iter().collect();
        let (exports, programs) = (Exports::default(), BTreeMap::new());
        let command_lines = CommandLines { plan: &plan, adapters: &adapters, exports: &exports, programs: &programs, logs: "/state/logs", products: &[] };
        for call in &calls {
            let step = command_lines.step(call).unwrap();
            prop_assert_eq!(program.asked(&step.arguments), call.frames.clone(), "{:?}", step.arguments);
            // Every file that it owes has one place in stage, and is found there again.
            for series in &call.series {
                for frame in call.frames.iter() {
                    let name = plan.series[*series].name(frame);
                    let staged: Vec<String> = step.writes.iter().map(|write| format!("{}/{}", write.stage, name.rsplit('/').next().unwrap())).collect();
                    prop_assert!(staged.iter().any(|path| step.place(path) == Some((*series, frame))), "{name} {staged:?}");
                }
            }
        }
        // What is missing only, a hole here and there, differently for each series.
        let need: Vec<Frames> = (0..4).map(|series| if series % 2 == 0 { frames.intersect(&holes) } else { frames.minus(&holes) }).collect();
        let narrowed: Vec<Call> = calls.iter().flat_map(|call| command_lines.narrowed(call, &need)).collect();
        let got = asked(&narrowed);
        for (series, need) in need.iter().enumerate() {
            let own: BTreeSet<i64> = need.iter().collect();
            let got = got.get(&series).cloned().unwrap_or_default();
            // Passes that are rendered together are asked for together.
            let with: BTreeSet<i64> = if program.together { expected.clone() } else { own.clone() };
            prop_assert!(own.is_subset(&got) && got.is_subset(&with), "{:?} {:?}", own, got);
        }
        prop_assert!(narrowed.iter().all(|call| fits(&program, call) && ids.contains(call.unit())));
        // Halved until single frames are left, parts stay apart and keep their call's name.
        for call in &calls {
            let parts: Vec<Call> = call.frames.chunks(halves).flat_map(|frames| call.parted(&adapter, &frames)).collect();
            let names: BTreeSet<&str> = parts.iter().map(|part| part.id.as_str()).collect();
            prop_assert_eq!(names.len(), parts.len());
            prop_assert_eq!(asked(&parts), asked([call]));
            prop_assert!(parts.iter().all(|part| fits(&program, part) && part.unit() == call.id));
        }
        if adapter.per == Per::List {
            prop_assert_eq!(calls.len(), 4 / per_call * expected.len().div_ceil(usize::try_from(chunk).unwrap()));
        }
        prop_assert_eq!(FrameExpr::parse(&frames.to_string()).unwrap().frames(None, None).unwrap(), frames);
    }
}
