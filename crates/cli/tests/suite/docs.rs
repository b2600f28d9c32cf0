//! Every sheet in the documentation, the demo and the examples is sound, and fits the schema that editors use.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use crate::support::Project;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The TOML blocks of a page.
fn blocks(page: &str) -> Vec<String> {
    let starts = page.match_indices("```toml");
    starts.map(|(at, _)| page[at..].split_once('\n').unwrap().1.split("```").next().unwrap().to_owned()).collect()
}

fn pages() -> Vec<(String, String)> {
    let mut pages = Vec::new();
    for name in ["README.md", "docs/guide.md"] {
        let text = std::fs::read_to_string(root().join(name)).unwrap();
        pages.extend(
            blocks(&text).into_iter().enumerate().map(|(at, block)| (format!("{name}, sheet {}", at + 1), block)),
        );
    }
    for name in ["docs/examples/night-ferry.toml", "crates/cli/src/command/demo/truepath.toml"] {
        pages.push((name.to_owned(), std::fs::read_to_string(root().join(name)).unwrap()));
    }
    pages
}

#[test]
fn every_documented_sheet_is_sound() {
    let pages = pages();
    assert!(pages.len() >= 12, "{}", pages.len());
    for (name, sheet) in pages {
        let project = Project::with(&sheet);
        project.write("studio.toml", std::fs::read(root().join("docs/examples/studio.toml")).unwrap());
        let said = project.say("check --offline --strict");
        assert!(said.out.starts_with("\u{2713} truepath.toml: no problems found"), "{name}: {}", said.out);
        project.say("names").ended(0);
        // What the guide shows runs as it stands.
        if name.contains("guide") {
            project.say("run --frames first --scale 10 --final").ended(0);
        }
    }
}

#[test]
fn every_sheet_of_the_repository_fits_the_schema_and_mistakes_do_not() {
    let project = Project::with("");
    let schema = project.say("schema").ended(0).json();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let json = |text: &str| serde_json::to_value(text.parse::<toml::Table>().unwrap()).unwrap();
    let mut sheets = pages();
    sheets.push(("studio.toml".into(), std::fs::read_to_string(root().join("docs/examples/studio.toml")).unwrap()));
    for entry in std::fs::read_dir(root().join("docs/checks")).unwrap() {
        let path = entry.unwrap().path();
        let page = std::fs::read_to_string(&path).unwrap();
        // Checks of rendered files have no sheet of their own.
        let Some(clean) = page.split("```toml passes").nth(1) else { continue };
        let clean = clean.split_once('\n').unwrap().1.split("```").next().unwrap().to_owned();
        sheets.push((path.display().to_string(), clean));
    }
    for (name, sheet) in sheets {
        let wrong: Vec<String> =
            validator.iter_errors(&json(&sheet)).map(|error| format!("{}: {error}", error.instance_path)).collect();
        assert!(wrong.is_empty(), "{name}: {wrong:?}");
    }
    for wrong in [
        "sampels = 3",
        "[defaults]\nlayers = \"some\"",
        "[formats.x]\ntype = \"gif\"",
        "[[job]]\nframes = true",
        "[run]\nsilence = \"long\"",
    ] {
        assert!(!validator.is_valid(&json(wrong)), "{wrong}");
    }
}

#[test]
fn adapters_and_machine_files_have_schemas_too() {
    let project = Project::with("");
    let json = |text: &str| serde_json::to_value(text.parse::<toml::Table>().unwrap()).unwrap();
    let validator =
        |of: &str| jsonschema::validator_for(&project.say(&format!("schema {of}")).ended(0).json()).unwrap();
    let (adapter, machine) = (validator("adapter"), validator("machine"));
    let built_in = json(truepath_core::adapter::BUILT_IN[0].1);
    assert_eq!(adapter.iter_errors(&built_in).map(|error| error.to_string()).collect::<Vec<_>>(), Vec::<String>::new());
    assert!(!adapter.is_valid(&json("programm = \"x\"")) && !machine.is_valid(&json("worker = 2")));
    assert!(machine.is_valid(&json("workers = 2\n[programs]\nclosed = \"/opt/closed\"\n[roots]\nrenders = \"/fast\"")));
}

/// Names of commands in a help text.
fn commands(help: &str) -> BTreeSet<String> {
    let list = help.split_once("\nCommands:\n").map_or("", |(_, rest)| rest.split("\n\n").next().unwrap());
    let names = list.lines().filter(|line| line.starts_with("  ") && !line.starts_with("   "));
    names.map(|line| line.split_whitespace().next().unwrap().to_owned()).filter(|name| name != "help").collect()
}

#[test]
fn the_readme_lists_every_command_with_options_that_it_has() {
    let project = Project::with("");
    let readme = std::fs::read_to_string(root().join("README.md")).unwrap();
    let table = readme.split_once("| command | what it does |").unwrap().1.split_once("\n\n").unwrap().0;
    let mut listed = BTreeSet::new();
    for row in table.lines().filter(|line| line.starts_with("| `")) {
        let name = row[3..].split([' ', '`']).next().unwrap();
        listed.insert(name.to_owned());
        let mut help = project.say(&format!("{name} --help")).ended(0).out;
        for part in commands(&help) {
            help += &project.say(&format!("{name} {part} --help")).ended(0).out;
        }
        for option in row.split("--").skip(1) {
            let option = option.split(|letter: char| !letter.is_ascii_lowercase() && letter != '-').next().unwrap();
            assert!(option.is_empty() || help.contains(&format!("--{option}")), "{name} has no --{option}");
        }
    }
    assert_eq!(listed, commands(&project.say("--help").ended(0).out));
}

#[test]
fn a_new_sheet_over_the_studios_own_is_sound() {
    let project = Project::with("");
    std::fs::remove_file(project.path("truepath.toml")).unwrap();
    project.write("studio.toml", "[roots]\nout = \"/mnt/out\"\n[defaults]\nfps = 25\n");
    project.say("new --from studio.toml").ended(0);
    let clean = project.say("check --strict --offline").ended(0);
    assert_eq!(clean.out, "\u{2713} truepath.toml: no problems found\n");
    let series = project.say("names --json").json()["series"][0].clone();
    assert_eq!((&series["fps"], series["pattern"].as_str().unwrap().starts_with("/mnt/out/")), (&"25".into(), true));
    project.write("bad.toml", "[defaults]\nfps = \"many\"\n");
    project.say("new elsewhere --from bad.toml").ended(2);
}

/// The other tables of a sheet, from its schema: each with its keys.
fn tables_of(schema: &serde_json::Value) -> String {
    let mut out = String::new();
    for (title, pointer) in [
        ("[project]", "/properties/project"),
        ("[formats.NAME]", "/properties/formats/additionalProperties"),
        ("[[movie]]", "/properties/movie/items"),
        ("[policy]", "/properties/policy"),
        ("[[allow]]", "/properties/allow/items"),
        ("[run]", "/properties/run"),
        ("[run.cluster]", "/properties/run/properties/cluster"),
    ] {
        let table = schema.pointer(pointer).unwrap_or_else(|| panic!("{title} is not in the schema"));
        let keys = table["properties"].as_object().unwrap_or_else(|| panic!("{title} has no keys"));
        out.push_str(&format!("\n## Keys of `{title}`\n\n| key | meaning |\n|---|---|\n"));
        for (key, entry) in keys {
            out.push_str(&format!("| `{key}` | {} |\n", entry["description"].as_str().unwrap_or_default()));
        }
    }
    out
}

#[test]
fn the_page_of_settings_is_the_table_that_the_program_uses() {
    use truepath_core::sheet::setting::{Above, Carrier, Changes, KEYS, tables};
    let row = |row: truepath_core::sheet::setting::SettingRow| {
        let changes = match row.changes {
            Changes::Picture => "the picture",
            Changes::Movie => "the movie",
            Changes::Name => "only names",
            Changes::Neither => "neither picture nor name",
        };
        let carrier = match row.carrier {
            Carrier::Own => "True Path itself".to_owned(),
            Carrier::Tokens(tokens) => {
                tokens.iter().map(|token| format!("`{{{token}}}`")).collect::<Vec<_>>().join(" ")
            }
            Carrier::Parts => "each part of it".to_owned(),
            Carrier::Variables => "`variable` of the adapter".to_owned(),
            Carrier::Natives => "`native` of the adapter".to_owned(),
            Carrier::Movies => "the movies of the job".to_owned(),
        };
        let above = if row.above == Above::Narrows { "narrow it" } else { "replace it" };
        format!("| `{}` | {} | {changes} | {carrier} | {above} |\n", row.name, row.meaning)
    };
    let mut page = "# All settings and tokens\n\nThis page is written from the tables that True Path itself uses.\n\n## Settings of a job\n\n\
        They can be given in `[defaults]`, in a base, in a job, in a mode, and on the command line with `--set`.\n\n\
        | setting | meaning | changes | carried by | modes and the command line |\n|---|---|---|---|---|\n"
        .to_owned();
    KEYS.iter().for_each(|(_, key)| page.push_str(&row(key.row())));
    tables().into_iter().for_each(|table| page.push_str(&row(table)));
    page.push_str(
        "\n`vars`, `env` and `native` are tables: they merge entry by entry, and everything else is replaced.\n",
    );
    let schema = Project::with("").say("schema").ended(0).json();
    page.push_str(&tables_of(&schema));
    page.push_str("\n## Tokens of paths\n\nRoots and variables are tokens as well: `{renders}`, `{shot}`.\n\n| token | value |\n|---|---|\n");
    for token in truepath_core::template::token::PathToken::ALL {
        page.push_str(&format!("| `{{{}}}` | {} |\n", token.name(), token.what()));
    }
    let path = root().join("docs/settings.md");
    if std::env::var("TRUEPATH_BLESS").is_ok() {
        std::fs::write(&path, &page).unwrap();
    }
    assert_eq!(
        std::fs::read_to_string(&path).unwrap(),
        page,
        "TRUEPATH_BLESS=1 cargo test --test suite docs:: writes it anew"
    );
}
