//! Steps in parts that take about equally long.

use std::ops::Range;

use truepath_core::invoke::command_line::CommandLine;
use truepath_core::invoke::script;
use truepath_core::plan::Plan;
use truepath_core::run::cost::Costs;
use truepath_core::run::split::split;
use truepath_core::template::slug;

/// The steps that render, cut into parts of neighbours; exports stand before them and movies behind them.
pub(super) fn cut(plan: &Plan, steps: &[CommandLine], costs: &Costs, parts: usize) -> Vec<Range<usize>> {
    let (exports, movies) = script::around(steps);
    let rendering = &steps[exports..steps.len() - movies];
    let weights: Vec<f64> = rendering.iter().map(|step| weight(plan, step, costs)).collect();
    split(&weights, parts).into_iter().map(|part| part.start + exports..part.end + exports).collect()
}

/// Seconds of a step where anything was measured, else how many files it makes.
pub(super) fn weight(plan: &Plan, step: &CommandLine, costs: &Costs) -> f64 {
    let outputs: Vec<usize> = step.writes.iter().map(|write| write.series).collect();
    costs.weight(plan, &outputs, &step.frames)
}

/// Steps in parts that take about equally long, each with its name: job and range. Steps that others need come with every part
/// that needs them.
#[must_use]
pub fn named(plan: &Plan, steps: &[CommandLine], costs: &Costs, parts: usize) -> Vec<(String, Vec<CommandLine>)> {
    let (exports, movies) = script::around(steps);
    let part = |(at, range): (usize, Range<usize>)| {
        let part = &steps[range];
        let needed = steps[..exports].iter().filter(|export| part.iter().any(|step| step.needs.contains(&export.id)));
        (part_name(at + 1, part), needed.chain(part).cloned().collect())
    };
    let mut named: Vec<(String, Vec<CommandLine>)> =
        cut(plan, steps, costs, parts).into_iter().enumerate().map(part).collect();
    // Movies need all of their frames, from whichever part: they are the last one, to be started when the others are over.
    if movies > 0 {
        named.push((format!("{:02}_movies", named.len() + 1), steps[steps.len() - movies..].to_vec()));
    }
    named
}

fn part_name(number: usize, part: &[CommandLine]) -> String {
    let (Some(first), Some(last)) = (part.first(), part.last()) else { return String::new() };
    let (from, to) = (first.frames.first().unwrap_or(0), last.frames.last().unwrap_or(0));
    if first.job == last.job {
        let most = part.iter().filter_map(|step| step.frames.last()).max().unwrap_or(to);
        let least = part.iter().filter_map(|step| step.frames.first()).min().unwrap_or(from);
        format!("{number:02}_{}_{least}-{most}", slug(&first.job))
    } else {
        format!("{number:02}_{}_{from}-{}_{to}", slug(&first.job), slug(&last.job))
    }
}
