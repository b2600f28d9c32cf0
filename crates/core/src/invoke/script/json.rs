//! Command lines as JSON, for programs.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io::{self, BufWriter, Write};

use serde::ser::SerializeSeq;
use serde::{Serialize, Serializer};

use crate::invoke::command_line::{CallKind, CommandLine, stages};
use crate::invoke::written::{Spelt, glob};
use crate::invoke::written_file::FileText;
use crate::plan::{Adapters, Plan};
use crate::resolve::paths;
use crate::run::cost::Costs;
use crate::threads::{Threads, map};

/// How every document begins.
pub const MARK: &str = "{\n  \"truepath\": 1,\n";

/// What is known of the sheet whose calls are written.
pub struct OfSheet<'c> {
    plan: &'c Plan,
    adapters: &'c Adapters,
    /// What its frames were measured to cost.
    costs: &'c Costs,
    /// The series of each job, by its name.
    outputs: HashMap<&'c str, Vec<usize>>,
}

impl<'c> OfSheet<'c> {
    /// A sheet's plan, the adapters of its calls, and what its frames were measured to cost.
    #[must_use]
    pub fn new(plan: &'c Plan, adapters: &'c Adapters, costs: &'c Costs) -> OfSheet<'c> {
        let mut outputs: HashMap<&str, Vec<usize>> = HashMap::new();
        for (at, series) in plan.series.iter().enumerate() {
            outputs.entry(plan.jobs[series.job].name.as_str()).or_default().push(at);
        }
        OfSheet { plan, adapters, costs, outputs }
    }
}

/// A document of calls that is written piece by piece: there may be millions, and none is kept.
pub struct Document<'o> {
    out: BufWriter<&'o mut dyn Write>,
    calls: usize,
}

impl<'o> Document<'o> {
    /// Begins a document.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn begin(out: &'o mut dyn Write) -> io::Result<Document<'o>> {
        let mut out = BufWriter::with_capacity(1 << 18, out);
        write!(out, "{MARK}  \"calls\": [\n    ")?;
        Ok(Document { out, calls: 0 })
    }

    /// Writes some calls of a sheet.
    ///
    /// # Errors
    /// When they cannot be written.
    pub fn calls(&mut self, own: &OfSheet<'_>, steps: &[CommandLine], threads: &dyn Threads) -> io::Result<()> {
        let written = map(threads, steps, |step| {
            let mut text = Vec::new();
            serde_json::to_writer(&mut text, &call(own, step, &step.needs)).map(|()| text)
        });
        for text in written {
            self.next()?;
            self.out.write_all(&text?)?;
        }
        Ok(())
    }

    /// Writes a call that needs many others, which are told one by one.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn call(&mut self, own: &OfSheet<'_>, step: &CommandLine, needs: &TellNames<'_>) -> io::Result<()> {
        self.next()?;
        Ok(serde_json::to_writer(&mut self.out, &call(own, step, TextList(needs)))?)
    }

    fn next(&mut self) -> io::Result<()> {
        self.calls += 1;
        if self.calls > 1 { self.out.write_all(b",\n    ") } else { Ok(()) }
    }

    /// Ends the document; how many calls it has.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn end(mut self) -> io::Result<usize> {
        self.out.write_all(b"\n  ]\n}\n")?;
        self.out.flush()?;
        Ok(self.calls)
    }
}

/// Hands the names of some calls over, one after another.
pub type TellNames<'n> = dyn Fn(&mut dyn FnMut(&str)) + 'n;

struct TextList<'n>(&'n TellNames<'n>);

impl Serialize for TextList<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(None)?;
        let mut written = Ok(());
        (self.0)(&mut |name| {
            if written.is_ok() {
                written = list.serialize_element(name);
            }
        });
        written?;
        list.end()
    }
}

fn call<N>(own: &OfSheet<'_>, step: &CommandLine, needs: N) -> CallDocument<N> {
    let (plan, adapters) = (own.plan, own.adapters);
    let writes = step.writes.iter().map(|write| {
        let series = plan.output(write.series);
        let pass = (series.passes.len() == 1).then(|| plan.jobs[series.job].passes[series.passes[0]].label.clone());
        Writes { series: series.id.clone(), pass, pattern: series.pattern.typed(), frames: step.frames.to_string() }
    });
    let lands = lands(plan, step);
    let mut folders: BTreeSet<String> = lands.iter().map(|land| paths::parent(&land.to).to_owned()).collect();
    folders.insert(paths::parent(&step.log).to_owned());
    let file = |file: &FileText| FileDocument { path: file.path.clone(), text: file.text.clone() };
    CallDocument {
        id: step.id.clone(),
        kind: step.kind.name(),
        folders: folders.into_iter().collect(),
        stage: stages(step).into_iter().map(str::to_owned).collect(),
        lands,
        ok: adapters
            .get(&step.adapter)
            .filter(|_| !step.writes.is_empty())
            .map_or(vec![0], |own| own.exit.good_codes()),
        job: step.job.clone(),
        passes: step.passes.clone(),
        frames: step.frames.to_string(),
        program: step.program.clone(),
        arguments: step.arguments.clone(),
        env: step.env.iter().cloned().collect(),
        folder: step.folder.clone(),
        files: step.files.iter().map(file).collect(),
        also: step.globs(false).collect(),
        keep: step.globs(true).collect(),
        log: step.log.clone(),
        writes: writes.collect(),
        needs,
        resources: Resources::of(own, step),
    }
}

/// The files of a call on their way to their names, in the order in which they are written.
fn lands(plan: &Plan, step: &CommandLine) -> Vec<Land> {
    if let Some(product) = &step.product {
        return vec![Land { from: product.staged.clone(), or: Vec::new(), to: product.path.clone() }];
    }
    let of_frame = |frame: i64| {
        step.writes.iter().map(move |write| {
            let spelt = |spelling: &Vec<Spelt>| format!("{}/{}", write.stage, glob(spelling));
            let mut spellings = write.expected.spellings(frame).iter().map(spelt).collect::<Vec<_>>().into_iter();
            let from = spellings.next().unwrap_or_default();
            Land { from, or: spellings.collect(), to: plan.output(write.series).name(frame) }
        })
    };
    step.frames.iter().flat_map(of_frame).collect()
}

/// One call in JSON.
#[derive(Serialize)]
struct CallDocument<N> {
    id: String,
    kind: &'static str,
    job: String,
    passes: Vec<String>,
    frames: String,
    program: String,
    arguments: Vec<String>,
    env: BTreeMap<String, String>,
    folder: String,
    folders: Vec<String>,
    stage: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    files: Vec<FileDocument>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    also: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    keep: Vec<String>,
    ok: Vec<i64>,
    log: String,
    writes: Vec<Writes>,
    lands: Vec<Land>,
    needs: N,
    resources: Resources,
}

/// What a call needs of the machine that a queue gives it; what nobody has said or measured is left out.
#[derive(Serialize)]
struct Resources {
    /// Cores: `[run.cluster]`.
    #[serde(skip_serializing_if = "Option::is_none")]
    threads: Option<i64>,
    /// Bytes: `[run.cluster]`, or the most that a program of this sheet was seen to hold.
    #[serde(skip_serializing_if = "Option::is_none")]
    memory: Option<u64>,
    /// Seconds that its frames were measured to take.
    #[serde(skip_serializing_if = "Option::is_none")]
    seconds: Option<f64>,
    /// Licences by name: those that its program holds, and those that each task takes from a scheduler.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    licences: BTreeMap<String, i64>,
    /// `[run.cluster]`; higher comes first.
    #[serde(skip_serializing_if = "Option::is_none")]
    priority: Option<i64>,
}

impl Resources {
    fn of(own: &OfSheet<'_>, step: &CommandLine) -> Resources {
        let cluster = &own.plan.run.cluster;
        // A call that somebody else guards says which passes it makes, and not where.
        let is_ours = |at: &usize| {
            let series = own.plan.output(*at);
            let passes = &own.plan.jobs[series.job].passes;
            series.passes.iter().any(|pass| step.passes.contains(&passes[*pass].label))
        };
        let of_job = own.outputs.get(step.job.as_str()).filter(|_| step.kind == CallKind::Render);
        let outputs: Vec<usize> = of_job.into_iter().flatten().copied().filter(is_ours).collect();
        let cost = own.costs.cost(own.plan, &outputs, &step.frames).filter(|cost| cost.files > 0);
        let held = own.adapters.get(&step.adapter).into_iter().flat_map(|own| &own.needs.licences);
        Resources {
            threads: cluster.threads,
            memory: cluster.memory.or(own.costs.memory()),
            seconds: cost.map(|cost| (cost.seconds * 1000.0).round() / 1000.0),
            licences: held.map(|name| (name.clone(), 1)).chain(cluster.licences.clone()).collect(),
            priority: cluster.priority,
        }
    }
}

/// One file in JSON that is written before the program starts, once the stage folders are there.
#[derive(Serialize)]
struct FileDocument {
    path: String,
    text: String,
}

/// One file in JSON: where it is written, where it may be written instead, and the name it is given.
#[derive(Serialize)]
struct Land {
    from: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    or: Vec<String>,
    to: String,
}

/// One series of a call in JSON.
#[derive(Serialize)]
struct Writes {
    series: String,
    pass: Option<String>,
    pattern: String,
    frames: String,
}
