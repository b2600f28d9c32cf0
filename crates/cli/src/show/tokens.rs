//! Every token with its value, per series.

use truepath_core::plan::Series;
use truepath_core::template::{Lookup, Value};

use super::{HEAD, QUIET, paint};
use crate::lower::Screen;
use truepath_project::Loaded;

/// The tokens of every series that was asked for.
pub fn text(loaded: &Loaded, screen: Screen) -> String {
    let plan = &loaded.plan;
    plan.series.iter().chain(&plan.movies).map(|series| table(loaded, series, screen)).collect()
}

fn table(loaded: &Loaded, series: &Series, screen: Screen) -> String {
    let mut out = format!("{}\n", paint(screen, HEAD, &series.id));
    let values = loaded.tokens(series);
    let widest = values.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
    for (name, value) in values {
        let value = match value {
            Lookup::Value(Value::Text(text) | Value::Folder(text)) => text,
            Lookup::Value(Value::Number(number)) => number.to_string(),
            Lookup::Value(Value::Version(version)) => format!("v{version:03}"),
            Lookup::Value(Value::Clock(clock, form)) => clock.written(form),
            Lookup::Value(Value::Frame) => "the frame".to_owned(),
            Lookup::Value(Value::AnyVersion) => "any version".to_owned(),
            Lookup::NoValue | Lookup::Unknown => paint(screen, QUIET, "no value"),
        };
        out.push_str(&format!("  {:widest$}  {value}\n", name));
    }
    out.push('\n');
    out
}
