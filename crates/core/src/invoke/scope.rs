//! What every token of an adapter stands for in one call.

use crate::template::token::{ArgumentToken, BuiltIn, PathToken, built_in};
use std::collections::{BTreeMap, BTreeSet};

use crate::adapter::{Adapter, Condition, Per, list_token};
use crate::frames::Frames;
use crate::plan::{Call, Plan, Series, Still};
use crate::resolve::{Job, Pass, TokenScope, lookup, paths};
use crate::sheet::{Key, SYSTEMS};
use crate::source::Spanned;
use crate::template::{Lookup, Template, Token, Value, expand_text};

use super::spelling::{escaped, out_name, spelt};
use super::spread::Filling;

/// The folder within a stage folder that holds the files which are written for a program.
pub const WRITTEN: &str = ".written";

/// Where a call works. All paths are absolute.
#[derive(Clone, Copy)]
pub struct CallPaths<'b> {
    /// The stage folder of a series.
    pub stage: &'b dyn Fn(&Series) -> String,
    /// The file that keeps what the program says.
    pub log: &'b str,
    /// What an exporter made of the scene.
    pub product: Option<&'b str>,
    /// Where a long still is saved under way.
    pub still: Option<&'b Still>,
}

/// Where a call works that is only looked at.
pub const NOWHERE: CallPaths<'static> =
    CallPaths { stage: &|_| String::new(), log: "/log", product: None, still: None };

/// The file that an exporter makes, and the one that keeps what it says.
#[derive(Clone, Copy, Debug)]
pub struct ExportPaths<'m> {
    /// Where it writes.
    pub staged: &'m str,
    /// Its log.
    pub log: &'m str,
}

/// One pass of a call and the file it goes to.
pub(super) struct Output<'o> {
    pub pass: &'o Pass,
    pub(super) folder: String,
    pub file: String,
}

/// A variable or a native setting in arguments of its own.
#[derive(Clone)]
struct Handed<'a> {
    /// Its token, such as `native.denoise`.
    token: String,
    templates: &'a [Spanned<Template>],
    /// Empty where a token in them has no value.
    arguments: Vec<String>,
}

fn arguments_of(pairs: Vec<Handed<'_>>) -> Vec<String> {
    pairs.into_iter().flat_map(|handed| handed.arguments).collect()
}

/// One call with all that tokens ask for: made once, and asked for everything that is told to its program.
pub struct ArgumentScope<'c> {
    pub(super) plan: &'c Plan,
    pub(super) job: &'c Job,
    /// The adapter of its program.
    pub adapter: &'c Adapter,
    pub(super) frames: &'c Frames,
    /// What it writes, as indices into the plan's series.
    pub(super) series: &'c [usize],
    pub(super) paths_of_call: CallPaths<'c>,
    /// All passes of the call, in their order.
    pub(super) outputs: Vec<Output<'c>>,
    /// The first stage folder of the call, where files are written for its program; that of an output where there is none.
    pub(super) stage: Option<String>,
}

impl<'c> ArgumentScope<'c> {
    /// The scope of a call that renders.
    #[must_use]
    pub fn of_call(
        plan: &'c Plan,
        call: &'c Call,
        adapter: &'c Adapter,
        paths_of_call: CallPaths<'c>,
    ) -> ArgumentScope<'c> {
        let mut scope = ArgumentScope {
            plan,
            job: &plan.jobs[call.job],
            adapter,
            frames: &call.frames,
            series: &call.series,
            paths_of_call,
            outputs: Vec::new(),
            stage: None,
        };
        let of_series =
            |at: &usize| plan.series[*at].passes.iter().map(|pass| scope.output(*at, *pass)).collect::<Vec<_>>();
        scope.outputs = call.series.iter().flat_map(of_series).collect();
        scope.stage = call.series.first().map(|at| (paths_of_call.stage)(&plan.series[*at]));
        scope
    }

    /// The scope of an export: it writes no pictures, and the file that it makes takes the place of the first pass. `None`
    /// for a job without passes.
    #[must_use]
    pub fn of_export(
        plan: &'c Plan,
        job: usize,
        (adapter, frames): (&'c Adapter, &'c Frames),
        made: ExportPaths<'c>,
    ) -> Option<ArgumentScope<'c>> {
        let job = &plan.jobs[job];
        let (folder, file) = (paths::parent(made.staged).to_owned(), paths::file_name(made.staged).to_owned());
        let outputs = vec![Output { pass: job.passes.first()?, folder, file }];
        let paths_of_call = CallPaths { log: made.log, ..NOWHERE };
        Some(ArgumentScope { plan, job, adapter, frames, series: &[], paths_of_call, outputs, stage: None })
    }

    /// One pass of a series and the file it goes to.
    pub(super) fn output(&self, series: usize, pass: usize) -> Output<'c> {
        let series = &self.plan.series[series];
        let folder = escaped(self.adapter, &(self.paths_of_call.stage)(series));
        let file = out_name(self.adapter, series, self.frames);
        Output { pass: &self.job.passes[pass], folder, file }
    }

    /// What one token of `writes` is written as.
    pub(super) fn text(&self, token: &Token, output: &Output<'_>) -> Option<String> {
        let template = Template::of(token.clone());
        expand_text(&template, &|name| self.lookup(name, output))
    }

    /// Works with the values of one output.
    pub(super) fn filled<T>(&self, output: &Output<'_>, work: impl FnOnce(&Filling<'_>) -> T) -> T {
        let values = |name: &str| self.lookup(name, output);
        let lists = |name: &str| self.list(name, output);
        work(&Filling { adapter: self.adapter, values: &values, lists: &lists })
    }

    /// The arguments that a token stands for which is an argument by itself.
    fn list(&self, name: &str, output: &Output<'_>) -> Option<Vec<String>> {
        let some = |pairs: Vec<Handed<'_>>| Some(arguments_of(pairs)).filter(|list| !list.is_empty());
        match name {
            "variables" => some(self.variables(output)),
            "natives" => some(self.natives(output)),
            name => self.holds(self.adapter.conditions.get(name.strip_prefix("when.")?)?, output).then(Vec::new),
        }
    }

    /// Variables and native settings that no argument has a place for, for the end of the line.
    pub(super) fn pairs(&self, output: &Output<'_>) -> Vec<String> {
        let variables = if self.has_place("variables") { Vec::new() } else { self.variables(output) };
        let natives = if self.has_place("natives") { Vec::new() } else { self.natives(output) };
        arguments_of([variables, natives].concat())
    }

    /// The variables and native settings that come in arguments of their own and arrive, with all that these hold, as tokens. `told` are the tokens
    /// that the other arguments bring.
    pub(super) fn pairs_told(&self, output: &Output<'_>, told: &BTreeSet<String>) -> Vec<String> {
        let lists = [("variables", self.variables(output)), ("natives", self.natives(output))];
        let there = lists.into_iter().filter(|(name, _)| !self.has_place(name) || told.contains(*name));
        let arrived = there.flat_map(|(_, pairs)| pairs).filter(|handed| !handed.arguments.is_empty());
        let tokens = |handed: Handed<'_>| {
            let beside = handed.templates.iter().flat_map(|template| template.value.tokens());
            let beside: Vec<String> = beside.flat_map(|token| token.names()).map(str::to_owned).collect();
            std::iter::once(handed.token).chain(beside)
        };
        arrived.flat_map(tokens).collect()
    }

    /// Whether an argument says where variables, or native settings, are put.
    fn has_place(&self, name: &str) -> bool {
        let mut all = self.adapter.plain_templates();
        all.any(|template| list_token(&template.value).is_some_and(|token| token.name == name))
    }

    fn variables(&self, output: &Output<'_>) -> Vec<Handed<'c>> {
        let pair = |(name, value): (&String, &String)| Handed {
            token: format!("var.{name}"),
            templates: &self.adapter.variable,
            arguments: self.pair(&self.adapter.variable, (name, value), output),
        };
        self.job.vars.iter().map(pair).collect()
    }

    /// Native settings, each in arguments of its own or in those that any has. One that has a token of its own in the
    /// adapter is already there.
    fn natives(&self, output: &Output<'_>) -> Vec<Handed<'c>> {
        let of = |(name, value): (String, String)| {
            let token = format!("native.{name}");
            let own = self.adapter.natives.get(&name).map(|native| &native.arguments).filter(|own| !own.is_empty());
            let templates = match own {
                Some(own) => own,
                None if self.adapter.uses(&token) && self.adapter.natives.contains_key(&name) => return None,
                None => &self.adapter.native,
            };
            let arguments = self.pair(templates, (&name, &value), output);
            Some(Handed { token, templates, arguments })
        };
        self.native_settings(output).into_iter().filter_map(of).collect()
    }

    fn pair(&self, templates: &[Spanned<Template>], (name, value): (&str, &str), output: &Output<'_>) -> Vec<String> {
        let values = |token: &str| match token {
            "key" => text(name),
            "value" => text(value),
            token => self.lookup(token, output),
        };
        let lists = |name: &str| self.list(name, output);
        Filling { adapter: self.adapter, values: &values, lists: &lists }.group(templates)
    }

    /// The native settings of the job that have a value in its first output, with it.
    #[must_use]
    pub fn native_values(&self) -> BTreeMap<String, String> {
        self.outputs.first().map(|first| self.native_settings(first).into_iter().collect()).unwrap_or_default()
    }

    /// The native settings of the job with their values, and those that the adapter hands over when it gives none.
    pub(super) fn native_settings(&self, output: &Output<'_>) -> Vec<(String, String)> {
        let declared = self.adapter.natives.keys().filter(|name| !self.job.native.contains_key(*name));
        let names: BTreeSet<&String> = self.job.native.keys().chain(declared).collect();
        names.into_iter().filter_map(|name| Some((name.clone(), self.native(name, output)?))).collect()
    }

    /// The value of a native setting: a template over the tokens of paths, roots and variables.
    fn native(&self, name: &str, output: &Output<'_>) -> Option<String> {
        let Some(written) = self.job.native.get(name) else {
            let left = self.job.given.leave.contains_key(&Key::Native(name.to_owned()));
            return self.adapter.natives.get(name).filter(|_| !left)?.default.clone();
        };
        match Template::parse(written) {
            Ok(template) => expand_text(&template, &|name| self.of_sheet(name, output)),
            Err(_) => Some(written.clone()),
        }
    }

    /// A token that a sheet may use in a native setting.
    fn of_sheet(&self, name: &str, output: &Output<'_>) -> Lookup {
        match name.split_once('.') {
            Some(("var", own)) => some(self.job.vars.get(own).cloned()),
            Some(("root", own)) => some(self.root(own).map(str::to_owned)),
            _ => match lookup(self.seen(output.pass), name) {
                Lookup::Unknown => match (self.job.vars.get(name), self.root(name)) {
                    (Some(value), _) => text(value.clone()),
                    (None, Some(path)) => text(path),
                    _ => Lookup::Unknown,
                },
                found => found,
            },
        }
    }

    fn root(&self, name: &str) -> Option<&'c str> {
        self.plan.roots.iter().find(|root| root.name == name)?.path.as_deref()
    }

    /// Whether all of a condition holds.
    fn holds(&self, condition: &Condition, output: &Output<'_>) -> bool {
        let system = SYSTEMS.iter().find(|(_, system)| *system == self.plan.home.system).map_or("", |(name, _)| name);
        // Our own value: what the program calls it is no matter of a condition.
        let value = |token: &str| match self.plain(token, output) {
            Lookup::Value(Value::Number(number)) => Some(number.to_string()),
            Lookup::Value(Value::Text(text) | Value::Folder(text)) => Some(text),
            Lookup::Value(Value::Version(version)) => Some(version.to_string()),
            Lookup::Value(_) => Some(String::new()),
            _ => None,
        };
        (condition.systems.is_empty() || condition.systems.iter().any(|name| name == system))
            && condition.given.iter().all(|token| value(token).is_some())
            && condition.absent.iter().all(|token| value(token).is_none())
            && condition.values.iter().all(|(token, wanted)| value(token).is_some_and(|own| wanted.contains(&own)))
    }

    /// A token's value in arguments: frames are this call's own, numbers are plain, files are where they are staged, and
    /// values are the program's own words where it has such.
    pub(super) fn lookup(&self, name: &str, output: &Output<'_>) -> Lookup {
        if name.contains('+') {
            return self.combined(name, output);
        }
        match name {
            "pass" | "word" => text(self.adapter.word("pass", &output.pass.name.value)),
            name => self.own_words(name, self.plain(name, output)),
        }
    }

    /// The program's own word for several values at once; there is none but those that it has.
    fn combined(&self, name: &str, output: &Output<'_>) -> Lookup {
        let values: Option<Vec<String>> = name
            .split('+')
            .map(|part| match self.plain(part, output) {
                Lookup::Value(Value::Text(value)) => Some(value),
                Lookup::Value(Value::Number(number)) => Some(number.to_string()),
                _ => None,
            })
            .collect();
        let joined = values.map(|values| values.join("+"));
        let is_known = |joined: &String| self.adapter.words.get(name).is_some_and(|words| words.contains_key(joined));
        joined.filter(is_known).map_or(Lookup::NoValue, |joined| text(self.adapter.word(name, &joined)))
    }

    /// A token's value as True Path has it.
    fn plain(&self, name: &str, output: &Output<'_>) -> Lookup {
        let job = self.job;
        let scene = self.scene();
        match built_in(name) {
            Some(BuiltIn::Argument(token)) => self.argument(token, output),
            Some(BuiltIn::Path(token)) => match token {
                PathToken::Scene => some(scene.map(str::to_owned)),
                PathToken::SceneFolder => some(scene.map(|scene| paths::parent(scene).to_owned())),
                PathToken::Pass => text(output.pass.name.value.clone()),
                PathToken::Frame if self.adapter.per == Per::Frame => number(self.frames.first()),
                PathToken::Frame => Lookup::NoValue,
                PathToken::Frames => text(spelt(self.frames, &self.adapter.spelling)),
                PathToken::First => number(self.frames.first()),
                PathToken::Last => number(self.frames.last()),
                PathToken::Step => number(Some(self.step())),
                PathToken::Fps => some(job.fps.map(|fps| fps.to_string())),
                // The others are what they are in a path.
                _ => lookup(self.seen(output.pass), name),
            },
            None => match name.split_once('.') {
                Some(("native", own)) => some(self.native(own, output)),
                Some(("scene_below", root)) => {
                    let below = scene.zip(self.root(root)).filter(|(scene, root)| paths::is_below(scene, root));
                    some(below.map(|(scene, root)| {
                        scene[root.trim_end_matches('/').len()..].trim_start_matches('/').to_owned()
                    }))
                }
                Some(("when", own)) => {
                    let condition = self.adapter.conditions.get(own);
                    some(condition.filter(|condition| self.holds(condition, output)).map(|_| String::new()))
                }
                Some(("write", own)) => some(self.written_path(own, output)),
                Some(_) => self.of_sheet(name, output),
                None => lookup(self.seen(output.pass), name),
            },
        }
    }

    /// The value of a token that only adapters have. Those of encoders, of single variables and of what is written have none here.
    fn argument(&self, token: ArgumentToken, output: &Output<'_>) -> Lookup {
        type Token = ArgumentToken;
        let (job, still) = (self.job, self.paths_of_call.still);
        let region = |at: usize| number(job.region_pixels().map(|region| i64::from(region[at])));
        match token {
            Token::SceneName => some(self.scene().map(|scene| paths::stem(scene).to_owned())),
            Token::SheetFolder => text(self.plan.home.folder.clone()),
            Token::Passes => some(self.passes()),
            Token::Index if self.adapter.per == Per::Frame => number(Some(0)),
            Token::Ordinal if self.adapter.per == Per::Frame => number(Some(1)),
            Token::Resume => some(still.and_then(|still| still.resume.clone())),
            Token::Checkpoint => some(still.map(|still| still.checkpoint.clone())),
            Token::CheckpointEvery => some(still.map(|still| still.every.to_string())),
            Token::Count => number(Some(self.frames.count())),
            Token::AfterLast => number(self.frames.last().map(|last| last + 1)),
            Token::RegionX => region(0),
            Token::RegionY => region(1),
            Token::RegionW => region(2),
            Token::RegionH => region(3),
            Token::Out => text(format!("{}/{}", output.folder, output.file)),
            Token::OutFolder => text(output.folder.clone()),
            Token::OutStem => text(output.file.rsplit_once('.').map_or(output.file.as_str(), |(stem, _)| stem)),
            Token::Log => text(self.paths_of_call.log),
            Token::Threads => number(job.threads),
            Token::Device => some(job.device.clone()),
            Token::Audio => some(job.given.text(&Key::Audio).map(str::to_owned)),
            Token::Index | Token::Ordinal | Token::Input | Token::InputFirst | Token::Outcome | Token::Any => {
                Lookup::NoValue
            }
            Token::Key
            | Token::Value
            | Token::Word
            | Token::InputPixels
            | Token::PixelLayout
            | Token::FullPixelLayout
            | Token::EffortUsual
            | Token::MovieSeconds
            | Token::AudioOffset
            | Token::AudioSeconds
            | Token::AudioQuality
            | Token::StartTimecode
            | Token::Variables
            | Token::Natives => lookup(self.seen(output.pass), token.name()),
        }
    }

    /// The scene that the program gets: what was exported from it, where that is so.
    fn scene(&self) -> Option<&str> {
        self.paths_of_call.product.or(self.job.scene.as_ref().map(|scene| scene.value.as_str()))
    }

    fn step(&self) -> i64 {
        self.frames.sequential().next().map_or(1, |run| run.step)
    }

    /// Where the program starts: the sheet's folder, unless its adapter says another one. Absolute.
    pub(super) fn start_folder(&self, output: Option<&Output<'_>>) -> String {
        let home = &self.plan.home.folder;
        let own = self.adapter.folder.as_ref().zip(output);
        let own = own.and_then(|(own, output)| expand_text(&own.value, &|name| self.lookup(name, output)));
        match own {
            None => home.clone(),
            Some(folder) if paths::is_absolute(&folder) => folder,
            Some(folder) => paths::tidy(&format!("{home}/{folder}")),
        }
    }

    /// All passes of the call in one argument.
    fn passes(&self) -> Option<String> {
        if self.series.is_empty() {
            return None;
        }
        let one = |output: &Output<'_>| match &self.adapter.pass_item {
            Some(item) => expand_text(&item.value, &|name| self.lookup(name, output)),
            None => Some(self.adapter.word("pass", &output.pass.name.value).to_owned()),
        };
        let all = self.outputs.iter().map(one).collect::<Option<Vec<_>>>()?;
        Some(all.join(self.adapter.pass_join.as_deref().unwrap_or(","))).filter(|passes| !passes.is_empty())
    }

    /// Where a file is that is written for the program.
    pub(super) fn written_path(&self, name: &str, output: &Output<'_>) -> Option<String> {
        let file = self.adapter.files.get(name)?.file.as_ref()?;
        let name = expand_text(&file.value, &|name| {
            if name.starts_with("write.") { Lookup::NoValue } else { self.lookup(name, output) }
        })?;
        // A value with a separator in it makes no folder.
        let name: String =
            name.chars().map(|sign| if "/\\".contains(sign) || sign.is_control() { '_' } else { sign }).collect();
        let folder = self.stage.as_deref().unwrap_or(&output.folder);
        (!["", ".", ".."].contains(&name.as_str())).then(|| format!("{folder}/{WRITTEN}/{name}"))
    }

    fn own_words(&self, name: &str, found: Lookup) -> Lookup {
        if !self.adapter.words.contains_key(name) {
            return found;
        }
        match &found {
            Lookup::Value(Value::Text(value)) => text(self.adapter.word(name, value)),
            Lookup::Value(Value::Number(number)) => {
                let plain = number.to_string();
                let word = self.adapter.word(name, &plain);
                if word == plain { found } else { text(word) }
            }
            _ => found,
        }
    }

    fn seen<'s>(&'s self, pass: &'s Pass) -> TokenScope<'s> {
        const NONE: &BTreeSet<String> = &BTreeSet::new();
        TokenScope {
            job: self.job,
            pass,
            together: false,
            roots: &[],
            home: &self.plan.home,
            project: self.plan.project.as_ref(),
            looking: false,
            pins: &self.plan.pins,
            pin_mode: self.plan.pin_mode.as_deref(),
            variables: NONE,
        }
    }
}

fn text(value: impl Into<String>) -> Lookup {
    Lookup::Value(Value::Text(value.into()))
}

fn some(value: Option<String>) -> Lookup {
    value.map_or(Lookup::NoValue, text)
}

fn number(value: Option<i64>) -> Lookup {
    value.map_or(Lookup::NoValue, |value| Lookup::Value(Value::Number(value)))
}
