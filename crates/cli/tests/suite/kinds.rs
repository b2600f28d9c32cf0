//! Every key of every table with a value of every kind: what the schema does not allow, the reader finds.

use serde_json::Value;
use truepath_core::adapter;
use truepath_core::diagnostic::Findings;
use truepath_core::sheet::{machine, parse, schema};
use truepath_core::source::FileId;

/// A value of each kind that TOML has, some of them empty or nested.
const VALUES: [&str; 19] = [
    "\"x\"",
    "\"\"",
    "7",
    "-7",
    "99999999999999999",
    "1.5",
    "-0.5",
    "true",
    "1979-05-27T07:32:00Z",
    "[]",
    "[[]]",
    "[\"x\"]",
    "[\"\"]",
    "[7]",
    "[true]",
    "[[\"stop\"]]",
    "{}",
    "{ x = 1 }",
    "[{}]",
];

/// Every key of a schema with what stands before `key = value` in a text, and the schema of its value.
fn keys(schema: &Value, head: &str, all: &mut Vec<(String, String, Value)>) {
    let table = |name: &str| if head.is_empty() { name.to_owned() } else { format!("{head}.{name}") };
    for (name, own) in schema["properties"].as_object().into_iter().flatten() {
        all.push((head.to_owned(), name.clone(), own.clone()));
        keys(own, &table(name), all);
        let more = &own["additionalProperties"];
        if more.is_object() {
            all.push((table(name), "x".to_owned(), more.clone()));
            keys(more, &format!("{}.x", table(name)), all);
            for one in more["anyOf"].as_array().into_iter().flatten() {
                keys(one, &format!("{}.x", table(name)), all);
            }
        }
        let items = &own["items"];
        if items["properties"].is_object() {
            keys(items, &format!("[{}]", table(name)), all);
        }
    }
}

/// Checks that what the schema forbids is found by `read`. Returns how many values were tried and how many forbidden.
fn all_found(what: &str, schema: &Value, read: impl Fn(&str) -> Findings) -> (usize, usize) {
    let mut all = Vec::new();
    keys(schema, "", &mut all);
    let (mut tried, mut forbidden, mut silent) = (0, 0, Vec::new());
    for (head, key, own) in &all {
        let validator = jsonschema::validator_for(own).unwrap();
        for value in VALUES {
            let text =
                if head.is_empty() { format!("{key} = {value}\n") } else { format!("[{head}]\n{key} = {value}\n") };
            let parsed: toml::Table = toml::from_str(&format!("v = {value}")).unwrap();
            let is_date = matches!(parsed["v"], toml::Value::Datetime(_));
            tried += 1;
            if !is_date && validator.is_valid(&serde_json::to_value(&parsed["v"]).unwrap()) {
                continue;
            }
            forbidden += 1;
            // What an entry lacks beside this key is not what is asked here; of an empty entry it is.
            let empty = value.contains("{}");
            if !read(&text).iter().any(|finding| empty || finding.check != "key-missing") {
                silent.push(text);
            }
        }
    }
    assert!(silent.is_empty(), "{what} passes in silence:\n{}", silent.join("\n"));
    (tried, forbidden)
}

#[test]
fn a_value_of_the_wrong_kind_is_found_wherever_it_stands() {
    let sheet = all_found("a sheet", &schema::sheet(), |text| {
        let mut findings = Findings::default();
        parse::sheet(FileId(0), text, &mut findings);
        findings
    });
    let adapter = all_found("an adapter", &adapter::schema::adapter(), |text| {
        let mut findings = Findings::default();
        adapter::adapter(FileId(0), text, &mut findings);
        findings
    });
    let machine = all_found("a machine file", &schema::machine(), |text| {
        let mut findings = Findings::default();
        machine::machine(FileId(0), text, &mut findings);
        findings
    });
    // If the walk through the schema went blind, this would tell.
    assert!(sheet.0 > 3000 && sheet.1 > 2000 && adapter.1 > 500 && machine.1 > 60, "{sheet:?} {adapter:?} {machine:?}");
}
