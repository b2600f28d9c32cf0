//! Which tokens of an adapter are filled once for each pass of a call, and which once for the whole call.

use std::collections::BTreeSet;

use crate::sheet::FileOption;
use crate::source::Spanned;
use crate::template::Template;

use super::{Adapter, Argument, FileLine, RepeatOver, Word};

/// The tokens of an adapter by how often they are filled.
#[derive(Clone, Debug, Default)]
pub struct Reach {
    /// Once for each pass.
    pub of_pass: BTreeSet<String>,
    /// Once for the whole call.
    pub of_call: BTreeSet<String>,
}

impl Reach {
    /// The tokens of an adapter.
    #[must_use]
    pub fn of(adapter: &Adapter) -> Reach {
        let mut reach = Reach::default();
        for argument in &adapter.arguments {
            let room = if argument.is_of_pass() { &mut reach.of_pass } else { &mut reach.of_call };
            argument.templates().into_iter().for_each(|template| take(adapter, template, room));
        }
        for (line, over) in adapter.files.values().flat_map(|file| &file.lines).flat_map(FileLine::templates) {
            take(adapter, line, if over == Some(RepeatOver::Pass) { &mut reach.of_pass } else { &mut reach.of_call });
        }
        let own = adapter.natives.values().flat_map(|native| &native.arguments);
        let names = adapter.files.values().filter_map(|file| file.file.as_ref());
        let env = adapter.env.iter().map(|(_, template)| template);
        for template in
            adapter.variable.iter().chain(&adapter.native).chain(own).chain(names).chain(env).chain(&adapter.folder)
        {
            take(adapter, template, &mut reach.of_call);
        }
        if let Some(item) = adapter.pass_item.as_ref().filter(|_| reach.of_call.contains("passes")) {
            take(adapter, item, &mut reach.of_pass);
        }
        reach
    }

    /// Whether a file option may differ from one pass of a call to the next: all that brings it to the program is filled for
    /// each pass.
    #[must_use]
    pub fn may_differ(&self, adapter: &Adapter, option: FileOption) -> bool {
        let tokens = option.row().tokens;
        // A program that does one thing only is told nothing.
        self.is_of_each_pass(tokens)
            || adapter.does_only(option) && !tokens.iter().any(|token| self.of_call.contains(*token))
    }

    /// Whether some of these tokens are filled for each pass, and none for the whole call.
    #[must_use]
    pub fn is_of_each_pass(&self, tokens: &[&str]) -> bool {
        let is_in = |room: &BTreeSet<String>| tokens.iter().any(|token| room.contains(*token));
        is_in(&self.of_pass) && !is_in(&self.of_call)
    }

    /// Whether one call can be asked for several passes: none of them is named for the whole call.
    #[must_use]
    pub fn names_each_pass(&self) -> bool {
        !self.of_call.contains("pass") && !self.of_call.contains("word")
    }

    /// Whether each pass is given its own file, so that one pass may be written twice.
    #[must_use]
    pub fn names_each_file(&self) -> bool {
        self.of_pass.contains("out") || self.of_pass.contains("out_stem")
    }
}

/// Whether an adapter is of no use without a value for a token: it stands by itself, in a list that names a pass, or in a
/// line that is always there.
#[must_use]
pub fn needs(adapter: &Adapter, token: &str) -> bool {
    let has = |argument: &Argument| matches!(argument, Argument::Always(template) if template.value.has(token));
    let argument = |argument: &Argument| match argument {
        Argument::Always(_) => has(argument),
        Argument::Group(list) => argument.is_of_pass() && list.iter().any(has),
    };
    adapter.arguments.iter().any(argument)
        || adapter.pass_item.as_ref().is_some_and(|item| item.value.has(token))
        || adapter.files.values().flat_map(|file| &file.lines).any(|line| line.needs(token))
}

/// The tokens of a template, of the conditions it asks for, and of the lists that stand for it.
fn take(adapter: &Adapter, template: &Spanned<Template>, room: &mut BTreeSet<String>) {
    for name in template.value.tokens().flat_map(|token| token.names()) {
        if !room.insert(name.to_owned()) {
            continue;
        }
        if let Some(condition) = name.strip_prefix("when.").and_then(|own| adapter.conditions.get(own)) {
            room.extend(condition.tokens().map(str::to_owned));
        }
        for word in adapter.words.get(name).into_iter().flat_map(|words| words.values()) {
            let Word::Arguments(list) = word else { continue };
            list.iter().flat_map(Argument::templates).for_each(|template| take(adapter, template, room));
        }
    }
}
