//! Scripts for PowerShell, read back by the rules of the language: they say what the JSON document says.

use std::collections::BTreeMap;

use crate::support::{Project, SMALL};

/// A value of the language, as far as the scripts have such.
#[derive(Debug, PartialEq)]
enum Value {
    Text(String),
    List(Vec<Value>),
    Table(BTreeMap<String, Value>),
}

/// Reads expressions: literals between single quotes, variables, sums, lists and tables.
struct Reader<'r> {
    rest: &'r str,
    known: &'r BTreeMap<String, String>,
}

impl Reader<'_> {
    fn blank(&mut self) {
        self.rest = self.rest.trim_start();
    }

    fn takes(&mut self, sign: &str) -> bool {
        self.blank();
        let rest = self.rest.strip_prefix(sign);
        self.rest = rest.unwrap_or(self.rest);
        rest.is_some()
    }

    fn literal(&mut self) -> String {
        let quote = |sign: char| sign == '\'' || ('\u{2018}'..='\u{201b}').contains(&sign);
        let mut signs = self.rest.char_indices().skip(1).peekable();
        let mut out = String::new();
        while let Some((at, sign)) = signs.next() {
            if !quote(sign) || signs.next_if(|(_, next)| quote(*next)).is_some() {
                out.push(sign);
            } else {
                self.rest = &self.rest[at + sign.len_utf8()..];
                return out;
            }
        }
        panic!("a literal has no end: {}", self.rest);
    }

    fn name(&mut self) -> String {
        let end = self.rest.find(|sign: char| !sign.is_ascii_alphanumeric() && sign != '_' && sign != '-').unwrap();
        let (name, rest) = self.rest.split_at(end);
        self.rest = rest;
        name.to_owned()
    }

    fn value(&mut self) -> Value {
        self.blank();
        if self.takes("@(") {
            let mut list = Vec::new();
            while !self.takes(")") {
                list.push(self.value());
                self.takes(",");
            }
            return Value::List(list);
        }
        if self.takes("@{") {
            let mut table = BTreeMap::new();
            while !self.takes("}") {
                self.blank();
                let key = if self.rest.starts_with('\'') { self.literal() } else { self.name() };
                assert!(self.takes("="), "{}", &self.rest[..40.min(self.rest.len())]);
                table.insert(key, self.value());
                self.takes(";");
            }
            return Value::Table(table);
        }
        if self.takes("(Get-Part json ") {
            let Value::Text(path) = self.value() else { panic!("only paths have parts") };
            assert!(self.takes(")"), "{}", self.rest);
            return Value::Text(path.replace('\\', "\\\\").replace('"', "\\\""));
        }
        if self.takes("(") {
            let mut sum = String::new();
            loop {
                let Value::Text(part) = self.value() else { panic!("only texts are added") };
                sum.push_str(&part);
                if self.takes(")") {
                    return Value::Text(sum);
                }
                assert!(self.takes("+"), "{}", self.rest);
            }
        }
        if self.takes("$") {
            let name = self.name();
            return Value::Text(self.known.get(&name).cloned().unwrap_or(format!("${name}")));
        }
        match self.rest.chars().next() {
            Some('\'') => Value::Text(self.literal()),
            _ => Value::Text(self.name()),
        }
    }
}

/// Whether all that is opened outside of literals and remarks is closed again.
fn is_balanced(script: &str) {
    let mut open = Vec::new();
    let mut signs = script.chars().peekable();
    while let Some(sign) = signs.next() {
        match sign {
            '#' => drop(signs.by_ref().find(|sign| *sign == '\n')),
            '\'' | '"' => {
                // A doubled quote ends one literal and begins the next, which comes to the same here.
                let mut escaped = false;
                let ends = |next: char| {
                    let is_end = next == sign && !escaped;
                    escaped = sign == '"' && next == '`' && !escaped;
                    is_end
                };
                assert!(signs.by_ref().any(ends), "a literal has no end");
            }
            '(' | '{' | '[' => open.push(sign),
            ')' | '}' | ']' => {
                let partner = open.pop().unwrap();
                assert!(
                    ["()", "{}", "[]"].contains(&format!("{partner}{sign}").as_str()),
                    "{partner} is closed by {sign}"
                );
            }
            _ => {}
        }
    }
    assert!(open.is_empty(), "{open:?}");
}

#[test]
fn a_script_for_powershell_says_what_the_document_says() {
    let sheet = SMALL
        .replace(
            "name = \"crossing\"",
            "name = \"crossing\"\nvars.title = \"it’s 'the' `$(ferry) \\\"10 %\\\" \\\\\"\nenv.SIGN = \"a;b|c'\"",
        )
        .replace("{job}", "{job} ‘{pass}’ & co");
    let project = Project::with(&sheet.replace("\"understudy\"", "\"teller\""));
    // The same program, with a file that is written for it, a folder of its own and by-products.
    let own =
        crate::support::UNDERSTUDY.replace("name = \"understudy\"", "name = \"teller\"\nfolder = \"{scene_folder}\"");
    let own =
        own.replace("writes = [\"{out}\"]", "writes = [\"{out}\"]\nalso = [\"{any}.tmp\"]\nkeep = [\"{any}.log\"]");
    let file = "[write.job]\nfile = \"a'b.json\"\nquote = \"json\"\ntext = QQQ\n{{ \"at\": {out_folder}, \"title\": {var.title} }}\nQQQ\n";
    project.write("adapters/teller.toml", format!("{own}{}", file.replace("QQQ", "'''")));
    let script = project.say("build --to powershell").ended(0).out;
    let document = project.say("build --to json").ended(0).json();
    let (head, calls) = script.split_once("try {\n").unwrap();
    assert!(head.starts_with('\u{feff}'));
    is_balanced(&script);
    let mut known = BTreeMap::new();
    for line in head.lines().take_while(|line| !line.starts_with("$series")) {
        if let Some((name, value)) = line.strip_prefix('$').and_then(|line| line.split_once(" = ")) {
            let Value::Text(text) = (Reader { rest: value, known: &known }).value() else { panic!("{line}") };
            known.insert(name.to_owned(), text);
        }
    }
    let (mut seen, mut written) = (0, 0);
    let text = |value: &Value| if let Value::Text(text) = value { text.clone() } else { panic!("{value:?}") };
    let texts = |value: &Value| {
        if let Value::List(list) = value { list.iter().map(text).collect::<Vec<_>>() } else { panic!("{value:?}") }
    };
    let calls = calls.split("Invoke-Call ").skip(1);
    for (call, wanted) in calls.zip(document["calls"].as_array().unwrap()) {
        let Value::Table(own) = (Reader { rest: call, known: &known }).value() else { panic!("{call}") };
        let strings = |value: &serde_json::Value| {
            value.as_array().unwrap().iter().map(|text| text.as_str().unwrap().to_owned()).collect::<Vec<_>>()
        };
        assert_eq!(texts(&own["Words"]), strings(&wanted["arguments"]));
        assert_eq!(text(&own["Program"]), wanted["program"].as_str().unwrap());
        assert_eq!(text(&own["Id"]), wanted["id"].as_str().unwrap());
        assert_eq!(texts(&own["Stages"]), strings(&wanted["stage"]));
        assert_eq!(text(&own["Folder"]), wanted["folder"].as_str().unwrap());
        assert_eq!((texts(&own["Also"]), texts(&own["Keep"])), (strings(&wanted["also"]), strings(&wanted["keep"])));
        let Value::List(puts) = &own["Puts"] else { panic!() };
        for (put, file) in puts.iter().zip(wanted["files"].as_array().unwrap()) {
            let Value::Table(put) = put else { panic!() };
            assert_eq!(text(&put["Path"]), file["path"].as_str().unwrap());
            assert_eq!(text(&put["Text"]), file["text"].as_str().unwrap());
            written += 1;
        }
        let Value::Table(variables) = &own["Variables"] else { panic!() };
        assert_eq!(variables.len(), wanted["env"].as_object().unwrap().len());
        variables.iter().for_each(|(name, value)| assert_eq!(text(value), wanted["env"][name].as_str().unwrap()));
        let Value::List(files) = &own["Files"] else { panic!() };
        for (file, land) in files.iter().zip(wanted["lands"].as_array().unwrap()) {
            let Value::Table(file) = file else { panic!() };
            assert_eq!(text(&file["Path"]), land["to"].as_str().unwrap());
            assert_eq!(texts(&file["Staged"])[0], land["from"].as_str().unwrap());
        }
        seen += files.len();
    }
    assert_eq!((seen, written), (24, 4));
}
