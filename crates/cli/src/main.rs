//! True Path's command line: effects and drawing. What is decided about sheets, names and frames is decided in the core.
#![warn(missing_docs)]

mod args;
mod command;
mod completing;
mod documents;
mod exit_code;
mod lower;
mod pipeline;
mod show;

use std::panic::AssertUnwindSafe;

use clap::Parser;

use args::{Cli, Command};
use truepath_exec::failure::Failure;

use exit_code::Exit;

fn main() -> std::process::ExitCode {
    if let Some((message, help)) = lower::strange_environment() {
        show::failure(&Failure::unreadable(message).help(help));
        return std::process::ExitCode::from(Exit::Unreadable as u8);
    }
    if completing::answered() {
        return std::process::ExitCode::SUCCESS;
    }
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
            if let Some(failure) = args::setting_as_option(&error, std::env::args()) {
                show::failure(&failure);
                return std::process::ExitCode::from(Exit::Unreadable as u8);
            }
            // Printing fails only where nobody reads.
            let _ = error.print();
            return std::process::ExitCode::from(if error.use_stderr() { 2 } else { 0 });
        }
    };
    // What a panic says is told once, as any other failure.
    std::panic::set_hook(Box::new(|panic| tracing::debug!(place = ?panic.location(), "panic")));
    if let Command::Understudy(call) = cli.command {
        return std::process::ExitCode::from(truepath_understudy::run(call));
    }
    lower::tracing(cli.verbose);
    let done = std::panic::catch_unwind(AssertUnwindSafe(|| run(cli.command)));
    let exit = match done.unwrap_or_else(|panic| Err(Failure::bug(&*panic))) {
        Ok(exit) => exit,
        Err(failure) => {
            show::failure(&failure);
            failure.cause.into()
        }
    };
    std::process::ExitCode::from(exit as u8)
}

fn run(command: Command) -> Result<Exit, Failure> {
    let around = lower::surroundings().map_err(|error| Failure::machine("read", "the current folder", &error))?;
    match command {
        Command::Demo(args) => command::demo::run(&args, &around),
        Command::New(args) => command::new::run(&args, &around),
        Command::Names(args) => command::names::run(&args, &around),
        Command::Check(args) => command::check::run(&args, &around),
        Command::Scene(args) => command::scene::run(&args, &around),
        Command::Whose(args) => command::whose::run(&args, &around),
        Command::Schema(args) => command::schema::run(&args),
        Command::Explain(args) => command::explain::run(&args, around.out),
        Command::Types(args) => command::types::run(&args, &around),
        Command::Adapter(args) => command::adapter::run(&args, &around),
        Command::Build(args) => command::build::run(&args, &around),
        Command::Run(args) => command::run::run(&args, &around),
        Command::Estimate(args) => command::estimate::run(&args, &around),
        Command::ShareTest(args) => command::share_test::run(&args, &around),
        Command::Parcel(args) => command::parcel::run(&args, &around),
        Command::Verify(args) => command::verify::run(&args, &around),
        Command::Status(args) => command::status::run(&args, &around),
        Command::Log(args) => command::log::run(&args, &around),
        Command::Contact(args) => command::contact::run(&args, &around),
        Command::Compare(args) => command::compare::run(&args, &around),
        Command::Report(args) => command::report::run(&args, &around),
        Command::Clean(args) => command::clean::run(&args, &around),
        Command::Trust(args) => command::trust::run(&args, &around),
        Command::Movie(args) => command::movie::run(&args, &around),
        Command::Stack(args) => command::stack::run(&args, &around),
        Command::Encode(args) => command::encode::run(&args, &around),
        Command::Completions(args) => command::manual::completions(&args, &around),
        Command::Man(args) => command::manual::man(&args, &around),
        Command::LookAt { file } => {
            let looked = truepath_media::inspect_any(&file);
            looked.map(|_| Exit::Well).map_err(|error| Failure::machine("read", &file, &error))
        }
        Command::GuardRenderers => {
            #[cfg(unix)]
            truepath_exec::process::guard::watch(std::io::stdin().lock());
            Ok(Exit::Well)
        }
        Command::Understudy(call) => Ok(if truepath_understudy::run(call) == 0 { Exit::Well } else { Exit::No }),
    }
}
