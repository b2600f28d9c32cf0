//! What lies on disk as JUnit XML, which build servers read: a suite, a test case for each series.

use quick_xml::Writer;
use quick_xml::events::BytesText;
use truepath_core::frames::Frames;
use truepath_core::plan::Plan;
use truepath_core::verify::{LACKING, State, Verdict};

use super::{clean, verdicts};

/// All verdicts as one document.
pub fn text<'v>(judged: impl Iterator<Item = (&'v Plan, &'v Vec<Verdict>)> + Clone) -> String {
    let all = || judged.clone().flat_map(|(plan, verdicts)| verdicts.iter().map(move |verdict| (plan, verdict)));
    let failures = all().filter(|(_, verdict)| verdict.is_lacking()).count().to_string();
    let tests = all().count().to_string();
    let mut writer = Writer::new_with_indent(Vec::new(), b' ', 2);
    let counts = [("name", "truepath verify"), ("tests", tests.as_str()), ("failures", failures.as_str())];
    let written = writer.create_element("testsuites").with_attributes(counts).write_inner_content(|writer| {
        writer
            .create_element("testsuite")
            .with_attributes(counts)
            .write_inner_content(|writer| all().try_for_each(|(plan, verdict)| case(writer, plan, verdict)))?;
        Ok(())
    });
    // Writing to memory cannot fail.
    drop(written);
    let body = String::from_utf8_lossy(&writer.into_inner()).into_owned();
    format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{body}\n")
}

/// One series: a failure with every reason for which a file is lacking, and below it what is to be looked at.
fn case(writer: &mut Writer<Vec<u8>>, plan: &Plan, verdict: &Verdict) -> std::io::Result<()> {
    let series = plan.output(verdict.series);
    let (mut lacking, mut other) = (Vec::new(), Vec::new());
    let missing = verdict.in_state(State::Missing);
    let missing = (!missing.is_empty()).then_some((State::Missing, "not there", missing));
    let found = verdict.findings.iter().map(|(state, why, frames)| (*state, why.as_str(), frames));
    for (state, why, frames) in missing.into_iter().chain(found) {
        let list = if LACKING.contains(&state) || state == State::Unreadable { &mut lacking } else { &mut other };
        list.push(line(plan, verdict, (state, why, frames)));
    }
    let id = clean(&series.id).into_owned();
    let class = clean(&plan.home.sheet).into_owned();
    let element = writer.create_element("testcase").with_attributes([("classname", &*class), ("name", &*id)]);
    if lacking.is_empty() && other.is_empty() {
        element.write_empty()?;
        return Ok(());
    }
    element.write_inner_content(|writer| {
        if !lacking.is_empty() {
            let count = verdict.files(&LACKING) + verdict.files(&[State::Unreadable]);
            let message = format!("{count} of {} files are not good", verdict.expected.count());
            let element = writer.create_element("failure").with_attribute(("message", &*message));
            element.with_attribute(("type", "incomplete")).write_text_content(BytesText::new(&lacking.join("\n")))?;
        }
        if !other.is_empty() {
            writer.create_element("system-out").write_text_content(BytesText::new(&other.join("\n")))?;
        }
        Ok(())
    })?;
    Ok(())
}

fn line(plan: &Plan, verdict: &Verdict, (state, why, frames): (State, &str, &Frames)) -> String {
    let series = plan.output(verdict.series);
    let path = match frames.count() {
        1 => series.name(frames.first().unwrap_or(0)),
        _ => series.pattern.spelt(),
    };
    let which = if verdict.is_movie { String::new() } else { format!(" {frames}") };
    clean(&format!("{}{which}: {why} ({})", state.name(), verdicts::relative(plan, &path))).into_owned()
}
