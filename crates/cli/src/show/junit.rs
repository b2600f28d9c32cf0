//! What lies on disk as JUnit XML, which build servers read: a suite, a test case for each series.

use quick_xml::Writer;
use quick_xml::events::BytesText;
use truepath_core::frames::Frames;
use truepath_core::plan::Plan;
use truepath_core::verify::{NOT_GOOD, State, Verdict};

use super::{clean, verdicts};

/// A set of files that is judged as one.
pub struct Case {
    /// Where it belongs: the sheet, or the folder.
    pub class: String,
    /// Its name.
    pub name: String,
    /// In one line what is bad; none where nothing is.
    pub message: Option<String>,
    /// Why files are bad, a line each.
    pub bad: Vec<String>,
    /// What is to be looked at, a line each.
    pub other: Vec<String>,
}

/// Cases as one document.
pub fn text(cases: &[Case]) -> String {
    let failures = cases.iter().filter(|case| case.message.is_some()).count().to_string();
    let tests = cases.len().to_string();
    let mut writer = Writer::new_with_indent(Vec::new(), b' ', 2);
    let counts = [("name", "truepath verify"), ("tests", tests.as_str()), ("failures", failures.as_str())];
    let written = writer.create_element("testsuites").with_attributes(counts).write_inner_content(|writer| {
        writer
            .create_element("testsuite")
            .with_attributes(counts)
            .write_inner_content(|writer| cases.iter().try_for_each(|own| write(writer, own)))?;
        Ok(())
    });
    // Writing to memory cannot fail.
    drop(written);
    let body = String::from_utf8_lossy(&writer.into_inner()).into_owned();
    format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{body}\n")
}

fn write(writer: &mut Writer<Vec<u8>>, case: &Case) -> std::io::Result<()> {
    let (class, name) = (clean(&case.class), clean(&case.name));
    let element = writer.create_element("testcase").with_attributes([("classname", &*class), ("name", &*name)]);
    if case.message.is_none() && case.other.is_empty() {
        element.write_empty()?;
        return Ok(());
    }
    let lines = |lines: &[String]| clean(&lines.join("\n")).into_owned();
    element.write_inner_content(|writer| {
        if let Some(message) = &case.message {
            let element = writer.create_element("failure").with_attribute(("message", &*clean(message)));
            element.with_attribute(("type", "incomplete")).write_text_content(BytesText::new(&lines(&case.bad)))?;
        }
        if !case.other.is_empty() {
            writer.create_element("system-out").write_text_content(BytesText::new(&lines(&case.other)))?;
        }
        Ok(())
    })?;
    Ok(())
}

/// One series or movie of a plan.
pub fn case(plan: &Plan, verdict: &Verdict) -> Case {
    let series = plan.output(verdict.series);
    let (mut bad, mut other) = (Vec::new(), Vec::new());
    let missing = verdict.in_state(State::Missing);
    let missing = (!missing.is_empty()).then_some((State::Missing, "not there", missing));
    let found = verdict.findings.iter().map(|(state, why, frames)| (*state, why.as_str(), frames));
    for (state, why, frames) in missing.into_iter().chain(found) {
        let list = if NOT_GOOD.contains(&state) || state == State::Unreadable { &mut bad } else { &mut other };
        list.push(line(plan, verdict, (state, why, frames)));
    }
    let count = verdict.files(&NOT_GOOD) + verdict.files(&[State::Unreadable]);
    let message = format!("not good: {count} of {}", super::counted(verdict.planned.count(), "file"));
    let message = verdict.is_incomplete().then_some(message);
    Case { class: plan.home.sheet.clone(), name: series.id.clone(), message, bad, other }
}

fn line(plan: &Plan, verdict: &Verdict, (state, why, frames): (State, &str, &Frames)) -> String {
    let series = plan.output(verdict.series);
    let path = match frames.count() {
        1 => series.name(frames.first().unwrap_or(0)),
        _ => series.pattern.typed(),
    };
    let which = if verdict.is_movie { String::new() } else { format!(" {frames}") };
    format!("{}{which}: {why} ({})", state.name(), verdicts::relative(plan, &path))
}
