//! `completions` and `man`: what a shell and a reader of manual pages take from the command line itself.

use std::path::Path;

use truepath_exec::failure::Failure;
use truepath_exec::guard::{Delivery, Kind};

use super::deliver::{self, Beside};
use crate::args::{Common, CompletionsArgs, ManArgs, Shell};
use crate::completing;
use crate::exit_code::Exit;
use crate::lower::{Around, COMPLETE};
use crate::show;

/// What a manual page says near its head.
const MARK: &str = ".TH truepath";

/// Prints what a shell has to read at its start.
pub fn completions(args: &CompletionsArgs, around: &Around) -> Result<Exit, Failure> {
    use clap_complete::env::{Bash, EnvCompleter, Fish, Powershell, Zsh};
    let shell: &dyn EnvCompleter = match args.shell {
        Shell::Bash => &Bash,
        Shell::Zsh => &Zsh,
        Shell::Fish => &Fish,
        Shell::Powershell => &Powershell,
    };
    let mut script = Vec::new();
    let program = around.program.to_string_lossy();
    // Writing to memory does not fail.
    let written = shell.write_registration(COMPLETE, "truepath", "truepath", &program, &mut script);
    written.map_err(|error| Failure::machine("write", "the script", &error))?;
    show::print_exact(&String::from_utf8_lossy(&script))?;
    Ok(Exit::Well)
}

/// Writes a manual page for each command.
pub fn man(args: &ManArgs, around: &Around) -> Result<Exit, Failure> {
    let folder = &args.folder;
    std::fs::create_dir_all(folder).map_err(|error| Failure::machine("make the folder", folder, &error))?;
    let mut command = completing::command().disable_help_subcommand(true);
    command.build();
    let common = Common::default();
    let first = folder.join("truepath.1");
    let deliveries = Beside { common: &common, queue: None, around }.deliveries([first.as_path()], |_| {});
    let how = (Kind::Text, deliver::over(args.replace, MARK));
    let count = pages(&command, folder, &|page| deliveries.open(page, how))?;
    show::print(&format!(
        "{}: {}. Read one: man {}/truepath.1\n",
        folder.display(),
        show::counted(count, "page"),
        folder.display()
    ))?;
    Ok(Exit::Well)
}

/// The pages of a command and of all below it; how many there are.
fn pages(
    command: &clap::Command,
    folder: &Path,
    open: &dyn Fn(&Path) -> Result<Delivery, Failure>,
) -> Result<i64, Failure> {
    let mut count = 1;
    let page = clap_mangen::Man::new(command.clone());
    let mut text = Vec::new();
    page.render(&mut text).map_err(|error| Failure::machine("write", folder, &error))?;
    open(&folder.join(page.get_filename()))?.write(&text)?;
    for below in command.get_subcommands().filter(|below| !below.is_hide_set()) {
        count += pages(below, folder, open)?;
    }
    Ok(count)
}
