//! Findings as SARIF 2.1.0 (OASIS Static Analysis Results Interchange Format), for code hosts and editors.

use std::path::Path;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Value, json};
use truepath_core::diagnostic::{Check, Finding, Level};
use truepath_core::source::{Place, Sources};

/// Everything but what RFC 3986, 2.3 leaves as it is, and the separator.
const KEPT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~').remove(b'/');

/// The document. `sheet` stands in for findings that have no place of their own.
pub fn document<'p>(
    parts: impl Iterator<Item = (&'p [Finding], &'p Sources)>,
    (sheet, folder): (&str, &Path),
) -> Value {
    let (mut rules, mut results): (Vec<&Check>, Vec<Value>) = (Vec::new(), Vec::new());
    for (findings, sources) in parts {
        for check in findings.iter().map(|finding| finding.check.check()) {
            if !rules.iter().any(|rule| rule.name == check.name) {
                rules.push(check);
            }
        }
        results.extend(findings.iter().map(|finding| result(finding, &rules, (sources, sheet, folder))));
    }
    json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "True Path",
                "semanticVersion": env!("CARGO_PKG_VERSION"),
                "rules": rules.iter().map(|check| rule(check)).collect::<Vec<_>>(),
            } },
            "columnKind": "unicodeCodePoints",
            "results": results,
        }],
    })
}

fn rule(check: &Check) -> Value {
    json!({
        "id": check.name,
        "shortDescription": { "text": check.summary },
        "help": { "text": check.page, "markdown": check.page },
        "defaultConfiguration": { "level": level(check.level) },
        "properties": { "asksMachine": check.asks_machine },
    })
}

fn level(level: Level) -> &'static str {
    level.name()
}

fn result(finding: &Finding, rules: &[&Check], (sources, sheet, folder): (&Sources, &str, &Path)) -> Value {
    let place = |at: Place| {
        let name = &sources.get(at.file).name;
        json!({ "artifactLocation": { "uri": uri(name, folder) }, "region": region(sources, at) })
    };
    let mut text = finding.message.clone();
    if let Some(label) = finding.at.as_ref().map(|at| at.value.as_str()).filter(|label| !label.is_empty()) {
        text.push_str(&format!(": {label}"));
    }
    if finding.more > 0 {
        text.push_str(&format!(" (and {} more)", finding.more));
    }
    if let Some(help) = &finding.help {
        text.push_str(&format!(". {help}"));
    }
    let own = finding
        .at
        .as_ref()
        .map_or_else(|| json!({ "artifactLocation": { "uri": uri(sheet, folder) } }), |at| place(at.at));
    let mut result = json!({
        "ruleId": finding.check.name(),
        "level": level(finding.level),
        "message": { "text": text },
        "locations": [{ "physicalLocation": own }],
    });
    if let Some(index) = rules.iter().position(|rule| rule.name == finding.check.name()) {
        result["ruleIndex"] = json!(index);
    }
    if !finding.also.is_empty() {
        let related = finding.also.iter().enumerate().map(
            |(id, also)| json!({ "id": id, "message": { "text": also.value }, "physicalLocation": place(also.at) }),
        );
        result["relatedLocations"] = related.collect();
    }
    if let Some(fix) = &finding.fix {
        let change = json!({
            "artifactLocation": { "uri": uri(&sources.get(fix.at.file).name, folder) },
            "replacements": [{ "deletedRegion": region(sources, fix.at), "insertedContent": { "text": fix.write } }],
        });
        let what = finding.help.as_deref().unwrap_or("apply the fix");
        result["fixes"] = json!([{ "description": { "text": what }, "artifactChanges": [change] }]);
    }
    if let Some(because) = &finding.allowed {
        result["suppressions"] = json!([{ "kind": "inSource", "justification": because }]);
    }
    result
}

fn region(sources: &Sources, at: Place) -> Value {
    let (start, end) = sources.lines(at);
    json!({ "startLine": start.line, "startColumn": start.column, "endLine": end.line, "endColumn": end.column })
}

/// A file below the current folder by its relative path, so that a code host finds it; any other by its full one.
fn uri(name: &str, folder: &Path) -> String {
    let path = Path::new(name);
    let encoded = |text: &str| utf8_percent_encode(text, KEPT).to_string();
    if path.is_absolute() {
        return format!("file://{}", encoded(name));
    }
    // What was typed is a text of its own and no file.
    if folder.join(path).exists() { encoded(name) } else { format!("typed:{}", encoded(name)) }
}
